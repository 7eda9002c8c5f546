//! Lanes of the queue: what waits in one keeps nothing waiting in another.

nomenta_core::spelled! {
    /// A lane of the queue; the one that goes first before the others.
    pub enum Lane: "lane" {
        /// New domains, those that are about to move, and looks that somebody waits for.
        First = "first",
        /// What comes by itself.
        Usual = "usual",
        /// Bulk work.
        Bulk = "bulk",
        /// Zones that did not answer last time: a look at one takes as long as looks may take.
        Silent = "silent",
    }
}

impl Lane {
    /// The number that it is kept as.
    pub(crate) fn number(self) -> i16 {
        match self {
            Self::First => 0,
            Self::Usual => 1,
            Self::Bulk => 2,
            Self::Silent => 3,
        }
    }

    pub(crate) fn of(number: i16) -> Self {
        Self::ALL.iter().copied().find(|lane| lane.number() == number).unwrap_or(Self::Usual)
    }
}

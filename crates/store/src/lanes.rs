//! Lanes of the queue: what waits in one keeps nothing waiting in another.

/// A lane of the queue.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Lane {
    /// New domains, and looks that somebody waits for.
    First,
    /// What comes by itself.
    Usual,
    /// Bulk work.
    Bulk,
    /// Zones that did not answer last time: a look at one takes as long as looks may take.
    Silent,
}

impl Lane {
    /// Every one, the one that goes first before the others.
    pub const ALL: [Self; 4] = [Self::First, Self::Usual, Self::Bulk, Self::Silent];

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
        Self::ALL.into_iter().find(|lane| lane.number() == number).unwrap_or(Self::Usual)
    }
}

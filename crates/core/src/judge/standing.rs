//! Where a claim stands beside the others of its name.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

crate::spelled! {
    /// How a claim ended. Nothing that comes later brings it back.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Ending: "ending" {
        /// It was let go.
        Released = "released",
        /// It was never proved while its token was good.
        Expired = "expired",
        /// Another claim has the name.
        Lost = "lost",
    }
}

crate::spelled! {
    /// How far a contest has come.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Phase: "phase of a contest" {
        /// Both tokens stand in the zone, so a person rules.
        Ruling = "ruling",
        /// The holder's token is gone; it has some time to put it back.
        Grace = "grace",
        /// The name goes to the challenger as soon as it has its certificate.
        Handover = "handover",
    }
}

/// What a contest means for either side.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Contested {
    /// How far it has come.
    pub phase: Phase,
    /// Until when the holder may put its token back, once that is gone.
    pub grace_ends_at: Option<DateTime<Utc>>,
}

/// Where a claim stands beside the others of its name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Standing {
    /// Nobody holds the name.
    #[default]
    Free,
    /// This one holds it.
    Holder,
    /// This one holds it, and another has proved itself.
    Contested(Contested),
    /// Another holds it.
    Behind,
    /// Another holds it, and this one has proved itself.
    Challenger(Contested),
}

impl Standing {
    /// Whether a certificate may be ordered for it: the name is its own, or about
    /// to be.
    pub fn may_order(self) -> bool {
        match self {
            Self::Free | Self::Holder | Self::Contested(_) => true,
            Self::Behind => false,
            Self::Challenger(contested) => contested.phase == Phase::Handover,
        }
    }

    /// Whether visitors are to get what it shows.
    pub fn is_shown(self) -> bool {
        matches!(self, Self::Free | Self::Holder | Self::Contested(_))
    }

    /// The contest it is in.
    pub fn contest(self) -> Option<Contested> {
        match self {
            Self::Contested(contested) | Self::Challenger(contested) => Some(contested),
            Self::Free | Self::Holder | Self::Behind => None,
        }
    }
}

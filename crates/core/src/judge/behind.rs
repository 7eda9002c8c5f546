//! What stands behind addresses that are somebody else's: a proxy that passes visitors on, a
//! forwarder, or a former host.

use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use crate::judge::canary::CanaryFetch;

/// Addresses that are somebody else's.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Foreign {
    /// Those that are visited.
    pub addresses: Vec<IpAddr>,
    /// Whether that is all of them.
    pub are_all: bool,
}

/// An HTTP redirect away from the host, by an address that is not ours.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Forward {
    /// The address that was asked.
    pub address: IpAddr,
    /// Where it sends visitors.
    pub location: String,
}

/// What one visit to somebody else's addresses found.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Visit {
    /// Where.
    pub at: Foreign,
    /// Which of them send visitors on, and where.
    pub forwards: Vec<Forward>,
    /// Whether the canary arrives through each; none where not all of them were visited.
    pub fronts: Vec<CanaryFetch>,
}

/// What is known of who stands there.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Behind {
    /// Nobody has asked.
    #[default]
    Unasked,
    /// What was found now.
    Visited(Visit),
    /// What was found the last time: their network was visited often just now.
    Remembered(Visit),
    /// Nothing: their network was visited often just now, and these addresses never.
    LeftAlone,
}

impl Behind {
    /// What is taken of addresses that are not to be visited now: what an earlier visit found, if
    /// it was to the same ones.
    pub fn unvisited(foreign: &Foreign, earlier: Option<Visit>) -> Self {
        match earlier.filter(|visit| visit.at == *foreign) {
            Some(visit) => Self::Remembered(visit),
            None => Self::LeftAlone,
        }
    }

    /// What was found now or earlier.
    pub fn visit(&self) -> Option<&Visit> {
        match self {
            Self::Visited(visit) | Self::Remembered(visit) => Some(visit),
            Self::Unasked | Self::LeftAlone => None,
        }
    }

    /// What was found now.
    pub fn visited(&self) -> Option<&Visit> {
        match self {
            Self::Visited(visit) => Some(visit),
            Self::Unasked | Self::Remembered(_) | Self::LeftAlone => None,
        }
    }

    /// Where visitors are sent on to.
    pub fn forwards(&self) -> &[Forward] {
        self.visit().map_or(&[], |visit| &visit.forwards)
    }

    /// Whether the canary arrived through every one of them: a proxy passes visitors on.
    pub fn passes_on(&self) -> bool {
        let fronts = self.fronts();
        !fronts.is_empty() && fronts.iter().all(|fetch| fetch.failure.is_none())
    }

    /// Through which addresses the canary was fetched.
    pub fn fronts(&self) -> &[CanaryFetch] {
        self.visit().map_or(&[], |visit| &visit.fronts)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_an_earlier_visit_found_holds_for_the_same_addresses_alone() {
        let at = |last, are_all| Foreign { addresses: vec![[192, 0, 2, last].into()], are_all };
        let visit = Visit { at: at(7, true), ..Visit::default() };
        let taken = |foreign| Behind::unvisited(&foreign, Some(visit.clone()));
        assert_eq!(taken(at(7, true)), Behind::Remembered(visit.clone()));
        assert_eq!(taken(at(7, true)).visited(), None);
        assert_eq!(taken(at(8, true)), Behind::LeftAlone);
        assert_eq!(taken(at(7, false)), Behind::LeftAlone, "there are others by now");
        assert_eq!(Behind::unvisited(&at(7, true), None), Behind::LeftAlone);
    }
}

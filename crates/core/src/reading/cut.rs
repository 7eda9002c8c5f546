//! What a survey left out, since no zone may cost more than the policy grants.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;

crate::spelled! {
    /// What one look at a domain may use up.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Limit: "limit" {
        /// Time to find the zone and its servers.
        Time = "time",
        /// Questions on the way there.
        Questions = "questions",
        /// Servers of one zone.
        Servers = "servers",
        /// Name servers of one domain whose addresses have to be looked for.
        Lookups = "look-ups",
        /// Records of one answer.
        Records = "records",
        /// Octets of all answers.
        Octets = "octets",
        /// Connections by TCP.
        Connections = "connections",
        /// Aliases that lead from one to the next.
        Aliases = "aliases",
    }
}

/// Something that was not asked or not read.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Cut {
    /// What was used up.
    pub limit: Limit,
    /// The zone, or the name, at which it was.
    pub at: DnsName,
    /// How much of it there is for one look; of time, seconds.
    pub most: u32,
}

impl fmt::Display for Cut {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { limit, at, most } = self;
        match limit {
            Limit::Time => write!(f, "finding the name servers of {at} took more than {most} s"),
            Limit::Questions => write!(f, "finding the name servers of {at} took more than {most} questions"),
            Limit::Servers => write!(f, "{at} has more name servers than the {most} that are asked"),
            Limit::Lookups => {
                write!(f, "more than {most} name servers in {at} had to be looked for")
            }
            Limit::Records => write!(f, "{at} has more records of one type than the {most} that are read"),
            Limit::Octets => write!(f, "the answers about {at} are larger than {most} octets together"),
            Limit::Connections => {
                write!(f, "more than {most} answers about {at} have to be fetched by TCP")
            }
            Limit::Aliases => write!(f, "more than {most} aliases lead on from {at}"),
        }
    }
}

impl Cut {
    /// What whoever runs the zone is to change.
    pub fn remedy(&self) -> String {
        let at = &self.at;
        match self.limit {
            Limit::Time | Limit::Questions | Limit::Lookups => {
                format!("Give {at} a few name servers that answer, with addresses at the registry.")
            }
            Limit::Servers => format!("List fewer name servers for {at}."),
            Limit::Records | Limit::Octets => {
                format!("Delete the records at {at} that are not needed any more.")
            }
            Limit::Connections => {
                format!("Delete records of {at} that are not needed, so that its answers fit into a packet.")
            }
            Limit::Aliases => format!("Let {at} lead straight to what the sheet has."),
        }
    }
}

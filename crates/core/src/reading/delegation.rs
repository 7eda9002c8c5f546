//! How a zone is delegated, and what is wrong with the list of its servers.

use std::collections::BTreeSet;
use std::fmt;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;

/// What the zone above says about this one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Delegation {
    /// The zone above.
    pub parent: DnsName,
    /// Name servers listed there.
    pub servers: BTreeSet<DnsName>,
    /// Those, there or in the zone itself, that cannot be asked, and why.
    #[serde(default)]
    pub faults: Vec<ServerFault>,
}

impl Delegation {
    /// Whether there are more servers than were asked.
    pub fn is_partial(&self) -> bool {
        self.faults.iter().any(|fault| fault.fault == Fault::Unasked)
    }
}

/// A listed name server that cannot be asked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServerFault {
    /// Its name in the list.
    pub server: DnsName,
    /// What is wrong with it.
    pub fault: Fault,
}

/// What is wrong with the name of a name server.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "fault", rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = NameServerFault))]
pub enum Fault {
    /// An address was typed where a name belongs.
    Address,
    /// It does not exist in its zone.
    Missing,
    /// Nobody has registered the domain that it lies in, or the registry has it
    /// on hold.
    Unregistered {
        /// That domain.
        domain: DnsName,
    },
    /// It exists, and has no address.
    Addressless,
    /// It is an alias, which resolvers do not follow (RFC 2181, section 10.3).
    Alias {
        /// Where to.
        target: DnsName,
    },
    /// To find its address, its own zone would have to be asked through it.
    Circle,
    /// The servers of its own zone do not answer.
    Unreadable {
        /// What became of asking them.
        reason: String,
    },
    /// There are more servers than are asked, or the time ran out.
    Unasked,
    /// The zone itself has it at other addresses than the zone above lists (glue).
    Moved {
        /// The address that the zone above lists.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        listed: IpAddr,
        /// Those that the zone has.
        #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
        now: Vec<IpAddr>,
    },
}

impl fmt::Display for ServerFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let server = &self.server;
        match &self.fault {
            Fault::Address => write!(f, "{server} is an address, where a name belongs"),
            Fault::Missing => write!(f, "{server} does not exist"),
            Fault::Unregistered { domain } => {
                write!(
                    f,
                    "{server} does not exist: its domain {domain} is not registered, or on hold at the registry"
                )
            }
            Fault::Addressless => write!(f, "{server} has no address"),
            Fault::Alias { target } => {
                write!(f, "{server} is an alias of {target}, which resolvers do not follow")
            }
            Fault::Circle => write!(f, "{server} could only be found by asking {server} itself"),
            Fault::Unreadable { reason } => write!(f, "the address of {server} cannot be found: {reason}"),
            Fault::Unasked => write!(f, "{server} was not asked"),
            Fault::Moved { listed, now } => {
                let now: Vec<_> = now.iter().map(ToString::to_string).collect();
                write!(f, "{server} is listed at {listed}, and the zone has it at {}", now.join(" and "))
            }
        }
    }
}

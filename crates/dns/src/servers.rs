//! The servers of a zone while a walk gathers them, and what is wrong with those
//! that are of no use.

use std::collections::BTreeSet;
use std::fmt;

use nomenta_core::name::dns::DnsName;
use nomenta_core::name::hostname::Hostname;
use nomenta_core::reading::answer::Rcode;
use nomenta_core::reading::delegation::{Delegation, Fault, ServerFault};
use nomenta_core::reading::record::{Record, RecordData};
use nomenta_core::reading::survey::Authority;

use crate::ask::Got;
use crate::budget::Spent;
use crate::wire::Reply;

/// A server that gave nothing that helps, and why.
#[derive(Clone, Debug)]
pub(crate) struct Useless {
    pub server: Authority,
    pub why: Why,
}

/// What came of asking a server, or kept it from being asked.
#[derive(Clone, Debug)]
pub(crate) enum Why {
    Guarded,
    Unasked(Spent),
    Got(Got),
}

impl fmt::Display for Useless {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({}) ", self.server.name, self.server.address)?;
        match &self.why {
            Why::Guarded => f.write_str("has an address that may not be asked"),
            Why::Unasked(spent) => write!(f, "was not asked: {spent}"),
            Why::Got(Got::Reply(reply)) => write!(f, "answers {}", reply.rcode),
            Why::Got(Got::NoRoute) => f.write_str("cannot be reached from here"),
            Why::Got(Got::Silence) => f.write_str("does not answer"),
            Why::Got(Got::Garbled(why)) => write!(f, "answers unreadably: {why}"),
            Why::Got(Got::Short(why)) => write!(f, "cuts its answer short, and {why}"),
            Why::Got(Got::Late) => f.write_str("did not answer in time"),
            Why::Got(Got::Unread(limit)) => write!(f, "was not read: the look had used up its {limit}"),
        }
    }
}

/// The servers of a zone while they are being gathered.
#[derive(Default)]
pub(crate) struct Servers {
    pub listed: BTreeSet<DnsName>,
    pub addresses: BTreeSet<Authority>,
    pub faults: Vec<ServerFault>,
}

/// Name servers that are told by name, of those that were left out.
const MOST_LEFT_OUT: usize = 3;

impl Servers {
    pub(crate) fn add(&mut self, server: &DnsName, looked_up: Result<Vec<Authority>, Fault>) {
        match looked_up {
            Ok(found) => self.addresses.extend(found),
            Err(fault) => self.faults.push(ServerFault { server: server.clone(), fault }),
        }
    }

    /// Writes down that there are more than are asked.
    pub(crate) fn leave_out(&mut self, server: DnsName) {
        let left_out = self.faults.iter().filter(|fault| fault.fault == Fault::Unasked).count();
        if left_out < MOST_LEFT_OUT {
            self.faults.push(ServerFault { server, fault: Fault::Unasked });
        }
    }
}

/// Why the zone of a name server could not be asked for its address.
pub(crate) fn unfound(zone: &DnsName, tried: &[String], delegation: Option<Delegation>) -> Fault {
    let faults = delegation.map(|delegation| delegation.faults).unwrap_or_default();
    if faults.iter().any(|known| known.fault == Fault::Circle) {
        return Fault::Circle;
    }

    let said: Vec<_> = tried.iter().cloned().chain(faults.iter().map(ToString::to_string)).collect();
    Fault::Unreadable { reason: format!("of its zone {zone}, {}", said.join("; ")) }
}

/// What an answer says against a name server, if it has no address there.
pub(crate) fn fault_in(reply: &Reply, server: &str, zone: &DnsName) -> Option<Fault> {
    let alias = reply.answers.iter().find_map(|record| match &record.data {
        RecordData::Cname(target) if record.owner == server => Some(target.clone()),
        _ => None,
    });
    if let Some(target) = alias {
        return Some(Fault::Alias { target });
    }
    if reply.rcode != Rcode::NxDomain {
        return None;
    }

    let registered = Hostname::parse(server).ok().map(|host| DnsName::from(host.registered()));
    let above = registered.filter(|domain| domain != zone && domain.is_within(zone));
    Some(above.map_or(Fault::Missing, |domain| Fault::Unregistered { domain }))
}

/// The addresses of a name server among some records.
pub(crate) fn pick_addresses(server: &str, records: &[Record]) -> Vec<Authority> {
    let own = records.iter().filter(|record| record.owner == server);
    let found = own.filter_map(|record| {
        let address = match record.data {
            RecordData::A(address) => address.into(),
            RecordData::Aaaa(address) => address.into(),
            _ => return None,
        };
        Some(Authority { name: server.into(), address })
    });
    found.collect()
}

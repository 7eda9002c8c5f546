//! What one source says about the host, told from its answers.

use std::collections::BTreeSet;
use std::net::{Ipv4Addr, Ipv6Addr};

use crate::name::dns::DnsName;
use crate::reading::record::{Record, RecordData};

/// What one source says about the host: its aliases and its addresses.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HostView {
    /// Targets of the CNAME records, from the host on.
    pub chain: Vec<DnsName>,
    /// IPv4 addresses, through aliases where the source follows them.
    pub ipv4: BTreeSet<Ipv4Addr>,
    /// IPv6 addresses, likewise.
    pub ipv6: BTreeSet<Ipv6Addr>,
    /// Whether the aliases lead back to a name among them.
    pub circles: bool,
    /// Whether addresses of its own stand beside the alias, against RFC 1034,
    /// section 3.6.2.
    pub beside: bool,
}

impl HostView {
    /// Target of a CNAME at the host itself.
    pub fn cname(&self) -> Option<&DnsName> {
        self.chain.first()
    }

    /// Whether neither alias nor address is there.
    pub fn is_empty(&self) -> bool {
        self.chain.is_empty() && self.has_no_address()
    }

    /// Whether no address is there.
    pub fn has_no_address(&self) -> bool {
        self.ipv4.is_empty() && self.ipv6.is_empty()
    }

    /// What `name` leads to in these records; a loop ends where it closes.
    pub(crate) fn of(name: &str, records: &[&Record]) -> Self {
        let chain = chain(name, records);
        let end = chain.last().map_or(name, |end| end.as_str());
        let circles = alias_at(end, records).is_some();
        let mut view = Self { chain, circles, ..Self::default() };

        for record in records.iter().filter(|r| r.owner == name || view.chain.contains(&r.owner)) {
            match &record.data {
                RecordData::A(address) => drop(view.ipv4.insert(*address)),
                RecordData::Aaaa(address) => drop(view.ipv6.insert(*address)),
                _ => continue,
            }
            view.beside |= record.owner == name && !view.chain.is_empty();
        }
        view
    }
}

/// The targets of the aliases from `name` on, up to where they close a loop.
pub(crate) fn chain(name: &str, records: &[&Record]) -> Vec<DnsName> {
    let mut chain: Vec<DnsName> = Vec::new();
    let mut at = name;

    while let Some(target) = alias_at(at, records) {
        if chain.contains(target) || target == name {
            break;
        }
        chain.push(target.clone());
        at = target;
    }
    chain
}

fn alias_at<'a>(name: &str, records: &[&'a Record]) -> Option<&'a DnsName> {
    records.iter().find_map(|record| match &record.data {
        RecordData::Cname(target) if record.owner == name => Some(target),
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_alias_chain_is_followed_and_a_loop_ends() {
        let cname = |owner: &str, target: &str| {
            let data = RecordData::Cname(target.into());
            Record { owner: owner.into(), ttl: 60, data }
        };
        let a = Record { owner: "c.example".into(), ttl: 60, data: RecordData::A([192, 0, 2, 7].into()) };
        let (one, two) = (cname("a.example", "b.example"), cname("b.example", "c.example"));
        let view = HostView::of("a.example", &[&two, &a, &one]);
        assert_eq!((view.chain.join(" "), view.ipv4.len()), ("b.example c.example".into(), 1));
        let back = cname("b.example", "a.example");
        assert_eq!(HostView::of("a.example", &[&one, &back]).chain, ["b.example"]);
    }
}

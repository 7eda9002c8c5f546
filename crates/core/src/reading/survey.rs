//! One round of readings for one domain.

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::name::dns::{self, DnsName};
use crate::name::hostname::Hostname;
use crate::reading::answer::{Reading, Source};
use crate::reading::record::{Record, RecordData, RecordType};
use crate::reading::target::Depth;
use crate::reading::view::HostView;

/// One round of readings.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Survey {
    /// The domain.
    pub host: Hostname,
    /// When the first question went out.
    pub at: DateTime<Utc>,
    /// Where the delegation walk ended.
    pub zone: ZoneView,
    /// Every answer, authoritative servers first.
    pub readings: Vec<Reading>,
    /// Where routing records stand: the host, or `*.` and the host.
    #[serde(default)]
    pub routed: DnsName,
    /// How much was asked.
    #[serde(default)]
    pub depth: Depth,
}

/// Where the delegation walk ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "state", rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum ZoneView {
    /// The zone that holds the name, and its servers.
    Found {
        /// The zone's apex.
        apex: DnsName,
        /// One entry for each address of each server.
        servers: Vec<Authority>,
        /// The delegation to it, where the walk crossed one.
        #[serde(default)]
        delegation: Option<Delegation>,
    },
    /// The registry has no delegation for the registered domain.
    Unregistered {
        /// The registered domain.
        registered: DnsName,
        /// The zone that said so.
        registry: DnsName,
        /// The server that said so.
        server: String,
    },
    /// No server of the zone answers.
    Unreachable {
        /// The zone whose servers are silent.
        zone: DnsName,
        /// Each server and why it gave nothing.
        tried: Vec<String>,
    },
}

/// What the zone above says about this one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Delegation {
    /// The zone above.
    pub parent: DnsName,
    /// Name servers listed there.
    pub servers: BTreeSet<DnsName>,
}

/// One address of one authoritative server.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Authority {
    /// Name in the NS set.
    pub name: DnsName,
    /// Address asked.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub address: IpAddr,
}

impl Survey {
    /// The zone's apex, where the walk found one.
    pub fn apex(&self) -> Option<&DnsName> {
        match &self.zone {
            ZoneView::Found { apex, .. } => Some(apex),
            _ => None,
        }
    }

    /// The delegation to the zone, where the walk crossed one.
    pub fn delegation(&self) -> Option<&Delegation> {
        match &self.zone {
            ZoneView::Found { delegation, .. } => delegation.as_ref(),
            _ => None,
        }
    }

    /// Readings of one question.
    pub fn of<'a>(&'a self, name: &'a str, rtype: RecordType) -> impl Iterator<Item = &'a Reading> {
        self.readings.iter().filter(move |r| r.name == name && r.rtype == rtype)
    }

    /// Usable answers of the authoritative servers to one question; what a server
    /// says that is no authority for the zone counts for nothing.
    pub fn authority<'a>(
        &'a self,
        name: &'a str,
        rtype: RecordType,
    ) -> impl Iterator<Item = (&'a Source, &'a [Record])> {
        self.of(name, rtype)
            .filter(|r| r.source.is_authority() && !r.is_lame())
            .filter_map(|r| Some((&r.source, r.answer()?)))
    }

    /// Records that the authoritative servers hold at `name` itself, each with one
    /// server that said so.
    pub fn held<'a>(
        &'a self,
        name: &'a str,
        rtype: RecordType,
    ) -> impl Iterator<Item = (&'a Source, &'a Record)> {
        let mut seen = BTreeSet::new();
        self.authority(name, rtype)
            .flat_map(|(source, records)| records.iter().map(move |r| (source, r)))
            .filter(move |(_, record)| record.owner == name && seen.insert(&record.data))
    }

    /// Addresses that the canonical host has, as the vantages read them.
    pub fn addresses_of(&self, name: &str) -> (BTreeSet<Ipv4Addr>, BTreeSet<Ipv6Addr>) {
        let mut ipv4 = BTreeSet::new();
        let mut ipv6 = BTreeSet::new();

        let readings = self.readings.iter().filter(|r| r.name == name && !r.source.is_authority());
        for record in readings.filter_map(Reading::answer).flatten() {
            match record.data {
                RecordData::A(address) => drop(ipv4.insert(address)),
                RecordData::Aaaa(address) => drop(ipv6.insert(address)),
                _ => {}
            }
        }

        (ipv4, ipv6)
    }

    /// Each source that was asked about the host, once.
    pub fn sources(&self) -> BTreeSet<&Source> {
        self.readings.iter().map(|r| &r.source).collect()
    }

    /// Each vantage that was asked, once.
    pub fn vantages(&self) -> impl Iterator<Item = &Source> {
        self.sources().into_iter().filter(|s| !s.is_authority())
    }

    /// What `source` says about the host; `None` where it gave no answer to
    /// one of the two address questions.
    pub fn host_view(&self, source: &Source) -> Option<HostView> {
        let name = self.routed();
        let mut records = Vec::new();

        for rtype in [RecordType::A, RecordType::Aaaa] {
            let reading = self.of(name, rtype).find(|r| &r.source == source && !r.is_lame())?;
            records.extend(reading.answer()?);
        }

        Some(HostView::of(name, &records))
    }

    /// Where routing records stand.
    pub fn routed(&self) -> &str {
        if self.routed.is_empty() { self.host.as_str() } else { &self.routed }
    }

    /// Host views of all authoritative servers that answered.
    pub fn authority_views(&self) -> Vec<(&Source, HostView)> {
        let sources = self.sources().into_iter().filter(|s| s.is_authority());
        sources.filter_map(|s| Some((s, self.host_view(s)?))).collect()
    }

    /// The CAA set that a CA would find for the host, and the name it stands
    /// at (RFC 8659, section 3): the closest non-empty set, climbing.
    pub fn relevant_caa(&self) -> Option<(&str, Vec<&Record>)> {
        dns::climb(self.host.as_str()).find_map(|name| {
            let records = self.caa_at(name)?;
            (!records.is_empty()).then_some((name, records))
        })
    }

    /// The authority's own word where it gives one, else a vantage's, which
    /// has followed an alias to its end.
    fn caa_at<'a>(&'a self, name: &'a str) -> Option<Vec<&'a Record>> {
        let usable: Vec<_> = self.of(name, RecordType::Caa).filter(|r| r.answer().is_some()).collect();
        let own = usable.iter().find(|r| r.source.is_authority() && !r.is_alias() && !r.is_lame());
        let chosen = own.or_else(|| usable.iter().find(|r| !r.source.is_authority()))?;

        let caa = chosen.answer()?.iter().filter(|r| matches!(r.data, RecordData::Caa { .. }));
        Some(caa.collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::answer::{Outcome, Rcode};
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    fn vantage() -> Source {
        Source::Vantage { name: "north".into() }
    }

    fn answer(source: Source, name: &str, rtype: RecordType, records: Vec<Record>) -> Reading {
        let outcome = Outcome::Answer { rcode: Rcode::NoError, authoritative: false, records };
        Reading::new(source, name.into(), rtype, outcome, 1)
    }

    fn caa(owner: &str, value: &str) -> Record {
        let data = RecordData::Caa { flags: 0, tag: "issue".into(), value: value.into() };
        Record { owner: owner.into(), ttl: 60, data }
    }

    #[test]
    fn the_closest_caa_set_counts_and_an_empty_one_does_not() {
        let survey = test::survey(HOST, &["@ CAA issue far.example"]);
        let (owner, records) = survey.relevant_caa().expect("climbed");
        assert_eq!((owner, records.len()), ("onswick.example", 1));
        let near = ["timetable CAA issue near.example", "@ CAA issue far.example"];
        let survey = test::survey(HOST, &near);
        assert_eq!(survey.relevant_caa().expect("found").0, HOST);
        assert!(test::survey(HOST, &[]).relevant_caa().is_none());
    }

    #[test]
    fn behind_an_alias_a_vantage_that_followed_it_is_believed() {
        let mut survey = test::survey(HOST, &["timetable CNAME onswick.edge.quaymark.example"]);
        let target = "onswick.edge.quaymark.example";
        survey.readings.push(answer(vantage(), HOST, RecordType::Caa, vec![caa(target, "target.example")]));
        let (owner, records) = survey.relevant_caa().expect("followed");
        assert_eq!((owner, records[0].owner.as_str()), (HOST, target));
    }

    #[test]
    fn a_view_needs_both_address_answers_and_follows_the_chain() {
        let mut survey = test::survey(HOST, &[]);
        let alias = RecordData::Cname("onswick.edge.quaymark.example".into());
        let a = RecordData::A([127, 77, 0, 10].into());
        let chain = vec![
            Record { owner: HOST.into(), ttl: 60, data: alias },
            Record { owner: "onswick.edge.quaymark.example".into(), ttl: 60, data: a },
        ];
        survey.readings.push(answer(vantage(), HOST, RecordType::A, chain));
        assert_eq!(survey.host_view(&vantage()), None, "AAAA was not answered");
        survey.readings.push(answer(vantage(), HOST, RecordType::Aaaa, Vec::new()));
        let view = survey.host_view(&vantage()).expect("both were");
        assert_eq!(view.cname().map(DnsName::as_str), Some("onswick.edge.quaymark.example"));
        assert_eq!(view.ipv4.len(), 1);
        assert_eq!(survey.authority_views().len(), 1, "vantages are not authoritative servers");
    }
}

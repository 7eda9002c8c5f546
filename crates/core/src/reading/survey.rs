//! One round of readings for one domain.

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::name::dns::{self, DnsName};
use crate::name::hostname::Hostname;
use crate::name::mask;
use crate::reading::answer::{Reading, Source};
use crate::reading::cut::Cut;
use crate::reading::delegation::Delegation;
use crate::reading::recent::Recent;
use crate::reading::record::{Record, RecordData, RecordType};
use crate::reading::target::Depth;
use crate::reading::trust::{Signed, Trust};
use crate::reading::view::{self, HostView};

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
    /// Further answers of the zone's servers about the host in the same check, in the order in which
    /// they came; what is to be remembered of them stands in `recent`.
    #[serde(skip)]
    pub samples: Vec<Reading>,
    /// What was seen at the host over the last checks.
    #[serde(default, skip_serializing_if = "Recent::is_empty")]
    pub recent: Recent,
    /// Where aliases lead that go out of the zone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub followed: Vec<Followed>,
    /// The chain of trust, where a resolver finds fault with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trust: Option<Trust>,
    /// Whether the zone is signed, where that decides whose word proves ownership.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signed: Option<Signed>,
    /// What was left out, since it would have cost more than one look may.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub cuts: Vec<Cut>,
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
        /// Each server that was asked and why it gave nothing.
        tried: Vec<String>,
        /// The delegation to it, where the walk crossed one.
        #[serde(default)]
        delegation: Option<Delegation>,
    },
}

/// One step of an alias that leads out of the zone, as the servers of its own
/// zone have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Followed {
    /// The name that an alias leads to.
    pub name: DnsName,
    /// The zone that it lies in.
    pub zone: DnsName,
    /// Usable answers of that zone's servers.
    pub readings: Vec<Reading>,
    /// Why there are none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
}

impl Followed {
    /// The records that its zone's servers are to be believed about.
    fn records(&self) -> impl Iterator<Item = &Record> {
        let records = self.readings.iter().filter_map(Reading::answer).flatten();
        records.filter(|record| record.owner.is_within(&self.zone))
    }

    /// Where aliases lead from here on, out of its zone or to what is not in
    /// the answer.
    pub fn ends_outside(&self) -> BTreeSet<DnsName> {
        self.readings.iter().filter_map(|reading| end_outside(reading, &self.zone)).collect()
    }
}

/// Whether a DNAME record above the name makes what is said of it (RFC 6672,
/// section 3.1): nothing stands there that could be edited.
fn is_made_by_dname(name: &str, records: &[Record]) -> bool {
    let is_above = |record: &Record| dns::is_below(name, &record.owner);
    records.iter().any(|record| is_above(record) && matches!(record.data, RecordData::Dname(_)))
}

/// The last name of the aliases in an answer, if the answer has nothing of its
/// own zone there.
fn end_outside(reading: &Reading, zone: &DnsName) -> Option<DnsName> {
    let records: Vec<_> = reading.answer()?.iter().filter(|record| record.owner.is_within(zone)).collect();
    let end = view::chain(&reading.name, &records).pop()?;
    let is_there = records.iter().any(|r| r.owner == end && r.data.rtype() == Some(reading.rtype));
    (!is_there).then_some(end)
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

    /// Takes in what was seen up to the survey before it, if there was one.
    pub fn remember(&mut self, before: Option<&Self>) {
        self.recent = Recent::after(before, self);
    }

    /// The addresses of the zone's servers that were asked.
    pub fn servers(&self) -> &[Authority] {
        match &self.zone {
            ZoneView::Found { servers, .. } => servers,
            _ => &[],
        }
    }

    /// Whether a server of the zone has any text or alias at a name.
    pub fn has_words_at(&self, name: &DnsName) -> bool {
        let of = self.readings.iter().filter(|reading| {
            let wanted = matches!(reading.rtype, RecordType::Txt | RecordType::Cname);
            reading.source.is_authority() && wanted && reading.name == *name
        });
        of.filter_map(Reading::answer).any(|records| !records.is_empty())
    }

    /// The delegation to the zone, where the walk crossed one.
    pub fn delegation(&self) -> Option<&Delegation> {
        match &self.zone {
            ZoneView::Found { delegation, .. } | ZoneView::Unreachable { delegation, .. } => {
                delegation.as_ref()
            }
            ZoneView::Unregistered { .. } => None,
        }
    }

    /// Readings of one question.
    pub fn of<'a>(&'a self, name: &'a str, rtype: RecordType) -> impl Iterator<Item = &'a Reading> {
        self.readings.iter().filter(move |r| r.rtype == rtype && r.name == name)
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
            .filter(|(_, records)| !is_made_by_dname(name, records))
            .flat_map(|(source, records)| records.iter().map(move |r| (source, r)))
            .filter(move |(_, record)| record.owner == name && seen.insert(&record.data))
    }

    /// Addresses that the canonical host has, as the vantages read them.
    pub fn addresses_of(&self, name: &str) -> (BTreeSet<Ipv4Addr>, BTreeSet<Ipv6Addr>) {
        let mut ipv4 = BTreeSet::new();
        let mut ipv6 = BTreeSet::new();

        let readings = self.readings.iter().filter(|r| !r.source.is_authority() && r.name == name);
        for record in readings.filter_map(Reading::answer).flatten() {
            match record.data {
                RecordData::A(address) => drop(ipv4.insert(address)),
                RecordData::Aaaa(address) => drop(ipv6.insert(address)),
                _ => {}
            }
        }

        (ipv4, ipv6)
    }

    /// Where aliases at `name` lead out of the zone, or to what the zone's servers
    /// do not say more of.
    pub fn ends_outside(&self, name: &str) -> BTreeSet<DnsName> {
        let Some(apex) = self.apex() else { return BTreeSet::new() };
        let readings =
            self.readings.iter().filter(|r| r.source.is_authority() && r.name == name && !r.is_lame());
        readings.filter_map(|reading| end_outside(reading, apex)).collect()
    }

    /// What `source` says of `name`, with what its aliases lead to: of a server
    /// of the zone what it has in the zone, and what the servers of other zones
    /// have of the rest; of a vantage whatever it says.
    fn records_from<'a>(&'a self, source: &Source, records: &'a [Record]) -> Vec<&'a Record> {
        let apex = self.apex().filter(|_| source.is_authority());
        let mut known: Vec<_> =
            records.iter().filter(|record| apex.is_none_or(|apex| record.owner.is_within(apex))).collect();

        if apex.is_some() {
            known.extend(self.followed.iter().flat_map(Followed::records));
        }
        known
    }

    /// The texts that `source` has at `name`, or where its aliases lead; `None`
    /// if it gave no usable answer.
    pub fn texts<'a>(&'a self, source: &Source, name: &'a str) -> Option<Vec<&'a Record>> {
        let reading = self.of(name, RecordType::Txt).find(|r| &r.source == source && !r.is_lame())?;
        let mut known = self.records_from(source, reading.answer()?);
        let end = view::chain(name, &known).pop();

        known.retain(|record| record.owner == name || Some(&record.owner) == end.as_ref());
        Some(known)
    }

    /// What may be a token of any domain, of all that was read.
    pub fn token_candidates(&self) -> Vec<String> {
        let followed = self.followed.iter().flat_map(|step| &step.readings);
        let records = self.readings.iter().chain(followed).filter_map(Reading::answer).flatten();

        let mut found = BTreeSet::new();
        for record in records {
            match &record.data {
                RecordData::Txt(text) => found.extend(mask::candidates(&text.to_text())),
                RecordData::Cname(target) => found.extend(mask::candidates(target)),
                _ => {}
            }
        }
        found.into_iter().collect()
    }

    /// Each source that was asked about the host, once.
    pub fn sources(&self) -> BTreeSet<&Source> {
        // They are few, and readings many.
        let mut sources: Vec<&Source> = Vec::new();
        for reading in &self.readings {
            if !sources.iter().rev().any(|known| **known == reading.source) {
                sources.push(&reading.source);
            }
        }
        sources.into_iter().collect()
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
            records.extend(self.records_from(source, reading.answer()?));
        }

        Some(HostView::of(name, &records))
    }

    /// Whether nobody at all answers, neither the zone's servers nor any vantage:
    /// then it is more likely our own network that fails.
    pub fn is_cut_off(&self) -> bool {
        let mut vantages = self.readings.iter().filter(|reading| !reading.source.is_authority()).peekable();
        let is_unreachable = matches!(self.zone, ZoneView::Unreachable { .. });
        is_unreachable && vantages.peek().is_some() && vantages.all(|reading| !reading.is_theirs())
    }

    /// Where routing records stand.
    pub fn routed(&self) -> &str {
        if self.routed.is_empty() { self.host.as_str() } else { &self.routed }
    }

    /// Host views of all authoritative servers that answered.
    pub fn authority_views(&self) -> Vec<(&Source, HostView)> {
        self.views_of(self.sources().into_iter().filter(|source| source.is_authority()))
    }

    /// Host views of those of some sources that answered.
    pub fn views_of<'a>(&self, sources: impl IntoIterator<Item = &'a Source>) -> Vec<(&'a Source, HostView)> {
        sources.into_iter().filter_map(|source| Some((source, self.host_view(source)?))).collect()
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

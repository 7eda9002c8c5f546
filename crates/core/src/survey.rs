//! One round of readings for one domain, and views of it.

use std::collections::BTreeSet;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::hostname::Hostname;
use crate::names;
use crate::reading::{Reading, Record, RecordData, RecordType, Source};

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
    /// Every answer, authority servers first.
    pub readings: Vec<Reading>,
}

/// Where the delegation walk ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "state", rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum ZoneView {
    /// The zone that holds the name, and its servers.
    Found {
        /// The zone's apex.
        apex: String,
        /// One entry for each address of each server.
        servers: Vec<Authority>,
    },
    /// The registry has no delegation for the registered domain.
    Unregistered {
        /// The registered domain.
        registered: String,
        /// The zone that said so.
        registry: String,
        /// The server that said so.
        server: String,
    },
    /// No server of the zone answers.
    Unreachable {
        /// The zone whose servers are silent.
        zone: String,
        /// Each server and why it gave nothing.
        tried: Vec<String>,
    },
}

/// One address of one authority server.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Authority {
    /// Name in the NS set.
    pub name: String,
    /// Address asked.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub address: IpAddr,
}

/// One thing to ask.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Question {
    /// The name.
    pub name: String,
    /// The type.
    pub rtype: RecordType,
    /// Whether the vantages are asked too, beside the authority servers.
    pub vantages: bool,
}

/// What to ask for `host`, once its zone is known.
///
/// The doubled names are what an editor makes of a full name typed into a box
/// that adds the zone by itself.
pub fn questions(host: &Hostname, challenge: &str, apex: &str) -> Vec<Question> {
    let ask = |name: &str, rtype, vantages| Question { name: name.to_owned(), rtype, vantages };
    let host = host.as_str();
    let mut list = vec![
        ask(challenge, RecordType::Txt, true),
        ask(host, RecordType::A, true),
        ask(host, RecordType::Aaaa, true),
        ask(&format!("{challenge}.{apex}"), RecordType::Txt, false),
        ask(&format!("{host}.{apex}"), RecordType::A, false),
    ];
    list.extend(names::climb(host).map(|name| ask(name, RecordType::Caa, true)));
    list
}

/// What one source says about the host: its alias or its addresses.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HostView {
    /// Target of a CNAME at the host itself.
    pub cname: Option<String>,
    /// IPv4 addresses, through aliases where the source follows them.
    pub ipv4: BTreeSet<Ipv4Addr>,
    /// IPv6 addresses, likewise.
    pub ipv6: BTreeSet<Ipv6Addr>,
}

impl Survey {
    /// The zone's apex, where the walk found one.
    pub fn apex(&self) -> Option<&str> {
        match &self.zone {
            ZoneView::Found { apex, .. } => Some(apex),
            _ => None,
        }
    }

    /// Readings of one question.
    pub fn of<'a>(&'a self, name: &'a str, rtype: RecordType) -> impl Iterator<Item = &'a Reading> {
        self.readings.iter().filter(move |r| r.name == name && r.rtype == rtype)
    }

    /// Usable answers of the authority servers to one question.
    pub fn authority<'a>(
        &'a self,
        name: &'a str,
        rtype: RecordType,
    ) -> impl Iterator<Item = (&'a Source, &'a [Record])> {
        self.of(name, rtype)
            .filter(|r| r.source.is_authority())
            .filter_map(|r| Some((&r.source, r.answer()?)))
    }

    /// Each source that was asked about the host, once.
    pub fn sources(&self) -> BTreeSet<&Source> {
        self.readings.iter().map(|r| &r.source).collect()
    }

    /// What `source` says about the host; `None` where it gave no answer to
    /// one of the two address questions.
    pub fn host_view(&self, source: &Source) -> Option<HostView> {
        let host = self.host.as_str();
        let mut view = HostView::default();
        for rtype in [RecordType::A, RecordType::Aaaa] {
            let reading = self.of(host, rtype).find(|r| &r.source == source)?;
            for record in reading.answer()? {
                match &record.data {
                    RecordData::Cname(target) if record.owner == host => view.cname = Some(target.clone()),
                    RecordData::A(address) => drop(view.ipv4.insert(*address)),
                    RecordData::Aaaa(address) => drop(view.ipv6.insert(*address)),
                    _ => {}
                }
            }
        }
        Some(view)
    }

    /// Host views of all authority servers that answered.
    pub fn authority_views(&self) -> Vec<(&Source, HostView)> {
        let sources = self.sources().into_iter().filter(|s| s.is_authority());
        sources.filter_map(|s| Some((s, self.host_view(s)?))).collect()
    }

    /// The CAA set that a CA would find for the host, and the name it stands
    /// at (RFC 8659, section 3): the closest non-empty set, climbing.
    pub fn relevant_caa(&self) -> Option<(&str, Vec<&Record>)> {
        names::climb(self.host.as_str()).find_map(|name| {
            let records = self.caa_at(name)?;
            (!records.is_empty()).then_some((name, records))
        })
    }

    /// The authority's own word where it gives one, else a vantage's, which
    /// has followed an alias to its end.
    fn caa_at<'a>(&'a self, name: &'a str) -> Option<Vec<&'a Record>> {
        let mut readings: Vec<_> = self.of(name, RecordType::Caa).filter(|r| r.answer().is_some()).collect();
        readings.sort_by_key(|r| !r.source.is_authority());
        let is_alias = |r: &&Reading| {
            r.answer().is_some_and(|a| a.iter().any(|x| matches!(x.data, RecordData::Cname(_))))
        };
        let chosen = readings
            .iter()
            .find(|r| r.source.is_authority() && !is_alias(r))
            .or_else(|| readings.iter().find(|r| !r.source.is_authority()))?;
        let caa = chosen.answer()?.iter().filter(|r| matches!(r.data, RecordData::Caa { .. }));
        Some(caa.collect())
    }

    /// Changes when anything but TTLs and round-trips does.
    pub fn fingerprint(&self) -> i64 {
        let mut lines: Vec<String> = self.readings.iter().map(fingerprint_line).collect();
        lines.sort();
        let mut hasher = DefaultHasher::new();
        lines.hash(&mut hasher);
        if let ZoneView::Unregistered { .. } | ZoneView::Unreachable { .. } = self.zone {
            std::mem::discriminant(&self.zone).hash(&mut hasher);
        }
        hasher.finish().cast_signed()
    }
}

fn fingerprint_line(reading: &Reading) -> String {
    let mut data: Vec<_> = match reading.answer() {
        Some(records) => records.iter().map(|r| format!("{} {}", r.owner, r.data)).collect(),
        None => vec![reading.failure().unwrap_or_default()],
    };
    data.sort();
    format!("{} {} {} {}", reading.source, reading.name, reading.rtype, data.join("|"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::{Outcome, Rcode};
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    fn vantage() -> Source {
        Source::Vantage { name: "north".into() }
    }

    fn answer(source: Source, name: &str, rtype: RecordType, records: Vec<Record>) -> Reading {
        let outcome = Outcome::Answer { rcode: Rcode::NoError, authoritative: false, records };
        Reading { source, name: name.into(), rtype, outcome, rtt_ms: 1 }
    }

    fn caa(owner: &str, value: &str) -> Record {
        let data = RecordData::Caa { flags: 0, tag: "issue".into(), value: value.into() };
        Record { owner: owner.into(), ttl: 60, data }
    }

    #[test]
    fn the_questions_cover_the_names_their_doubles_and_the_climb_for_caa() {
        let host = Hostname::parse(HOST).expect("valid");
        let list = questions(&host, "_c.timetable.onswick.example", "onswick.example");
        let shown: Vec<_> = list.iter().map(|q| format!("{} {} {}", q.name, q.rtype, q.vantages)).collect();
        assert_eq!(
            shown,
            [
                "_c.timetable.onswick.example TXT true",
                "timetable.onswick.example A true",
                "timetable.onswick.example AAAA true",
                "_c.timetable.onswick.example.onswick.example TXT false",
                "timetable.onswick.example.onswick.example A false",
                "timetable.onswick.example CAA true",
                "onswick.example CAA true",
                "example CAA true",
            ]
        );
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
        assert_eq!(view.cname.as_deref(), Some("onswick.edge.quaymark.example"));
        assert_eq!(view.ipv4.len(), 1);
        assert_eq!(survey.authority_views().len(), 1, "vantages are not authority servers");
    }

    #[test]
    fn the_fingerprint_changes_with_records_and_failures_alone() {
        let one = test::survey(HOST, &["timetable A 192.0.2.7"]);
        let mut same = one.clone();
        same.at += chrono::Duration::hours(1);
        same.readings.iter_mut().for_each(|r| r.rtt_ms = 99);
        assert_eq!(one.fingerprint(), same.fingerprint());
        let other = test::survey(HOST, &["timetable A 192.0.2.8"]);
        assert_ne!(one.fingerprint(), other.fingerprint());
        assert_ne!(one.fingerprint(), test::silent_survey(HOST).fingerprint());
        let gone =
            Survey { zone: test::unregistered("onswick.example"), readings: Vec::new(), ..one.clone() };
        let dead = Survey { zone: test::unreachable("onswick.example", "x"), readings: Vec::new(), ..one };
        assert_ne!(gone.fingerprint(), dead.fingerprint());
    }
}

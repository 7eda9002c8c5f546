//! One round of readings for one domain, and views of it.

use std::collections::BTreeSet;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::hostname::{Hostname, Subject};
use crate::ingress::Platform;
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
    /// Where routing records stand: the host, or `*.` and the host.
    #[serde(default)]
    pub routed: String,
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
        apex: String,
        /// One entry for each address of each server.
        servers: Vec<Authority>,
        /// The delegation to it, where the walk crossed one.
        #[serde(default)]
        delegation: Option<Delegation>,
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

/// What the zone above says about this one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Delegation {
    /// The zone above.
    pub parent: String,
    /// Name servers listed there.
    pub servers: BTreeSet<String>,
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

/// How much a survey asks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Depth {
    /// What tells whether anything has changed.
    Quick,
    /// Everything that a finding may need.
    #[default]
    Full,
}

/// The names and targets that a survey is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    /// The domain.
    pub host: Hostname,
    /// Where routing records stand.
    pub routed: String,
    /// Where the token stands.
    pub challenge: String,
    /// The word in the challenge label.
    pub brand: String,
    /// What a CNAME is to point at.
    pub canonical: String,
    /// Where the CA asks for a TXT record, if it is to be led to the platform.
    pub acme: Option<String>,
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

impl Target {
    /// What a survey of `subject` is about.
    pub fn new(subject: &Subject, platform: &Platform, canonical: String) -> Self {
        Self {
            host: subject.host.clone(),
            routed: subject.to_string(),
            challenge: platform.challenge_name(subject.host.as_str()),
            brand: platform.brand.clone(),
            canonical,
            acme: (platform.acme_zone.is_some() && (subject.wildcard || platform.dns_for_all))
                .then(|| format!("_acme-challenge.{}", subject.host)),
        }
    }

    /// What to ask, once the zone is known.
    pub fn questions(&self, apex: &str, depth: Depth) -> Vec<Question> {
        let ask = |name: &str, rtype, vantages| Question { name: name.to_owned(), rtype, vantages };
        let full = depth == Depth::Full;
        let mut list = vec![
            ask(&self.challenge, RecordType::Txt, full),
            ask(&self.routed, RecordType::A, full),
            ask(&self.routed, RecordType::Aaaa, full),
        ];
        if !full {
            return list;
        }
        list.extend([
            ask(apex, RecordType::Soa, false),
            ask(apex, RecordType::Ns, false),
            ask(&self.routed, RecordType::Txt, false),
            ask(&self.routed, RecordType::Mx, false),
            ask(&self.routed, RecordType::Https, false),
            ask(&self.canonical, RecordType::A, true),
            ask(&self.canonical, RecordType::Aaaa, true),
        ]);
        list.extend(self.acme.iter().map(|name| ask(name, RecordType::Txt, true)));
        if self.routed != apex {
            list.extend([ask(apex, RecordType::Mx, false), ask(apex, RecordType::Txt, false)]);
        }
        list.push(ask(&format!("_dmarc.{apex}"), RecordType::Txt, false));
        list.extend(self.neighbours(apex).into_iter().map(|(name, rtype)| ask(&name, rtype, false)));
        let climb = names::climb(self.host.as_str());
        list.extend(climb.map(|name| ask(name, RecordType::Caa, true)));
        list
    }

    /// Names at which records end up that were meant for the right ones, and
    /// names that only a wildcard answers for.
    fn neighbours(&self, apex: &str) -> Vec<(String, RecordType)> {
        let mut list = vec![
            // A full name typed into a box that adds the zone by itself.
            (format!("{}.{apex}", self.challenge), RecordType::Txt),
            (format!("{}.{apex}", self.routed), RecordType::A),
        ];
        list.extend(self.misplaced(apex).into_iter().map(|name| (name, RecordType::Txt)));
        list.push((self.token_probe(), RecordType::Txt));
        if self.routed != apex && !self.routed.starts_with("*.") {
            list.push((self.host_probe(), RecordType::A));
        }
        list
    }

    /// Where else people put the token: without the underscore, or at the
    /// label of a name above the host.
    pub fn misplaced(&self, apex: &str) -> Vec<String> {
        let host = self.host.as_str();
        let above = names::climb(host).skip(1).take_while(|name| names::is_within(name, apex));
        let at = above.map(|name| format!("_{}-challenge.{name}", self.brand));
        std::iter::once(format!("{}-challenge.{host}", self.brand)).chain(at).collect()
    }

    /// Beside the challenge: answered by a wildcard alone.
    pub fn token_probe(&self) -> String {
        format!("_{}-probe.{}", self.brand, self.host)
    }

    /// Beside the host: answered by a wildcard alone.
    pub fn host_probe(&self) -> String {
        format!("_{}-probe.{}", self.brand, names::parent(self.host.as_str()))
    }
}

/// What one source says about the host: its aliases and its addresses.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HostView {
    /// Targets of the CNAME records, from the host on.
    pub chain: Vec<String>,
    /// IPv4 addresses, through aliases where the source follows them.
    pub ipv4: BTreeSet<Ipv4Addr>,
    /// IPv6 addresses, likewise.
    pub ipv6: BTreeSet<Ipv6Addr>,
    /// Whether addresses of its own stand beside the alias, against RFC 1034,
    /// section 3.6.2.
    pub beside: bool,
}

impl HostView {
    /// Target of a CNAME at the host itself.
    pub fn cname(&self) -> Option<&str> {
        self.chain.first().map(String::as_str)
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
    fn of(name: &str, records: &[&Record]) -> Self {
        let mut view = Self::default();
        let mut at = name;
        while let Some(target) = records.iter().find_map(|r| match &r.data {
            RecordData::Cname(target) if r.owner == at => Some(target),
            _ => None,
        }) {
            if view.chain.contains(target) || target == name {
                break;
            }
            view.chain.push(target.clone());
            at = target;
        }
        let address = |r: &&Record| matches!(r.data, RecordData::A(_) | RecordData::Aaaa(_));
        let own = |r: &&Record| address(r) && r.owner == name;
        view.beside = !view.chain.is_empty() && records.iter().copied().any(|r| own(&r));
        for record in records.iter().filter(|r| r.owner == name || view.chain.contains(&r.owner)) {
            match &record.data {
                RecordData::A(address) => drop(view.ipv4.insert(*address)),
                RecordData::Aaaa(address) => drop(view.ipv6.insert(*address)),
                _ => {}
            }
        }
        view
    }
}

impl Survey {
    /// The zone's apex, where the walk found one.
    pub fn apex(&self) -> Option<&str> {
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

    /// Usable answers of the authority servers to one question; what a server
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

    /// Records that the authority servers hold at `name` itself, each with one
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
        let (mut ipv4, mut ipv6) = (BTreeSet::new(), BTreeSet::new());
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
            .find(|r| r.source.is_authority() && !is_alias(r) && !r.is_lame())
            .or_else(|| readings.iter().find(|r| !r.source.is_authority()))?;
        let caa = chosen.answer()?.iter().filter(|r| matches!(r.data, RecordData::Caa { .. }));
        Some(caa.collect())
    }

    /// Changes when anything but TTLs and round-trips does.
    pub fn fingerprint(&self) -> i64 {
        self.print_of(|_| true)
    }

    /// The fingerprint of what a quick survey reads: the same for a quick one
    /// and for a full one that read the same.
    pub fn quick_fingerprint(&self, target: &Target) -> i64 {
        let list = target.questions("", Depth::Quick);
        let quick = |r: &Reading| list.iter().any(|q| q.name == r.name && q.rtype == r.rtype);
        self.print_of(|r| r.source.is_authority() && quick(r))
    }

    fn print_of(&self, wanted: impl Fn(&Reading) -> bool) -> i64 {
        let mut prints: Vec<u64> = self.readings.iter().filter(|r| wanted(r)).map(reading_print).collect();
        prints.sort_unstable();
        let mut hasher = DefaultHasher::new();
        prints.hash(&mut hasher);
        if let ZoneView::Unregistered { .. } | ZoneView::Unreachable { .. } = self.zone {
            std::mem::discriminant(&self.zone).hash(&mut hasher);
        }
        hasher.finish().cast_signed()
    }
}

/// A number for what one reading says; the order of its records has no part.
fn reading_print(reading: &Reading) -> u64 {
    let mut hasher = DefaultHasher::new();
    (&reading.source, &reading.name, reading.rtype).hash(&mut hasher);
    match reading.answer() {
        Some(records) => {
            let mut said: Vec<(&str, &RecordData)> =
                records.iter().map(|r| (r.owner.as_str(), &r.data)).collect();
            said.sort();
            said.hash(&mut hasher);
        }
        None => reading.failure().hash(&mut hasher),
    }
    hasher.finish()
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
        Reading::new(source, name.into(), rtype, outcome, 1)
    }

    fn caa(owner: &str, value: &str) -> Record {
        let data = RecordData::Caa { flags: 0, tag: "issue".into(), value: value.into() };
        Record { owner: owner.into(), ttl: 60, data }
    }

    #[test]
    fn a_full_survey_covers_the_names_and_everything_that_goes_wrong_around_them() {
        let target = test::domain(HOST).target(&test::platform());
        let list = target.questions("onswick.example", Depth::Full);
        let shown: Vec<_> = list
            .iter()
            .map(|q| format!("{} {}{}", q.name, q.rtype, if q.vantages { " everywhere" } else { "" }))
            .collect();
        assert_eq!(
            shown,
            [
                "_quaymark-challenge.timetable.onswick.example TXT everywhere",
                "timetable.onswick.example A everywhere",
                "timetable.onswick.example AAAA everywhere",
                "onswick.example SOA",
                "onswick.example NS",
                "timetable.onswick.example TXT",
                "timetable.onswick.example MX",
                "timetable.onswick.example HTTPS",
                "onswick.edge.quaymark.example A everywhere",
                "onswick.edge.quaymark.example AAAA everywhere",
                "onswick.example MX",
                "onswick.example TXT",
                "_dmarc.onswick.example TXT",
                "_quaymark-challenge.timetable.onswick.example.onswick.example TXT",
                "timetable.onswick.example.onswick.example A",
                "quaymark-challenge.timetable.onswick.example TXT",
                "_quaymark-challenge.onswick.example TXT",
                "_quaymark-probe.timetable.onswick.example TXT",
                "_quaymark-probe.onswick.example A",
                "timetable.onswick.example CAA everywhere",
                "onswick.example CAA everywhere",
                "example CAA everywhere",
            ]
        );
        let quick = target.questions("onswick.example", Depth::Quick);
        let names = |list: &[Question]| list.iter().map(|q| (q.name.clone(), q.rtype)).collect::<Vec<_>>();
        assert_eq!(names(&quick), names(&list[..3]), "a quick one asks for what must be there");
        assert!(quick.iter().all(|q| !q.vantages), "and nobody but the zone's servers");
    }

    #[test]
    fn a_quick_survey_has_the_print_of_a_full_one_that_read_the_same() {
        let target = test::domain(HOST).target(&test::platform());
        let full = test::survey_spread(HOST, &test::healthy(HOST), 1, 2);
        let mut quick = full.clone();
        quick.readings.retain(|r| r.source.is_authority());
        quick.readings.truncate(3);
        assert_eq!(full.quick_fingerprint(&target), quick.quick_fingerprint(&target));
        assert_eq!(quick.quick_fingerprint(&target), quick.fingerprint());
        let other = test::survey(HOST, &["timetable A 192.0.2.7"]);
        assert_ne!(other.quick_fingerprint(&target), quick.fingerprint());
    }

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
        assert_eq!(view.cname(), Some("onswick.edge.quaymark.example"));
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

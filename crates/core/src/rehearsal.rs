//! The rehearsal: judging a zone file before the customer changes anything.
//!
//! The file is asked what a survey would ask the zone's server, answered as a
//! server that loaded it would (RFC 1034, section 4.3.2), and judged like any
//! other survey. The customer's list is then carried out on the text itself.

use std::collections::{HashMap, HashSet};
use std::net::Ipv4Addr;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::domain::Domain;
use crate::evidence::Evidence;
use crate::finding::{Case, Edit, EditKind, Finding, Severity, Sighting};
use crate::findings;
use crate::ingress::Platform;
use crate::names;
use crate::policy::Policy;
use crate::reading::{Outcome, Rcode, Reading, Record, RecordData, RecordType, Source};
use crate::sheet::SHEET_TTL;
use crate::survey::{Authority, Delegation, Depth, Survey, ZoneView};
use crate::todo;
use crate::zonefile::{self, Fate, ZoneError, ZoneFile};
use crate::zonetext;

/// Rounds of judging and amending. One is the rule; a second finds what the
/// first one uncovered, as under a delegation that went.
const ROUNDS: usize = 4;
/// Aliases followed within the file.
const LONGEST_CHAIN: usize = 16;

/// What came of a rehearsal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Rehearsal {
    /// The zone that the file holds.
    pub zone: String,
    /// How many records it has.
    pub records: usize,
    /// What would be found, were it served as it is.
    pub findings: Vec<Rehearsed>,
    /// The customer's list: what to keep, delete, change and add.
    pub todo: Vec<Edit>,
    /// Whether the amended file would pass ownership and routing without a
    /// blocker.
    pub passes: bool,
    /// Findings that no change of the file can mend.
    pub left: Vec<Finding>,
    /// The file with those changes and no other.
    pub amended: String,
}

/// A finding with its place in the file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Rehearsed {
    /// The finding; its evidence names lines of the file.
    #[serde(flatten)]
    pub finding: Finding,
    /// Lines of the records that it is about, counted from 1.
    pub lines: Vec<usize>,
}

/// Why a file cannot be rehearsed.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RehearsalError {
    /// The file cannot be read.
    #[error(transparent)]
    Unreadable(#[from] ZoneError),
    /// It is another zone's file.
    #[error(
        "The file is of the zone {zone}, and {host} does not lie in it. Give the file of the zone that holds {host}."
    )]
    OtherZone {
        /// The file's zone.
        zone: String,
        /// The domain.
        host: String,
    },
    /// It holds no record.
    #[error("The file holds no record. Export the whole zone from the DNS editor, and give that.")]
    Empty,
}

/// Judges `text` as the zone of `domain`, and amends it.
///
/// # Errors
/// [`RehearsalError`] if it cannot be read, or is of another zone.
pub fn rehearse(
    domain: &Domain,
    platform: &Platform,
    policy: &Policy,
    text: &str,
    now: DateTime<Utc>,
) -> Result<Rehearsal, RehearsalError> {
    let origin = domain.host.registered();
    let file = ZoneFile::parse(text, origin)?;
    if file.entries.is_empty() {
        return Err(RehearsalError::Empty);
    }
    if !names::is_within(domain.host.as_str(), &file.zone) {
        let host = domain.host.to_string();
        return Err(RehearsalError::OtherZone { zone: file.zone, host });
    }
    // A file is typed as files are, whatever the customer's editor wants.
    let domain = Domain { form: None, moved_at: now, ..domain.clone() };
    let rehearsing = Rehearsing { domain: &domain, platform, policy, now };
    let first = rehearsing.judge(&file);
    let findings = first.findings.iter().map(|finding| located(&file, finding)).collect();
    let (zone, records) = (file.zone.clone(), file.entries.len());
    let (mut round, mut file, mut list) = (first, file, Vec::new());
    for _ in 0..ROUNDS {
        let changes: Vec<_> = round.todo.iter().filter(|e| e.kind != EditKind::Keep).cloned().collect();
        merge(&mut list, &round.todo);
        if changes.is_empty() {
            break;
        }
        let amended = amend(&file, &changes, domain.host.as_str());
        file = ZoneFile::parse(&amended, origin)?;
        round = rehearsing.judge(&file);
    }
    list.sort_by_key(|e: &Edit| e.kind != EditKind::Keep);
    let blocked = round.findings.iter().any(|f| f.severity == Severity::Blocker);
    Ok(Rehearsal {
        zone,
        records,
        findings,
        todo: list,
        passes: round.passes && !blocked,
        left: round.findings,
        amended: file.amended(|_| Fate::Stays, &[]),
    })
}

/// Adds what a later round has beyond those before it; what was added then is
/// no news that it is kept now.
fn merge(list: &mut Vec<Edit>, more: &[Edit]) {
    for edit in more {
        let same = |known: &Edit| {
            known.owner == edit.owner && known.rtype == edit.rtype && known.value == edit.value
        };
        if !list.iter().any(same) {
            list.push(edit.clone());
        }
    }
}

/// A finding with the lines of the records that it names.
fn located(file: &ZoneFile, finding: &Finding) -> Rehearsed {
    let mut finding = finding.clone();
    let mut lines = Vec::new();
    for entry in &file.entries {
        let line = *entry.lines.start();
        let shown = format!("{} {} {}", entry.record.owner, entry.record.data.type_name(), entry.record.data);
        let mut seen = finding.evidence.iter_mut().filter(|s| s.said == shown).peekable();
        if seen.peek().is_some() || finding.edits.iter().any(|e| is_of(e, &entry.record)) {
            lines.push(line);
        }
        seen.for_each(|s: &mut Sighting| s.source = format!("line {line}"));
    }
    finding
        .evidence
        .iter_mut()
        .filter(|s| !s.source.starts_with("line "))
        .for_each(|s| s.source = SERVER.into());
    Rehearsed { finding, lines }
}

/// Whether an edit is about a record that is there.
fn is_of(edit: &Edit, record: &Record) -> bool {
    let now = edit.was.as_ref().unwrap_or(&edit.value);
    edit.kind != EditKind::Add
        && edit.owner == record.owner
        && edit.rtype == record.data.type_name()
        && *now == record.data.to_string()
}

/// Carries out edits on the text of a file.
fn amend(file: &ZoneFile, edits: &[Edit], host: &str) -> String {
    let fate = |index: usize| {
        let record = &file.entries[index].record;
        match edits.iter().find(|e| is_of(e, record)) {
            Some(edit) if edit.kind == EditKind::Delete => Fate::Gone,
            Some(edit) if edit.kind == EditKind::Change => zonefile::value(&edit.rtype, &edit.value)
                .map_or(Fate::Stays, |d| Fate::Becomes(zonetext::value(&d))),
            _ => Fate::Stays,
        }
    };
    let added = edits.iter().filter(|e| e.kind == EditKind::Add).filter_map(|edit| {
        let data = zonefile::value(&edit.rtype, &edit.value).ok()?;
        let record = Record { owner: edit.owner.clone(), ttl: SHEET_TTL, data };
        // Relative to nothing, so absolute.
        Some(zonetext::line("", &record))
    });
    let mut lines: Vec<String> = added.collect();
    if !lines.is_empty() {
        lines.insert(0, format!("; For {host}"));
    }
    file.amended(fate, &lines)
}

/// What the file is called where a server's name would stand.
const SERVER: &str = "the zone file";

struct Rehearsing<'a> {
    domain: &'a Domain,
    platform: &'a Platform,
    policy: &'a Policy,
    now: DateTime<Utc>,
}

/// One judgement of the file.
struct Round {
    findings: Vec<Finding>,
    todo: Vec<Edit>,
    passes: bool,
}

impl Rehearsing<'_> {
    fn judge(&self, file: &ZoneFile) -> Round {
        let survey = survey(file, self.domain, self.platform, self.now);
        let zone = survey.apex().unwrap_or(&file.zone).to_owned();
        let sheet = self.domain.sheet(self.platform, &zone);
        let evidence = Evidence::default();
        let case = Case {
            domain: self.domain,
            platform: self.platform,
            sheet: &sheet,
            survey: &survey,
            evidence: &evidence,
            policy: self.policy,
            now: self.now,
        };
        let findings = findings::diagnose(&case);
        let mut todo = todo::list(&case, &findings);
        todo.extend(unasked(&case, file, &todo));
        Round { passes: case.owned() && case.routed(), findings, todo }
    }
}

/// Deletions of what no survey asks for and a CNAME leaves no place for.
fn unasked(case: &Case<'_>, file: &ZoneFile, todo: &[Edit]) -> Vec<Edit> {
    let routed = &case.sheet.routed;
    let alias = |e: &Edit| e.owner == *routed && e.rtype == "CNAME" && e.kind != EditKind::Delete;
    if !todo.iter().any(alias) {
        return Vec::new();
    }
    let other = |r: &&Record| r.owner == *routed && matches!(r.data, RecordData::Other(_));
    file.records().filter(other).map(|r| case.edit_record(EditKind::Delete, r)).collect()
}

/// What a survey of a server with this file alone would read.
fn survey(file: &ZoneFile, domain: &Domain, platform: &Platform, at: DateTime<Utc>) -> Survey {
    let held = Held::new(file);
    let target = domain.target(platform);
    let cut = held.cut(domain.host.as_str());
    let apex = cut.map_or(&file.zone, |(name, _)| name).clone();
    let parent = if cut.is_some() { file.zone.clone() } else { names::parent(&file.zone).to_owned() };
    let servers = cut.map_or_else(|| held.name_servers(&file.zone), |(_, servers)| servers.clone());
    let delegation = (!servers.is_empty()).then_some(Delegation { parent, servers });
    let address = Ipv4Addr::UNSPECIFIED.into();
    let source = Source::Authority { server: SERVER.into(), address };
    let asked = target.questions(&apex, Depth::Full);
    let inside = asked.into_iter().filter(|q| names::is_within(&q.name, &file.zone));
    let readings = inside.map(|q| {
        let (rcode, records) = held.answer(&q.name, q.rtype);
        let outcome = Outcome::Answer { rcode, authoritative: true, records };
        Reading::new(source.clone(), q.name, q.rtype, outcome, 0)
    });
    let readings = readings.collect();
    let servers = vec![Authority { name: SERVER.into(), address }];
    Survey {
        host: domain.host.clone(),
        at,
        zone: ZoneView::Found { apex, servers, delegation },
        readings,
        routed: target.routed,
        depth: Depth::Full,
    }
}

/// The records by name, as a server holds them.
struct Held<'a> {
    zone: &'a str,
    by_owner: HashMap<&'a str, Vec<&'a Record>>,
    /// Every name that exists, those with nothing of their own included (RFC
    /// 4592, section 2.2.2).
    existing: HashSet<&'a str>,
    cuts: Vec<(String, std::collections::BTreeSet<String>)>,
}

impl<'a> Held<'a> {
    fn new(file: &'a ZoneFile) -> Self {
        let (mut by_owner, mut existing) = (HashMap::<_, Vec<_>>::new(), HashSet::new());
        for record in file.records() {
            by_owner.entry(record.owner.as_str()).or_default().push(record);
            existing.extend(names::climb(&record.owner));
        }
        let mut held = Self { zone: &file.zone, by_owner, existing, cuts: Vec::new() };
        let below = held.by_owner.keys().filter(|owner| **owner != file.zone);
        held.cuts = below
            .map(|owner| ((*owner).to_owned(), held.name_servers(owner)))
            .filter(|(_, servers)| !servers.is_empty())
            .collect();
        held
    }

    fn at(&self, name: &str) -> &[&'a Record] {
        self.by_owner.get(name).map_or(&[], Vec::as_slice)
    }

    fn name_servers(&self, name: &str) -> std::collections::BTreeSet<String> {
        let server = |r: &&Record| match &r.data {
            RecordData::Ns(server) => Some(server.clone()),
            _ => None,
        };
        self.at(name).iter().filter_map(server).collect()
    }

    /// The topmost cut at or above a name.
    fn cut(&self, name: &str) -> Option<&(String, std::collections::BTreeSet<String>)> {
        let above = self.cuts.iter().filter(|(cut, _)| names::is_within(name, cut));
        above.min_by_key(|(cut, _)| cut.len())
    }

    fn answer(&self, name: &str, rtype: RecordType) -> (Rcode, Vec<Record>) {
        if self.cut(name).is_some() {
            return (Rcode::NoError, Vec::new());
        }
        let (mut records, mut at) = (Vec::new(), name.to_owned());
        for _ in 0..LONGEST_CHAIN {
            let Some(own) = self.own(&at) else {
                let rcode = if records.is_empty() { Rcode::NxDomain } else { Rcode::NoError };
                return (rcode, records);
            };
            let fits = |r: &&Record| r.data.type_name() == rtype.to_string();
            records.extend(own.iter().filter(|r| fits(r)).cloned());
            let alias = own.iter().find_map(|r| match &r.data {
                RecordData::Cname(target) => Some((r, target)),
                _ => None,
            });
            let Some((record, target)) = alias.filter(|_| rtype != RecordType::Cname) else { break };
            records.push(record.clone());
            if !names::is_within(target, self.zone) || records.iter().any(|r| r.owner == *target) {
                break;
            }
            at.clone_from(target);
        }
        (Rcode::NoError, records)
    }

    /// Records at a name, from a wildcard where the name does not exist (RFC
    /// 4592); `None` where nothing does.
    fn own(&self, name: &str) -> Option<Vec<Record>> {
        if self.existing.contains(name) {
            return Some(self.at(name).iter().map(|r| (*r).clone()).collect());
        }
        let encloser = names::climb(name).skip(1).find(|n| self.existing.contains(n))?;
        let star = format!("*.{encloser}");
        let stars = self.by_owner.get(star.as_str())?;
        Some(stars.iter().map(|r| Record { owner: name.to_owned(), ..(*r).clone() }).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    const SUB: &str = "timetable.onswick.example";

    fn rehearsed(host: &str, lines: &str) -> Rehearsal {
        let text = format!(
            "$ORIGIN onswick.example.\n$TTL 300\n@ SOA ns1 hostmaster 7 3600 600 86400 60\n@ NS ns1.harrowdns.example.\n{lines}"
        );
        rehearse(&test::domain(host), &test::platform(), &test::policy(), &text, test::now()).expect("reads")
    }

    fn codes(rehearsal: &Rehearsal) -> Vec<(&str, &[usize])> {
        rehearsal.findings.iter().map(|r| (r.finding.code.as_str(), r.lines.as_slice())).collect()
    }

    #[test]
    fn an_empty_zone_gets_what_the_sheet_asks_for_and_nothing_else() {
        let done = rehearsed(SUB, "@ MX 10 mx\n");
        assert_eq!(codes(&done), []);
        assert!(done.passes, "{done:?}");
        let added = done.amended.split_once("@ MX 10 mx\n").expect("the rest is as it was").1;
        assert_eq!(
            added.replace(test::token().as_str(), "TOKEN"),
            "; For timetable.onswick.example\n\
             _quaymark-challenge.timetable.onswick.example. 300 IN TXT \"token=TOKEN\"\n\
             timetable.onswick.example. 300 IN CNAME onswick.edge.quaymark.example.\n"
        );
    }

    #[test]
    fn what_is_in_the_way_goes_and_its_lines_are_named() {
        let done = rehearsed(SUB, "timetable A 192.0.2.7\n          A 192.0.2.8\nwww A 192.0.2.7\n");
        assert_eq!(codes(&done), [("address-foreign", &[5, 6][..])]);
        assert_eq!(done.findings[0].finding.evidence[0].source, "line 5");
        assert!(done.passes, "{:?}", done.left);
        assert!(done.amended.contains("\nwww A 192.0.2.7\n; For"), "{}", done.amended);
        assert!(!done.amended.contains("timetable A"), "{}", done.amended);
    }

    #[test]
    fn a_foreign_alias_is_changed_in_its_place() {
        let done = rehearsed(SUB, "timetable 60 CNAME shop.harrowhost.example. ; the old shop\n");
        assert!(done.amended.contains("timetable 60 CNAME onswick.edge.quaymark.example. ; the old shop\n"));
        assert!(done.passes);
    }

    #[test]
    fn under_a_cut_the_cut_goes_first_and_then_the_rest_is_judged() {
        let done = rehearsed(SUB, "timetable NS ns1.tidewell.test.\ntimetable NS ns2.tidewell.test.\n");
        assert_eq!(codes(&done), [("delegated-away", &[5, 6][..])]);
        assert!(done.passes, "{:?}\n{}", done.left, done.amended);
        assert!(!done.amended.contains("tidewell"), "{}", done.amended);
    }

    #[test]
    fn a_wildcard_answers_and_stays() {
        let done = rehearsed(SUB, "* A 192.0.2.7\n");
        assert_eq!(codes(&done), [("wildcard-answers", &[5][..])]);
        assert!(done.passes && done.amended.contains("\n* A 192.0.2.7\n"));
    }

    #[test]
    fn an_apex_gets_every_address_and_a_ca_that_may_issue() {
        let lines = "@ A 192.0.2.7\n@ MX 10 mx\n@ CAA 0 issue \"otherstamp-ca.example\"\n";
        let done = rehearsed("onswick.example", lines);
        assert!(done.passes, "{:?}\n{}", done.left, done.amended);
        for want in ["A 127.77.0.10", "A 127.77.0.11", "AAAA ::1", "CAA 0 issue \"stampworks-ca.example\""] {
            assert!(done.amended.contains(want), "no {want} in {}", done.amended);
        }
        assert!(done.amended.contains("@ MX 10 mx\n@ CAA 0 issue \"otherstamp-ca.example\"\n"));
    }

    #[test]
    fn nothing_at_all_is_left_beside_the_alias() {
        let lines =
            "timetable A 192.0.2.7\n SRV 1 2 3 x\n CAA 0 issue \"stampworks-ca.example\"\n HTTPS 1 .\n";
        let done = rehearsed(SUB, lines);
        assert_eq!(codes(&done), [("cname-beside-others", &[5, 7, 8][..])]);
        assert!(
            done.passes && !done.amended.contains("SRV") && !done.amended.contains("CAA"),
            "{}",
            done.amended
        );
    }

    #[test]
    fn a_finished_zone_is_left_as_it_is() {
        let lines = format!(
            "_quaymark-challenge.timetable TXT {}\ntimetable CNAME onswick.edge.quaymark.example.\n",
            test::token().txt_value()
        );
        let done = rehearsed(SUB, &lines);
        assert!(done.passes && done.findings.is_empty() && done.left.is_empty());
        assert!(done.amended.ends_with(&lines), "{}", done.amended);
    }

    #[test]
    fn another_zones_file_and_an_empty_one_are_refused() {
        let attempt =
            |text: &str| rehearse(&test::domain(SUB), &test::platform(), &test::policy(), text, test::now());
        let other = "$ORIGIN lowmere.test.\n@ SOA ns1 hostmaster 7 3600 600 86400 60\n";
        assert!(matches!(attempt(other), Err(RehearsalError::OtherZone { .. })));
        assert_eq!(attempt("; nothing\n"), Err(RehearsalError::Empty));
        assert!(matches!(attempt("@ A x"), Err(RehearsalError::Unreadable(_))));
    }
}

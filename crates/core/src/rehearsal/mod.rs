//! The rehearsal: judging a zone file before the customer changes anything.
//!
//! The file is asked what a survey would ask the zone's server, answered as a
//! server that loaded it would (RFC 1034, section 4.3.2), and judged like any
//! other survey. The customer's list is then carried out on the text itself.

mod carried;
mod held;

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::judge::case::Case;
use crate::judge::domain::Domain;
use crate::judge::edit::{Edit, EditKind};
use crate::judge::evidence::Evidence;
use crate::judge::finding::{Finding, Severity};
use crate::judge::findings;
use crate::judge::policy::Policy;
use crate::judge::todo;
use crate::name::dns::{self, DnsName};
use crate::name::platform::Platform;
use crate::reading::record::{RecordData, RecordType};
use crate::sheet::line::EditorType;
use crate::zonefile::{AmendError, ZoneError, ZoneFile};

pub use self::carried::apply;
use self::carried::{ByRecord, amend};

/// What the file is called where a server's name would stand.
const SERVER: &str = "the zone file";
/// Rounds of judging and amending. One is the rule; a second finds what the
/// first one uncovered, as under a delegation that went.
const ROUNDS: usize = 4;

/// Records of a file that is rehearsed, more than any zone that an editor exports.
const MOST_RECORDS: usize = 500_000;

/// What came of a rehearsal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Rehearsal {
    /// The zone that the file holds.
    pub zone: DnsName,
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
    /// What the change of a file asks for that is no change of its records.
    #[serde(default)]
    pub notes: Vec<String>,
    /// The file with those changes and no other.
    pub amended: String,
}

impl Rehearsal {
    /// Names the sheet wherever the token would have to be typed, for whoever is
    /// not shown it.
    pub fn refer_to_sheet(&mut self, token: &str) {
        self.todo.iter_mut().for_each(|edit| edit.refer_to_sheet(token));
        self.findings.iter_mut().for_each(|found| found.finding.refer_to_sheet(token));
        self.left.iter_mut().for_each(|finding| finding.refer_to_sheet(token));
    }
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
    /// It is larger than what is read.
    #[error(
        "The file has {records} records; {most} are read. Give the part of the zone at and under {host}."
    )]
    TooLarge {
        /// How many it has.
        records: usize,
        /// How many are read.
        most: usize,
        /// The domain.
        host: String,
    },
    /// It could not be amended.
    #[error(transparent)]
    NotAmended(#[from] AmendError),
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
    let origin = DnsName::new(domain.host.registered());
    let file = ZoneFile::parse(text, &origin)?;
    check(&file, domain)?;

    let domain = Domain { moved_at: now, ..domain.clone() };
    let rehearsing = Rehearsing { domain: &domain, platform, policy, now };
    let first = rehearsing.judge(&file);
    let findings = first.findings.iter().map(|finding| located(&file, finding)).collect();
    let records = file.entries.len();

    let mut round = first;
    let mut file = file;
    let mut list = Vec::new();
    let mut known = HashSet::new();
    for _ in 0..ROUNDS {
        merge(&mut list, &mut known, &round.todo);
        round.todo.retain(|edit| edit.kind != EditKind::Keep);
        if round.todo.is_empty() {
            break;
        }
        file = amend(&file, &round.todo, domain.host.as_str())?;
        round = rehearsing.judge(&file);
    }
    list.sort_by_key(|edit: &Edit| edit.kind != EditKind::Keep);
    let is_changed = list.iter().any(|edit| edit.kind != EditKind::Keep);

    let is_blocked = round.findings.iter().any(|f| f.severity == Severity::Blocker);
    Ok(Rehearsal {
        zone: file.zone.clone(),
        records,
        findings,
        todo: list,
        passes: round.passes && !is_blocked,
        left: round.findings,
        notes: if is_changed { notes(&file) } else { Vec::new() },
        amended: file.text().to_owned(),
    })
}

/// What is to be seen to before an amended file is served.
fn notes(file: &ZoneFile) -> Vec<String> {
    let mut notes = Vec::new();
    let serial = file.records().find_map(|record| match &record.data {
        RecordData::Soa(soa) => Some(soa.serial),
        _ => None,
    });
    if let Some(serial) = serial {
        notes.push(format!(
            "The serial of the SOA record stays {serial}. Where you load the file by hand, raise it, or other name \
             servers will not take the change over."
        ));
    }

    let signatures = file.records().filter(|record| record.data.type_name() == "RRSIG").count();
    if signatures > 0 {
        notes.push(format!(
            "The file is signed (RRSIG records: {signatures}). Signatures of what changes are wrong afterwards: make \
             the change where the zone is signed, or have the file signed anew before it is served."
        ));
    }
    notes
}

/// A file that can be the domain's.
fn check(file: &ZoneFile, domain: &Domain) -> Result<(), RehearsalError> {
    if file.entries.is_empty() {
        return Err(RehearsalError::Empty);
    }
    if file.entries.len() > MOST_RECORDS {
        let (records, host) = (file.entries.len(), domain.host.to_string());
        return Err(RehearsalError::TooLarge { records, most: MOST_RECORDS, host });
    }
    if !dns::is_within(domain.host.as_str(), &file.zone) {
        let host = domain.host.to_string();
        return Err(RehearsalError::OtherZone { zone: file.zone.to_string(), host });
    }
    Ok(())
}

/// Adds what a later round has beyond those before it; what was added then is
/// no news that it is kept now.
fn merge(list: &mut Vec<Edit>, known: &mut HashSet<(DnsName, EditorType, String)>, more: &[Edit]) {
    for edit in more {
        if known.insert((edit.owner.clone(), edit.rtype.clone(), edit.value.clone())) {
            list.push(edit.clone());
        }
    }
}

/// A finding with the lines of the records that it names.
fn located(file: &ZoneFile, finding: &Finding) -> Rehearsed {
    let mut finding = finding.clone();
    let edited = ByRecord::new(&finding.edits);
    let mut seen: HashMap<String, Vec<usize>> = HashMap::new();
    for (index, sighting) in finding.evidence.iter_mut().enumerate() {
        seen.entry(sighting.said.clone()).or_default().push(index);
        sighting.source = SERVER.into();
    }

    let mut lines = Vec::new();
    for entry in &file.entries {
        let line = *entry.lines.start();
        let sightings = seen.get(&entry.record.to_string());
        for index in sightings.into_iter().flatten() {
            finding.evidence[*index].source = format!("line {line}");
        }
        if sightings.is_some() || edited.find(&entry.record).is_some() {
            lines.push(line);
        }
    }
    Rehearsed { finding, lines }
}

/// Types that signing adds at every name.
const OF_SIGNING: [&str; 2] = ["RRSIG", "NSEC"];

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
        let survey = held::survey(file, self.domain, self.platform, self.now);
        let evidence = Evidence::default();
        let case = Case::new(self.domain, self.platform, &survey, &evidence, self.policy, self.now);

        let findings = findings::diagnose(&case);
        let mut todo = todo::list(&case, &findings);
        todo.extend(unasked(&case, file, &todo));
        Round { passes: case.is_owned() && case.is_routed(), findings, todo }
    }
}

/// Deletions of what no survey asks for and a CNAME leaves no place for.
fn unasked(case: &Case<'_>, file: &ZoneFile, todo: &[Edit]) -> Vec<Edit> {
    let routed = &case.sheet.routed;
    let gets_alias = todo.iter().any(|edit| {
        edit.owner == *routed
            && edit.rtype == EditorType::Of(RecordType::Cname)
            && edit.kind != EditKind::Delete
    });
    if !gets_alias {
        return Vec::new();
    }

    // What signing makes of a name stands beside an alias too (RFC 4034, section 3).
    let is_other = |data: &RecordData| data.rtype().is_none() && !OF_SIGNING.contains(&data.type_name());
    let others = file.records().filter(|record| record.owner == *routed && is_other(&record.data));
    others.map(|record| case.edit_record(EditKind::Delete, record)).collect()
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
    fn a_redirected_subtree_hides_what_stands_in_it() {
        let done =
            rehearsed(SUB, "@ DNAME elsewhere.example.\ntimetable CNAME onswick.edge.quaymark.example.\n");
        assert_eq!(codes(&done), [("dname-above", &[5][..])]);
        let synthesised =
            |edit: &Edit| edit.kind == EditKind::Delete && edit.value.contains("timetable.elsewhere");
        assert!(!done.todo.iter().any(synthesised), "{:?}", done.todo);
    }

    #[test]
    fn signatures_stand_beside_an_alias_and_are_told_of() {
        let done =
            rehearsed(SUB, "timetable CNAME shop.harrowhost.example.\n RRSIG CNAME 13 3 60 1 1 1 @ AAAA\n");
        assert!(done.passes && done.amended.contains("RRSIG"), "{}", done.amended);
        assert!(done.notes[0].contains("The serial of the SOA record stays 7."), "{:?}", done.notes);
        assert!(done.notes[1].contains("RRSIG records: 1"), "{:?}", done.notes);
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

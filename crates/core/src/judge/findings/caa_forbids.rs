//! `caa-forbids`: a CAA record lets only other certification authorities issue.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{Edit, EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::caa::{self, Objection, Wish};
use crate::reading::climb::CaaSet;
use crate::reading::record::{Record, RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::CaaForbids,
    severity: Severity::Blocker,
    gate: GateName::Certificate,
    about: "CAA records (RFC 8659) name the certification authorities that may issue, and ours is not \
            among them.",
    yields: Yields::To(&[Code::NameUnregistered, Code::Unreachable]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let identity = case.policy.ca_identities.first()?;
    let wish = Wish {
        identities: &case.policy.ca_identities,
        wildcard: case.domain.wildcard,
        method: case.domain.method(case.policy),
        account: case.evidence.account.as_deref(),
    };

    // A CA asks one of the servers, and it may be any.
    let sets = case.survey.caa_sets();
    let forbids = |set: &CaaSet<'_>| caa::objection(&set.records, &wish);
    let (CaaSet { owner, records }, objection) =
        sets.iter().find_map(|set| forbids(set).map(|objection| (set, objection)))?;

    let at = DnsName::new(owner);
    let edits = match &objection {
        Objection::Malformed(_) => {
            let broken = records.iter().filter(|r| is_broken(&r.data, &wish));
            let deleted = broken.map(|r| edit(case, EditKind::Delete, &at, &r.data));
            deleted.chain(allowing(case, &at, records, identity)).collect()
        }
        Objection::Critical(unknown) => {
            let critical = records.iter().filter(|r| is_tag(&r.data, unknown));
            critical.map(|r| edit(case, EditKind::Delete, &at, &r.data)).collect()
        }
        Objection::Issuer | Objection::Account(_) | Objection::Method(_) | Objection::Repeated(_) => {
            allowing(case, &at, records, identity)
        }
    };

    Some(Diagnosis {
        remedy: format!("{} Without it no certificate may be issued for this domain.", sentences(&edits)),
        remark: format!(
            "The CAA set found by climbing stands at {owner}; no order is placed. {}{}",
            why(&objection),
            if sets.len() > 1 {
                " The name servers do not agree about it, and a CA may ask any of them."
            } else {
                ""
            }
        ),
        evidence: records.iter().map(|r| evidence(case, owner, r)).collect(),
        edits,
        ..Diagnosis::default()
    })
}

/// Edits that let our issuer in beside those that are there.
fn allowing(case: &Case<'_>, at: &DnsName, records: &[&Record], identity: &str) -> Vec<Edit> {
    let is_wild = case.domain.wildcard && records.iter().any(|r| is_tag(&r.data, "issuewild"));
    let tag = if is_wild { "issuewild" } else { "issue" };

    let ours = RecordData::Caa { flags: 0, tag: tag.into(), value: identity.into() };
    let mut edits = vec![edit(case, EditKind::Add, at, &ours)];
    let kept = records.iter().filter(|r| is_tag(&r.data, tag) && !forbids_all(&r.data));
    edits.extend(kept.map(|r| edit(case, EditKind::Keep, at, &r.data)));
    edits
}

/// The set may have been found behind an alias; it is edited where it was asked
/// for.
fn edit(case: &Case<'_>, kind: EditKind, at: &DnsName, data: &RecordData) -> Edit {
    case.edit(kind, RecordType::Caa.into(), at, data.to_string())
}

fn why(objection: &Objection) -> String {
    match objection {
        Objection::Issuer => "It names other issuers than ours, or none.".into(),
        Objection::Account(wanted) => format!("It lets our issuer issue for the account {wanted} alone."),
        Objection::Method(allowed) => format!("It lets our issuer validate by {allowed} alone."),
        Objection::Repeated(tag) => {
            format!("It lets our issuer issue with the parameter {tag} twice, which nothing can satisfy.")
        }
        Objection::Malformed(value) => {
            format!("It has the value {value}, which breaks the grammar and names nobody.")
        }
        Objection::Critical(tag) => {
            format!("It has the critical property {tag}, which issuers must understand.")
        }
    }
}

fn is_tag(data: &RecordData, wanted: &str) -> bool {
    matches!(data, RecordData::Caa { tag, .. } if tag.as_bytes().eq_ignore_ascii_case(wanted.as_bytes()))
}

/// Whether a value lets nobody issue.
fn forbids_all(data: &RecordData) -> bool {
    matches!(data, RecordData::Caa { value, .. } if caa::allows_nobody(value))
}

/// Whether a value is meant for our issuer, and says nothing by the grammar.
fn is_broken(data: &RecordData, wish: &Wish<'_>) -> bool {
    match data {
        RecordData::Caa { value, .. } => {
            caa::allows_nobody(value) && caa::means_one_of(value, wish.identities)
        }
        _ => false,
    }
}

fn evidence(case: &Case<'_>, owner: &str, record: &Record) -> Sighting {
    let mut asked = case.survey.of(owner, RecordType::Caa);
    match asked.find(|reading| reading.answer().is_some_and(|answer| answer.contains(record))) {
        Some(reading) => Sighting::of(&reading.source, record),
        None => Sighting::of("unknown", record),
    }
}

#[cfg(test)]
mod tests {
    use crate::test;

    fn with_caa(host: &str, caa: &[&'static str]) -> Vec<crate::judge::finding::Finding> {
        let mut zone = test::healthy(host);
        zone.extend(caa);
        test::diagnose(host, &zone)
    }

    #[test]
    fn another_issuer_alone_forbids_and_is_kept() {
        let found = with_caa("onswick.example", &["@ CAA issue other-ca.example"]);
        assert_eq!(test::codes(&found), ["caa-forbids"]);
        assert!(found[0].remedy.starts_with(
            "Add the CAA record 0 issue \"stampworks-ca.example\" at @. \
             Keep the CAA record 0 issue \"other-ca.example\" at @."
        ));
    }

    #[test]
    fn a_set_at_the_parent_counts_for_a_subdomain() {
        let found = with_caa("www.onswick.example", &["@ CAA issue ;"]);
        assert_eq!(test::codes(&found), ["caa-forbids"]);
    }

    #[test]
    fn our_issuer_or_no_issue_property_allows() {
        for caa in ["@ CAA issue stampworks-ca.example", "@ CAA iodef mailto:post@onswick.example"] {
            assert_eq!(with_caa("onswick.example", &[caa]), [], "{caa}");
        }
        let bound = "@ CAA issue stampworks-ca.example; validationmethods=dns-01";
        let found = with_caa("onswick.example", &[bound]);
        assert_eq!(test::codes(&found), ["caa-forbids"]);
        assert!(found[0].remark.ends_with("It lets our issuer validate by dns-01 alone."));
        let both = ["@ CAA issue other-ca.example", "@ CAA issue StampWorks-CA.example; policy=x"];
        assert_eq!(with_caa("onswick.example", &both), []);
    }
}

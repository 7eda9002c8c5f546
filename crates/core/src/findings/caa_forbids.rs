//! `caa-forbids`: a CAA record lets only other certification authorities issue.

use crate::caa::{self, Objection, Wish};
use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences, sighting};
use crate::gate::GateName;
use crate::reading::{Record, RecordData, Source};

pub(super) const ENTRY: Entry = Entry {
    code: "caa-forbids",
    severity: Severity::Blocker,
    gate: GateName::Certificate,
    about: "CAA records (RFC 8659) name the certification authorities that may issue, and ours is not \
            among them.",
    yields_to: &["name-unregistered", "unreachable"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let identity = case.policy.ca_identities.first()?;
    let (owner, records) = case.survey.relevant_caa()?;
    let wish = Wish {
        identities: &case.policy.ca_identities,
        wildcard: case.domain.wildcard,
        method: case.domain.method(case.policy),
        account: case.evidence.account.as_deref(),
    };
    let objection = caa::objection(&records, &wish)?;
    let tag = if case.domain.wildcard && has(&records, "issuewild") { "issuewild" } else { "issue" };
    let edits = match &objection {
        Objection::Critical(unknown) => {
            let critical = records.iter().filter(|r| is_tag(&r.data, unknown));
            critical.map(|r| case.edit(EditKind::Delete, "CAA", owner, r.data.to_string())).collect()
        }
        _ => {
            let value = format!("0 {tag} \"{identity}\"");
            let mut edits = vec![case.edit(EditKind::Add, "CAA", owner, value)];
            let kept = records.iter().filter(|r| is_tag(&r.data, tag) && !forbids_all(&r.data));
            edits.extend(kept.map(|r| case.edit(EditKind::Keep, "CAA", owner, r.data.to_string())));
            edits
        }
    };
    Some(Diagnosis {
        remedy: format!("{} Without it no certificate may be issued for this domain.", sentences(&edits)),
        remark: format!(
            "The CAA set found by climbing stands at {owner}; no order is placed. {}",
            why(&objection)
        ),
        evidence: records.iter().map(|r| evidence(case, owner, r)).collect(),
        edits,
        ..Diagnosis::default()
    })
}

fn why(objection: &Objection) -> String {
    match objection {
        Objection::Issuer => "It names other issuers than ours, or none.".into(),
        Objection::Account(wanted) => format!("It lets our issuer issue for the account {wanted} alone."),
        Objection::Method(allowed) => format!("It lets our issuer validate by {allowed} alone."),
        Objection::Critical(tag) => {
            format!("It has the critical property {tag}, which issuers must understand.")
        }
    }
}

fn is_tag(data: &RecordData, wanted: &str) -> bool {
    matches!(data, RecordData::Caa { tag, .. } if tag.eq_ignore_ascii_case(wanted))
}

fn has(records: &[&Record], tag: &str) -> bool {
    records.iter().any(|r| is_tag(&r.data, tag))
}

/// A value of `;` forbids everyone.
fn forbids_all(data: &RecordData) -> bool {
    matches!(data, RecordData::Caa { value, .. } if value.trim_start().starts_with(';') || value.trim().is_empty())
}

fn evidence(case: &Case<'_>, owner: &str, record: &Record) -> crate::finding::Sighting {
    let asked = case.survey.of(owner, crate::reading::RecordType::Caa);
    let source = asked.filter(|r| r.answer().is_some_and(|a| a.contains(record))).map(|r| &r.source).next();
    let unknown = Source::Vantage { name: "unknown".into() };
    sighting(source.unwrap_or(&unknown), record)
}

#[cfg(test)]
mod tests {
    use crate::test;

    fn with_caa(host: &str, caa: &[&'static str]) -> Vec<crate::finding::Finding> {
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

//! `caa-forbids`: a CAA record lets only other certification authorities issue.

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
    let issuers: Vec<String> = records.iter().filter_map(|r| issuer(&r.data)).collect();
    // A set without the issue property restricts nothing (RFC 8659, section 4.2).
    if issuers.is_empty() || issuers.iter().any(|i| case.policy.ca_identities.contains(i)) {
        return None;
    }
    let mut edits = vec![case.edit(EditKind::Add, "CAA", owner, format!("0 issue \"{identity}\""))];
    let kept = records.iter().filter(|r| issuer(&r.data).is_some_and(|i| !i.is_empty()));
    edits.extend(kept.map(|r| case.edit(EditKind::Keep, "CAA", owner, r.data.to_string())));
    Some(Diagnosis {
        remedy: format!("{} Without it no certificate may be issued for this domain.", sentences(&edits)),
        remark: format!("The CAA set found by climbing stands at {owner}; no order is placed."),
        evidence: records.iter().map(|r| evidence(case, owner, r)).collect(),
        edits,
        ..Diagnosis::default()
    })
}

/// The issuer's domain in an `issue` property, without parameters; empty for
/// `;`, which forbids everyone.
fn issuer(data: &RecordData) -> Option<String> {
    match data {
        RecordData::Caa { tag, value, .. } if tag.eq_ignore_ascii_case("issue") => {
            Some(value.split(';').next().unwrap_or("").trim().to_ascii_lowercase())
        }
        _ => None,
    }
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
        let both = ["@ CAA issue other-ca.example", "@ CAA issue StampWorks-CA.example; policy=x"];
        assert_eq!(with_caa("onswick.example", &both), []);
    }
}

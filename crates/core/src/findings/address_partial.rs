//! `address-partial`: some of our addresses are missing.

use crate::finding::{Case, Diagnosis, Entry, Severity, sentences};
use crate::gate::GateName;
use crate::reading::RecordData;

pub(super) const ENTRY: Entry = Entry {
    code: "address-partial",
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "Some of the platform's addresses are published and others are missing.",
    yields_to: &[
        "servers-disagree",
        "choices-mixed",
        "cname-beside-others",
        "wrong-type",
        "wildcard-answers",
        "cname-foreign",
        "address-foreign",
    ],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    // A stray AAAA has its own finding, whose remedy adds what is missing.
    let split = case.first_split(|s| {
        let some = !s.ours_v4.is_empty() || !s.ours_v6.is_empty();
        let lacking = !s.missing_v4.is_empty() || (!s.missing_v6.is_empty() && s.foreign_v6.is_empty());
        some && lacking
    })?;
    let mut edits = case.additions("A", &split.missing_v4);
    if split.foreign_v6.is_empty() {
        edits.extend(case.additions("AAAA", &split.missing_v6));
    }
    Some(Diagnosis {
        remedy: format!("{} The others are right; keep them.", sentences(&edits)),
        remark: "All addresses of the ingress are needed, so that one may be taken out of service.".into(),
        evidence: case.host_sightings(|data| matches!(data, RecordData::A(_) | RecordData::Aaaa(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_missing_ones_are_named() {
        let found = test::diagnose("onswick.example", &["@ A 127.77.0.11", "@ AAAA ::1"]);
        assert_eq!(test::codes(&found), ["address-partial"]);
        assert!(found[0].remedy.starts_with("Add the A record 127.77.0.10 at @. The others are right"));
    }
}

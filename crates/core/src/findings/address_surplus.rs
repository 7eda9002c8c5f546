//! `address-surplus`: ours are there, and others beside them.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences};
use crate::gate::GateName;
use crate::reading::RecordData;

pub(super) const ENTRY: Entry = Entry {
    code: "address-surplus",
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "Beside the platform's A records stands another one, which takes its share of the visitors.",
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
    let split = case.first_split(|s| !s.foreign_v4.is_empty() && !s.ours_v4.is_empty())?;
    let mut edits = case.deletions("A", &split.foreign_v4);
    edits.extend(case.deletions("AAAA", &split.foreign_v6));
    let (kept, all) = (split.ours_v4.len(), split.ours_v4.len() + split.foreign_v4.len());
    let keep = split.ours_v4.iter().map(|a| case.edit_host(EditKind::Keep, "A", a.to_string()));
    edits.extend(keep);
    Some(Diagnosis {
        remedy: format!("{} Only {kept} of {all} addresses are ours.", sentences(&edits)),
        remark: "Resolvers hand the addresses out in turn, so some visitors and the certification \
                 authority may reach the other host."
            .into(),
        evidence: case.host_sightings(|data| matches!(data, RecordData::A(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_extra_one_is_deleted_and_ours_are_kept() {
        let mut zone = test::healthy("onswick.example");
        zone.push("@ A 192.0.2.7");
        let found = test::diagnose("onswick.example", &zone);
        assert_eq!(test::codes(&found), ["address-surplus"]);
        assert!(found[0].remedy.starts_with(
            "Delete the A record 192.0.2.7 at @. Keep the A record 127.77.0.10 at @. Keep the A record"
        ));
    }
}

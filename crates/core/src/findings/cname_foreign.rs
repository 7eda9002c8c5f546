//! `cname-foreign`: the name is an alias of somebody else's host.

use crate::finding::{Case, Diagnosis, Edit, EditKind, Entry, Severity, sentences};
use crate::gate::GateName;
use crate::reading::RecordData;
use crate::survey::HostView;

pub(super) const ENTRY: Entry = Entry {
    code: "cname-foreign",
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The name has a CNAME record that points at another host than the platform's, usually one left \
            by the former host.",
    yields_to: &[
        "fronted",
        "servers-disagree",
        "value-doubled",
        "cname-at-apex",
        "choices-mixed",
        "cname-beside-others",
        "cname-chain-broken",
        "wildcard-answers",
    ],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let canonical = &case.sheet.canonical;
    let views = case.survey.authority_views();
    let away = |v: &HostView| Some(v.cname()?.to_owned()).filter(|_| !v.chain.contains(canonical));
    let target = views.iter().find_map(|(_, v)| away(v))?;
    let edit = case.edit_host(EditKind::Change, "CNAME", canonical.clone());
    let edits = vec![Edit { was: Some(target.clone()), ..edit }];
    Some(Diagnosis {
        remedy: format!("{} It now points at {target}, so visitors go there.", sentences(&edits)),
        remark: format!("Expected the canonical host {canonical}."),
        evidence: case.host_sightings(|data| matches!(data, RecordData::Cname(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_cname_is_changed_to_the_canonical_host() {
        let found = test::diagnose("timetable.onswick.example", &["timetable CNAME shop.harrowhost.example"]);
        assert_eq!(test::codes(&found), ["cname-foreign"]);
        assert_eq!(
            found[0].remedy,
            "Change the CNAME record at timetable to onswick.edge.quaymark.example. \
             It now points at shop.harrowhost.example, so visitors go there."
        );
    }
}

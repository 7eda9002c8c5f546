//! `cname-foreign`: the name is an alias of somebody else's host.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences};
use crate::gate::GateName;
use crate::reading::RecordData;

pub(super) const ENTRY: Entry = Entry {
    code: "cname-foreign",
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The name has a CNAME record that points at another host than the platform's, usually one left \
            by the former host.",
    yields_to: &["name-unregistered", "unreachable"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let canonical = &case.sheet.canonical;
    let views = case.survey.authority_views();
    let target = views.iter().filter_map(|(_, v)| v.cname.as_ref()).find(|t| *t != canonical)?;
    let edits = if case.sheet.apex {
        vec![case.edit_host(EditKind::Delete, "CNAME", target.clone())]
    } else {
        vec![case.edit_host(EditKind::Change, "CNAME", canonical.clone())]
    };
    Some(Diagnosis {
        gate: None,
        remedy: format!("{} It now points at {target}, so visitors go there.", sentences(&edits)),
        remark: format!("Expected the canonical host {canonical}."),
        evidence: case.host_sightings(|data| matches!(data, RecordData::Cname(_))),
        edits,
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

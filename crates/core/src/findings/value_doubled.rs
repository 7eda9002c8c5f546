//! `value-doubled`: the editor added the zone to a target without a final dot.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences};
use crate::gate::GateName;
use crate::reading::RecordData;
use crate::sheet::Way;

pub(super) const ENTRY: Entry = Entry {
    code: "value-doubled",
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The CNAME points at the canonical host with the customer's own zone behind it: the editor \
            takes a value without a final dot as relative to the zone (RFC 1035, section 5.1).",
    yields_to: &["servers-disagree"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let canonical = &case.sheet.canonical;
    let doubled = format!("{canonical}.{}", case.sheet.zone);
    let views = case.survey.authority_views();
    views.iter().find(|(_, view)| view.cname() == Some(&doubled))?;
    if case.sheet.apex {
        return None;
    }
    let edit = case.edit_host(EditKind::Change, "CNAME", canonical.clone());
    let edits = vec![crate::finding::Edit { was: Some(doubled.clone()), ..edit }];
    let dotted = case.sheet.by(Way::Cname).next().is_some_and(|l| l.value_field.ends_with('.'));
    let hint = if dotted {
        "Type the dot at its end too."
    } else {
        "If it happens again, put a dot at the end of the value."
    };
    Some(Diagnosis {
        remedy: format!("{} It now points at {doubled}, which does not exist. {hint}", sentences(&edits)),
        remark: format!("The editor added {} to a value without a final dot.", case.sheet.zone),
        evidence: case.host_sightings(|data| matches!(data, RecordData::Cname(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_zone_behind_the_target_gives_it_away() {
        let found = test::diagnose(
            "timetable.onswick.example",
            &["timetable CNAME onswick.edge.quaymark.example.onswick.example"],
        );
        assert_eq!(test::codes(&found), ["value-doubled"]);
        assert!(found[0].remedy.ends_with("put a dot at the end of the value."));
    }
}

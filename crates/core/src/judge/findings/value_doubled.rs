//! `value-doubled`: the editor added the zone to a target without a final dot.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::reading::record::RecordData;
use crate::sheet::line::Choice;

pub(super) const ENTRY: Entry = Entry {
    code: Code::ValueDoubled,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The CNAME points at the canonical host with the customer's own zone behind it: the editor \
            takes a value without a final dot as relative to the zone (RFC 1035, section 5.1).",
    yields: Yields::To(&[Code::ServersDisagree]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let doubled = case.sheet.zone.child(&case.sheet.canonical);
    let stands = case.views.iter().any(|(_, view)| view.cname() == Some(&doubled));
    if case.sheet.apex || !stands {
        return None;
    }

    let edits = vec![case.change_cname(&doubled)];
    let takes_dot = case.sheet.by(Choice::Cname).next().is_some_and(|l| l.value_field.ends_with('.'));
    let hint = if takes_dot {
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

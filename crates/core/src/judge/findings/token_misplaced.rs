//! `token-misplaced`: the right token at the wrong name.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::record::{Record, RecordData, RecordType};
use crate::sheet::line::Purpose;

pub(super) const ENTRY: Entry = Entry {
    code: Code::TokenMisplaced,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The token is published, but at another name: without the underscore, at the host itself, or \
            at the label of a name above.",
    yields: Yields::To(&[Code::ServersDisagree, Code::HostDoubled]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    if case.is_owned() {
        return None;
    }
    let line = case.sheet.preferred(Purpose::Ownership).next()?;

    let names = case.target.misplaced(&case.sheet.zone);
    let texts = names.iter().flat_map(|name| case.own(name, RecordType::Txt));
    let held: Vec<_> = texts.filter(|(_, record)| is_misplaced(case, record, &line.value)).collect();
    held.first()?;

    let mut edits = case.edit_records(EditKind::Delete, &held);
    edits.push(case.publish(line));
    Some(Diagnosis {
        remedy: format!("{} The value is right, the host is not.", sentences(&edits)),
        remark: format!("Expected at {}.", line.owner),
        evidence: Sighting::of_all(&held),
        edits,
        ..Diagnosis::default()
    })
}

/// Whether a record holds the token, or stands at a name that was made of it: the
/// two boxes were taken for each other.
fn is_misplaced(case: &Case<'_>, record: &Record, token: &str) -> bool {
    let RecordData::Txt(text) = &record.data else { return false };
    let squeezed: String = text.to_text().chars().filter(|c| !c.is_whitespace() && *c != '"').collect();
    let is_named_so = record.owner == case.sheet.zone.child(token);

    is_named_so || squeezed.trim_end_matches('.').eq_ignore_ascii_case(token)
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_token_is_found_where_people_put_it() {
        for place in ["quaymark-challenge.timetable", "_quaymark-challenge", "timetable"] {
            let line = format!("{place} TXT {}", test::token().txt_value());
            let found = test::diagnose("timetable.onswick.example", &[&line]);
            assert_eq!(test::codes(&found), ["token-misplaced"], "{place}");
            assert!(
                found[0].remedy.contains(&format!("at {place}. Add the TXT record")),
                "{}",
                found[0].remedy
            );
        }
    }

    #[test]
    fn a_copy_beside_the_right_one_is_no_trouble() {
        let copy = format!("_quaymark-challenge TXT {}", test::token().txt_value());
        let mut zone = test::healthy("timetable.onswick.example");
        zone.push(&copy);
        assert!(test::diagnose("timetable.onswick.example", &zone).is_empty());
    }
}

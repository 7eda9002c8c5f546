//! `host-doubled`: a full name was typed into a box that adds the zone.

use crate::finding::{Case, Diagnosis, Edit, EditKind, Entry, Severity, Sighting, sentences, sighting};
use crate::gate::GateName;
use crate::reading::{Record, RecordType};
use crate::sheet::{Line, Purpose};

pub(super) const ENTRY: Entry = Entry {
    code: "host-doubled",
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "A full name was typed into a host box that adds the zone by itself, so the record stands at \
            a name that ends in the zone twice.",
    yields_to: &["servers-disagree"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let (mut evidence, mut edits, mut gate) = (Vec::new(), Vec::new(), None);
    let ownership = case.sheet.preferred(Purpose::Ownership);
    for line in ownership.chain(case.sheet.by(case.way())) {
        let Some((mut seen, stray)) = doubled(case, line) else { continue };
        gate = gate.or(Some(line.purpose.gate()));
        evidence.append(&mut seen);
        edits.extend(stray);
        edits.push(case.publish(line));
    }
    if edits.is_empty() {
        return None;
    }
    let zone = &case.sheet.zone;
    Some(Diagnosis {
        gate,
        remedy: format!(
            "{} Your DNS editor adds {zone} by itself, so type only the short host.",
            sentences(&edits)
        ),
        remark: format!("The host box of this editor is relative to {zone}; the full name was typed."),
        evidence,
        edits,
        ..Diagnosis::default()
    })
}

/// Where the line is not at its own name but at the doubled one: the evidence,
/// and the edits that delete it there.
fn doubled(case: &Case<'_>, line: &Line) -> Option<(Vec<Sighting>, Vec<Edit>)> {
    let asked = if line.purpose == Purpose::Ownership { RecordType::Txt } else { RecordType::A };
    if line.rtype == RecordType::Aaaa {
        return None;
    }
    let met = |record: &&Record, owner: &str| record.owner == owner && line.is_met_by(&record.data);
    let right =
        case.survey.authority(&line.owner, asked).any(|(_, rs)| rs.iter().any(|r| met(&r, &line.owner)));
    let wrong = format!("{}.{}", line.owner, case.sheet.zone);
    let stray: Vec<_> = case
        .survey
        .authority(&wrong, asked)
        .flat_map(|(source, rs)| rs.iter().filter(|r| met(r, &wrong)).map(move |r| sighting(source, r)))
        .collect();
    if right || stray.is_empty() {
        return None;
    }
    let delete = case.edit(EditKind::Delete, &line.rtype.to_string(), &wrong, line.value.clone());
    Some((stray, vec![delete]))
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_doubled_record_is_deleted_and_the_short_one_added() {
        let found = test::diagnose(
            "timetable.onswick.example",
            &["timetable.onswick.example CNAME onswick.edge.quaymark.example"],
        );
        assert_eq!(test::codes(&found), ["host-doubled"]);
        assert!(found[0].remedy.contains(
            "Delete the CNAME record onswick.edge.quaymark.example at timetable.onswick.example. \
             Add the CNAME record onswick.edge.quaymark.example at timetable."
        ));
    }

    #[test]
    fn a_doubled_token_is_found_and_a_copy_beside_the_right_one_is_no_trouble() {
        let token = test::token().txt_value();
        let doubled = format!("_quaymark-challenge.onswick.example TXT {token}");
        let right = format!("_quaymark-challenge TXT {token}");
        assert_eq!(test::codes(&test::diagnose("onswick.example", &[&doubled])), ["host-doubled"]);
        assert!(test::diagnose("onswick.example", &[&doubled, &right]).is_empty());
    }
}

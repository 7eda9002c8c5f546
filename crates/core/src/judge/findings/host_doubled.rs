//! `host-doubled`: a full name was typed into a box that adds the zone.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::answer::Source;
use crate::reading::record::{Record, RecordType};
use crate::sheet::line::{Line, Purpose};

pub(super) const ENTRY: Entry = Entry {
    code: Code::HostDoubled,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "A full name was typed into a host box that adds the zone by itself, so the record stands at \
            a name that ends in the zone twice.",
    yields: Yields::To(&[Code::ServersDisagree]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let mut evidence = Vec::new();
    let mut edits = Vec::new();
    let mut gate = None;

    let ownership = case.sheet.preferred(Purpose::Ownership);
    for line in ownership.chain(case.sheet.by(case.choice())) {
        let stray = doubled(case, line);
        if stray.is_empty() {
            continue;
        }
        gate = gate.or(Some(GateName::of(line.purpose)));
        edits.push(case.edit_record(EditKind::Delete, stray[0].1));
        edits.push(case.publish(line));
        evidence.extend(Sighting::of_all(&stray));
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

/// The records that meet the line at the doubled name; none where it is met at
/// its own.
fn doubled<'a>(case: &'a Case<'_>, line: &Line) -> Vec<(&'a Source, &'a Record)> {
    let asked = match (line.purpose, line.rtype) {
        (Purpose::Ownership, _) => RecordType::Txt,
        // Only IPv4 addresses are asked for at the doubled name.
        (_, RecordType::Aaaa) => return Vec::new(),
        _ => RecordType::A,
    };

    if met(case, line, &line.owner, asked).next().is_some() {
        return Vec::new();
    }
    let wrong = DnsName::new(format!("{}.{}", line.owner, case.sheet.zone));
    met(case, line, &wrong, asked).collect()
}

fn met<'a>(
    case: &'a Case<'_>,
    line: &Line,
    owner: &DnsName,
    asked: RecordType,
) -> impl Iterator<Item = (&'a Source, &'a Record)> {
    let readings = case.survey.readings.iter().filter(move |r| r.name == *owner && r.rtype == asked);
    let usable = readings.filter(|r| r.source.is_authority() && !r.is_lame());
    let records =
        usable.flat_map(|r| r.answer().unwrap_or_default().iter().map(move |record| (&r.source, record)));
    records.filter(move |(_, record)| record.owner == *owner && line.is_met_by(&record.data))
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

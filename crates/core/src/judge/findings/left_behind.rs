//! `left-behind`: records still lead to the platform after the domain has left.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{Edit, EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::judge::standing::Standing;
use crate::reading::answer::Source;
use crate::reading::record::{Record, RecordType};
use crate::sheet::line::Purpose;

pub(super) const ENTRY: Entry = Entry {
    code: Code::LeftBehind,
    severity: Severity::Warning,
    gate: GateName::Routing,
    about: "The domain has left the platform, and records of its sheet still stand in the zone: visitors are led \
            to a host that no longer answers for it.",
    yields: Yields::To(&[]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    case.domain.ties.ending?;
    let left = left(case);
    let (_, first) = left.first()?;

    let mut edits: Vec<Edit> = Vec::new();
    for (_, record) in &left {
        let edit = case.edit_record(EditKind::Delete, record);
        if !edits.contains(&edit) {
            edits.push(edit);
        }
    }

    Some(Diagnosis {
        remedy: format!(
            "{} They are from the time on this platform, which no longer answers here.",
            sentences(&edits)
        ),
        remark: format!("{} records of the sheet are still there, {} among them.", edits.len(), first.owner),
        evidence: Sighting::of_all(&left),
        edits,
        ..Diagnosis::default()
    })
}

/// Records of the sheet that stand there still. What leads to the platform may be
/// of another claim that has the name now.
fn left<'a>(case: &'a Case<'_>) -> Vec<(&'a Source, &'a Record)> {
    let is_free = case.domain.ties.standing == Standing::Free;
    let lines = case.sheet.lines.iter().filter(|line| is_free || line.purpose == Purpose::Ownership);

    let mut left = Vec::new();
    for line in lines {
        // An alias is read where an address was asked for.
        let asked = if line.rtype == RecordType::Cname { RecordType::A } else { line.rtype };
        let held = case.own(&line.owner, asked);
        left.extend(held.filter(|(source, record)| source.is_authority() && line.is_met_by(&record.data)));
    }
    left
}

#[cfg(test)]
mod tests {
    use crate::judge::domain::{Domain, Ties};
    use crate::judge::finding::Finding;
    use crate::judge::standing::{Ending, Standing};
    use crate::test;

    fn found(standing: Standing, lines: &[&str]) -> Vec<Finding> {
        let host = "timetable.onswick.example";
        let ties = Ties { standing, ending: Some(Ending::Released), ..Ties::default() };
        test::judge(&Domain { ties, ..test::domain(host) }, &test::survey(host, lines))
    }

    #[test]
    fn what_is_of_the_sheet_is_to_be_deleted_and_nothing_else_matters() {
        let healthy = test::healthy("timetable.onswick.example");
        let all = found(Standing::Free, &healthy);
        assert_eq!(test::codes(&all), ["left-behind"]);
        assert_eq!(all[0].edits.len(), 2, "{:?}", all[0].edits);
        assert_eq!(found(Standing::Free, &["timetable A 192.0.2.7"]), []);
    }

    #[test]
    fn of_a_name_that_another_has_the_token_alone_is_left() {
        let healthy = test::healthy("timetable.onswick.example");
        let token = found(Standing::Behind, &healthy);
        assert!(token[0].remedy.starts_with("Delete the TXT record"), "{}", token[0].remedy);
        assert_eq!(token[0].edits.len(), 1);
    }
}

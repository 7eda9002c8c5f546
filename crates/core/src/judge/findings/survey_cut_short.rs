//! `survey-cut-short`: a zone asks for more than one look may cost.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::SurveyCutShort,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The zone takes more questions, servers, records or time than one look may cost, so that a part of it was \
            not read. No gate is passed on a part.",
    yields: Yields::To(&[]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let cuts = &case.survey.cuts;
    if cuts.is_empty() {
        return None;
    }

    let said: Vec<_> = cuts.iter().map(ToString::to_string).collect();
    let mut remedies: Vec<_> = cuts.iter().map(|cut| cut.remedy()).collect();
    remedies.dedup();
    Some(Diagnosis {
        remedy: format!("{} A part of the zone was not read: {}.", remedies.join(" "), said.join("; ")),
        remark: format!(
            "Whoever runs the zone may be at fault, or may do it on purpose. The limits are options of serve: {}.",
            cuts.iter().map(|cut| cut.limit.as_str()).collect::<Vec<_>>().join(", ")
        ),
        evidence: cuts.iter().map(|cut| Sighting::new(cut.at.as_str(), cut.limit.as_str())).collect(),
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::reading::cut::{Cut, Limit};
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    #[test]
    fn what_was_left_out_is_told_with_what_to_change() {
        let mut survey = test::survey(HOST, &test::healthy(HOST));
        for limit in Limit::ALL {
            survey.cuts = vec![Cut { limit: *limit, at: "onswick.example".into(), most: 32 }];
            let found = test::judge(&test::domain(HOST), &survey);
            assert_eq!(test::codes(&found), ["survey-cut-short"]);
            assert!(found[0].remedy.contains("onswick.example") && found[0].remedy.contains("32"), "{limit}");
            assert!(found[0].remark.contains(limit.as_str()));
        }
    }
}

//! `cname-chain-broken`: the alias leads to a name that has no address.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences};
use crate::gate::GateName;
use crate::reading::{Reading, RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: "cname-chain-broken",
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The CNAME points at a name that does not exist, has no address, or leads back in a circle: a \
            slip of the pen in the target, or a host that was given up.",
    yields_to: &[
        "fronted",
        "servers-disagree",
        "value-doubled",
        "cname-at-apex",
        "choices-mixed",
        "cname-beside-others",
        "dnssec-broken",
        "wildcard-answers",
    ],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let canonical = &case.sheet.canonical;
    let views = case.survey.authority_views();
    let (_, view) = views.iter().find(|(_, v)| v.cname().is_some() && !v.chain.contains(canonical))?;
    let target = view.cname()?;
    let (end, why) = broken_end(case)?;
    let edit = case.edit_host(EditKind::Change, "CNAME", canonical.clone());
    let edits = vec![crate::finding::Edit { was: Some(target.to_owned()), ..edit }];
    Some(Diagnosis {
        remedy: format!("{} It now leads to {end}, which {why}, so nobody arrives.", sentences(&edits)),
        remark: format!("Followed from {} by way of {target}.", case.sheet.routed),
        evidence: case.host_sightings(|data| matches!(data, RecordData::Cname(_))),
        edits,
        ..Diagnosis::default()
    })
}

/// The last name of the chain and what is wrong with it, if every vantage that
/// answers, or a server that holds the whole chain, says so.
fn broken_end(case: &Case<'_>) -> Option<(String, &'static str)> {
    let routed = &case.sheet.routed;
    let readings = case.survey.of(routed, RecordType::A).filter(|r| r.answer().is_some());
    let (ours, vantages): (Vec<&Reading>, Vec<&Reading>) = readings.partition(|r| r.source.is_authority());
    let views: Vec<_> =
        vantages.iter().filter_map(|r| Some((*r, case.survey.host_view(&r.source)?))).collect();
    if views.is_empty() {
        return ours.iter().find_map(|r| ended_inside(case, r));
    }
    if views.iter().any(|(_, view)| !view.has_no_address() || view.chain.is_empty()) {
        return None;
    }
    let (reading, view) = views.first()?;
    let why = if reading.is_nxdomain() { "does not exist" } else { "has no address" };
    Some((view.chain.last()?.clone(), why))
}

/// Without vantages: the chain ends within the zone, which says what is there.
fn ended_inside(case: &Case<'_>, reading: &Reading) -> Option<(String, &'static str)> {
    let view = case.survey.host_view(&reading.source)?;
    let end = view.chain.last()?;
    let inside = crate::names::is_within(end, &case.sheet.zone);
    (inside && view.has_no_address()).then(|| (end.clone(), "has no address in the zone"))
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn a_target_that_leads_nowhere_is_told_from_one_that_leads_elsewhere() {
        let host = "timetable.onswick.example";
        let zone = ["timetable CNAME onswick.edge.quaymark.exampl"];
        let found = test::judge(&test::domain(host), &test::survey_spread(host, &zone, 2, 2));
        assert_eq!(test::codes(&found), ["cname-chain-broken"]);
        assert!(found[0].remedy.contains("leads to onswick.edge.quaymark.exampl, which has no address"));
        let inside = ["timetable CNAME gone.onswick.example"];
        let found = test::diagnose(host, &inside);
        assert_eq!(test::codes(&found), ["cname-chain-broken"], "the zone itself says so");
    }

    #[test]
    fn while_a_vantage_still_holds_an_older_answer_nothing_is_said() {
        let host = "timetable.onswick.example";
        let zone = ["timetable CNAME onswick.edge.quaymark.exampl"];
        let found = test::judge(&test::domain(host), &test::survey_spread(host, &zone, 1, 2));
        assert_eq!(test::codes(&found), ["cname-foreign"]);
    }
}

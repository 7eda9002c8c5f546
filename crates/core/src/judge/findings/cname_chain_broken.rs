//! `cname-chain-broken`: the alias leads to a name that has no address.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::name::dns::DnsName;
use crate::reading::answer::Reading;
use crate::reading::record::{RecordData, RecordType};
use crate::reading::view::HostView;

pub(super) const ENTRY: Entry = Entry {
    code: Code::CnameChainBroken,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The CNAME points at a name that does not exist, has no address, or leads back in a circle: a \
            slip of the pen in the target, or a host that was given up.",
    yields: Yields::To(&[
        Code::AnswersVary,
        Code::Fronted,
        Code::ServersDisagree,
        Code::ValueDoubled,
        Code::CnameAtApex,
        Code::ChoicesMixed,
        Code::CnameBesideOthers,
        Code::DnssecBroken,
        Code::WildcardAnswers,
        Code::DnameAbove,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let (end, why) = broken_end(case)?;
    let long = case.views.iter().find(|(_, view)| view.chain.len() >= MOST);
    let target = case.foreign_alias().or_else(|| long.and_then(|(_, view)| view.cname()))?;
    let edits = vec![case.change_cname(target)];

    Some(Diagnosis {
        remedy: format!("{} It now leads to {end}, which {why}, so nobody arrives.", sentences(&edits)),
        remark: format!("Followed from {} by way of {target}.", case.sheet.routed),
        evidence: case.host_sightings(|data| matches!(data, RecordData::Cname(_))),
        edits,
        ..Diagnosis::default()
    })
}

/// Aliases in a row after which resolvers give up.
const MOST: usize = 12;

/// The last name of the chain and what is wrong with it: by what the servers of
/// each zone on the way say, else if every vantage that answers says so.
fn broken_end(case: &Case<'_>) -> Option<(DnsName, String)> {
    let dead_ends = case
        .views
        .iter()
        .filter(|(_, view)| view.cname().is_some() && (view.has_no_address() || view.chain.len() >= MOST));
    let known = dead_ends.into_iter().find_map(|(_, view)| followed_end(case, view));
    known.or_else(|| seen_end(case))
}

fn followed_end(case: &Case<'_>, view: &HostView) -> Option<(DnsName, String)> {
    let end = view.chain.last()?;
    if view.circles {
        return Some((end.clone(), "leads back in a circle".into()));
    }
    if view.chain.len() >= MOST {
        return Some((end.clone(), format!("stands behind {MOST} aliases and more, so resolvers give up")));
    }

    let step = case.survey.followed.iter().find(|step| step.name == *end)?;
    let why = match &step.failure {
        Some(failure) => format!("cannot be read: {failure}"),
        None if step.readings.iter().any(Reading::is_nxdomain) => "does not exist".into(),
        None => "has no address".into(),
    };
    Some((end.clone(), why))
}

fn seen_end(case: &Case<'_>) -> Option<(DnsName, String)> {
    let routed = &case.sheet.routed;
    let readings = case.survey.of(routed, RecordType::A).filter(|r| r.answer().is_some());
    let (ours, vantages): (Vec<&Reading>, Vec<&Reading>) = readings.partition(|r| r.source.is_authority());

    let mut views = Vec::new();
    for reading in vantages {
        if let Some(view) = case.survey.host_view(&reading.source) {
            views.push((reading, view));
        }
    }
    if views.is_empty() {
        return ours.iter().find_map(|r| ended_inside(case, r));
    }
    if views.iter().any(|(_, view)| !view.has_no_address() || view.chain.is_empty()) {
        return None;
    }

    let (reading, view) = views.first()?;
    let why = if reading.is_nxdomain() { "does not exist" } else { "has no address" };
    Some((view.chain.last()?.clone(), why.into()))
}

/// Without vantages: the chain ends within the zone, which says what is there.
fn ended_inside(case: &Case<'_>, reading: &Reading) -> Option<(DnsName, String)> {
    let view = case.survey.host_view(&reading.source)?;
    let end = view.chain.last()?;
    (end.is_within(&case.sheet.zone) && view.has_no_address())
        .then(|| (end.clone(), "has no address in the zone".into()))
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

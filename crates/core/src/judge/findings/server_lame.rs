//! `server-lame`: a listed name server does not serve the zone.

use std::collections::{BTreeMap, BTreeSet};

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::answer::{Outcome, Reading, Source};
use crate::reading::delegation::{Fault, ServerFault};
use crate::reading::record::RecordType;
use crate::reading::survey::Survey;

pub(super) const ENTRY: Entry = Entry {
    code: Code::ServerLame,
    severity: Severity::Warning,
    gate: GateName::Ownership,
    about: "One of the zone's name servers cannot be found, is silent, refuses, or answers without authority \
            (RFC 1912, section 2.8). Resolvers that ask it first are slow or fail.",
    yields: Yields::To(&[Code::Unreachable]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let (lame, sound) = told_apart(case);
    let faults = case.survey.delegation().map(|delegation| &delegation.faults[..]).unwrap_or_default();

    let mut troubles: BTreeMap<&str, String> = BTreeMap::new();
    for reading in &lame {
        if let Some(name) = server(reading) {
            troubles.insert(name, format!("{name} {}", trouble(reading)));
        }
    }
    let faults = faults.iter().filter(|fault| !matches!(fault.fault, Fault::Unasked | Fault::Moved { .. }));
    let faults: Vec<&ServerFault> = faults.collect();
    for fault in &faults {
        troubles.insert(&fault.server, fault.to_string());
    }
    if troubles.is_empty() {
        return None;
    }

    let names: Vec<_> = troubles.keys().copied().collect();
    let said: Vec<_> = troubles.values().cloned().collect();
    let zone = &case.sheet.zone;
    let remedy = if sound.is_empty() && are_resolved(case, &lame) {
        format!(
            "Ask your DNS operator to have {} answer with authority for {zone} (the AA bit of RFC 1035, section \
             4.1.1): resolvers still take what they answer. The records on the sheet are not at fault; keep them.",
            names.join(" and ")
        )
    } else {
        format!(
            "Take {} off the name servers of {zone} {}, or have it mended: {}. The records on the sheet are not at \
             fault; keep them.",
            names.join(" and "),
            where_listed(case.survey, zone),
            said.join("; ")
        )
    };
    Some(Diagnosis {
        severity: sound.is_empty().then_some(Severity::Blocker),
        remedy,
        remark: format!("{}; {}.", said.join("; "), others(&sound)),
        evidence: lame.iter().map(|r| sighting(r)).chain(faults.into_iter().map(of_fault)).collect(),
        ..Diagnosis::default()
    })
}

/// The servers that are of no use, and those that are, each by the reading that tells most.
fn told_apart<'a>(case: &'a Case<'_>) -> (Vec<&'a Reading>, Vec<&'a Reading>) {
    let readings = case.survey.of(&case.sheet.zone, RecordType::Soa).filter(|r| r.source.is_authority());
    readings.map(|start| worst(case, start)).partition(|reading| is_of_no_use(reading))
}

/// Whether no server answers with authority, and every vantage gets its answers all the same.
pub(crate) fn is_without_authority(case: &Case<'_>) -> bool {
    let (lame, sound) = told_apart(case);
    !lame.is_empty() && sound.is_empty() && are_resolved(case, &lame)
}

/// Whether all that is wrong is the missing authority, and every vantage gets its answers through
/// these servers all the same.
fn are_resolved(case: &Case<'_>, lame: &[&Reading]) -> bool {
    let is_unsure = |reading: &&Reading| reading.answer().is_some();
    let mut seen = case.vantages.iter().map(|vantage| case.survey.host_view(vantage));
    lame.iter().all(is_unsure) && !case.vantages.is_empty() && seen.all(|view| view.is_some())
}

/// What tells most about a server: that it answers about the zone's start with authority, or about
/// what the gates need without any.
fn worst<'a>(case: &'a Case<'_>, start: &'a Reading) -> &'a Reading {
    let is_unsure = |reading: &&Reading| reading.source == start.source && reading.is_lame();
    let needed =
        case.target.must_be_there().into_iter().flat_map(|(name, rtype)| case.survey.of(name, rtype));
    let mut unsure = needed.filter(|reading| reading.answer().is_some()).filter(is_unsure);
    if is_of_no_use(start) { start } else { unsure.next().unwrap_or(start) }
}

/// Where the list of a zone's name servers is edited.
pub(super) fn where_listed(survey: &Survey, zone: &DnsName) -> String {
    let registered = survey.host.registered();
    match survey.delegation() {
        Some(delegation) if delegation.parent.is_within(registered) => {
            format!("in the zone {}, which delegates {zone}, and in the zone itself", delegation.parent)
        }
        _ => "at your registrar and in the zone".into(),
    }
}

fn others(sound: &[&Reading]) -> String {
    let names: BTreeSet<_> = sound.iter().filter_map(|reading| server(reading)).collect();
    match names.len() {
        0 => "no other server answers with authority".into(),
        _ => format!("{} answers with authority", names.into_iter().collect::<Vec<_>>().join(" and ")),
    }
}

fn of_fault(fault: &ServerFault) -> Sighting {
    Sighting::new(&fault.server, fault.to_string())
}

/// Silence of one server counts once another has answered: the way there works.
fn is_of_no_use(reading: &Reading) -> bool {
    reading.is_lame() || matches!(reading.outcome, Outcome::Silence | Outcome::Garbled { .. })
}

fn server(reading: &Reading) -> Option<&str> {
    match &reading.source {
        Source::Authority { server, .. } => Some(server),
        Source::Vantage { .. } => None,
    }
}

fn trouble(reading: &Reading) -> String {
    reading.failure().unwrap_or_else(|| "answers without authority".into())
}

fn sighting(reading: &Reading) -> Sighting {
    Sighting::new(&reading.source, trouble(reading))
}

#[cfg(test)]
mod tests {
    use crate::reading::answer::{Outcome, Rcode};
    use crate::test;

    #[test]
    fn every_kind_of_uselessness_is_named_and_blocks_nothing() {
        let host = "onswick.example";
        let refused = Outcome::Answer { rcode: Rcode::Refused, authoritative: false, records: Vec::new() };
        let unsure = Outcome::Answer { rcode: Rcode::NoError, authoritative: false, records: Vec::new() };
        for (outcome, want) in [
            (Outcome::Silence, "does not answer"),
            (refused, "refuses to answer"),
            (unsure, "answers without authority"),
            (Outcome::Garbled { reason: "too short".into() }, "answers unreadably: too short"),
        ] {
            let mut survey = test::survey(host, &test::healthy(host));
            test::second(&mut survey, &[]);
            let second = |r: &&mut crate::reading::answer::Reading| r.source == test::authority(2);
            survey.readings.iter_mut().filter(second).for_each(|r| r.outcome = outcome.clone());
            let found = test::judge(&test::domain(host), &survey);
            assert_eq!(test::codes(&found), ["server-lame"], "{want}");
            assert!(found[0].remark.starts_with(&format!("ns2.harrowdns.example {want}; ns1")));
        }
    }

    #[test]
    fn answers_without_authority_that_every_vantage_resolves_are_told_as_that() {
        let host = "onswick.example";
        let mut survey = test::survey_spread(host, &test::healthy(host), 2, 2);
        for reading in survey.readings.iter_mut().filter(|reading| reading.source.is_authority()) {
            if let Outcome::Answer { authoritative, .. } = &mut reading.outcome {
                *authoritative = false;
            }
        }
        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(test::codes(&found), ["server-lame"]);
        let start =
            "Ask your DNS operator to have ns1.harrowdns.example answer with authority for onswick.example";
        assert!(found[0].remedy.starts_with(start), "{}", found[0].remedy);
    }

    #[test]
    fn a_server_that_cannot_be_reached_from_here_is_not_accused() {
        let host = "onswick.example";
        let mut survey = test::survey(host, &test::healthy(host));
        test::second(&mut survey, &[]);
        let second = |r: &&mut crate::reading::answer::Reading| r.source == test::authority(2);
        survey.readings.iter_mut().filter(second).for_each(|r| r.outcome = Outcome::NoRoute);
        assert!(test::judge(&test::domain(host), &survey).is_empty());
    }
}

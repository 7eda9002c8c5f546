//! `server-lame`: a listed name server does not serve the zone.

use std::collections::BTreeMap;

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Sighting, Yields};
use crate::judge::gate::GateName;
use crate::reading::answer::{Outcome, Reading, Source};
use crate::reading::record::RecordType;

pub(super) const ENTRY: Entry = Entry {
    code: Code::ServerLame,
    severity: Severity::Warning,
    gate: GateName::Ownership,
    about: "One of the zone's name servers is silent, refuses, or answers without authority (RFC 1912, \
            section 2.8). Resolvers that ask it first are slow or fail.",
    yields: Yields::To(&[Code::Unreachable]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let readings = case.survey.of(&case.sheet.zone, RecordType::Soa).filter(|r| r.source.is_authority());
    let (lame, sound): (Vec<&Reading>, Vec<&Reading>) = readings.partition(|r| is_of_no_use(r));
    lame.first()?;

    let by_name: BTreeMap<_, _> = lame.iter().filter_map(|r| Some((server(r)?, trouble(r)))).collect();
    let list: Vec<_> = by_name.iter().map(|(name, trouble)| format!("{name} {trouble}")).collect();
    let names: Vec<_> = by_name.keys().copied().collect();

    let zone = &case.sheet.zone;
    let others = sound.len();
    Some(Diagnosis {
        remedy: format!(
            "Take {} off the name servers of {zone} at your registrar and in the zone, or ask your DNS operator to \
             serve {zone} there. The records on the sheet are not at fault; keep them.",
            names.join(" and ")
        ),
        remark: format!("{}; {others} other server addresses answer with authority.", list.join("; ")),
        evidence: lame.iter().map(|r| sighting(r)).collect(),
        ..Diagnosis::default()
    })
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
            assert!(found[0].remark.starts_with(&format!("ns2.harrowdns.example {want}; 1 other")));
        }
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

//! `tcp-closed`: an answer does not fit a packet, and the server does not give it
//! by TCP.

use std::collections::BTreeSet;

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::answer::{Outcome, Reading};

pub(super) const ENTRY: Entry = Entry {
    code: Code::TcpClosed,
    severity: Severity::Warning,
    gate: GateName::Ownership,
    about: "A name server cuts an answer short because it does not fit a packet, and does not give it by TCP \
            either (RFC 7766), so nobody can read what stands there.",
    yields: Yields::To(&[Code::Unreachable]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let short: Vec<&Reading> = case.survey.readings.iter().filter(|r| is_short(case, r)).collect();
    let is_needed =
        |reading: &Reading| reading.name == case.sheet.challenge || reading.name == case.sheet.routed;
    let first = *short.iter().find(|reading| is_needed(reading)).or_else(|| short.first())?;
    let name = &first.name;

    let is_read = case.survey.authority(name, first.rtype).next().is_some();
    let gate = if *name == case.sheet.routed { GateName::Routing } else { GateName::Ownership };
    let at = case.sheet.host_field(name);

    let servers: BTreeSet<_> = short.iter().map(|reading| reading.source.to_string()).collect();
    let servers: Vec<_> = servers.into_iter().collect();
    Some(Diagnosis {
        gate: Some(gate),
        severity: Some(if is_needed(first) && !is_read { Severity::Blocker } else { Severity::Warning }),
        remedy: format!(
            "Ask your DNS operator to answer by TCP at {}: the {} records at {at} do not fit a packet. Until then, \
             delete those at {at} that nobody needs any more.",
            servers.join(" and "),
            first.rtype
        ),
        remark: "Resolvers ask again by TCP and get nothing, so they fail too.".into(),
        evidence: short.iter().map(|reading| Sighting::of_failure(reading)).collect(),
        ..Diagnosis::default()
    })
}

/// Whether an answer about the customer's own records is cut short; names that only a wildcard
/// answers for are asked for by us alone.
fn is_short(case: &Case<'_>, reading: &Reading) -> bool {
    let is_cut = reading.source.is_authority() && matches!(reading.outcome, Outcome::Short { .. });
    is_cut && !case.target.is_probe(&reading.name)
}

#[cfg(test)]
mod tests {
    use crate::judge::finding::Severity;
    use crate::reading::answer::Outcome;
    use crate::test;

    #[test]
    fn an_answer_that_nobody_can_fetch_is_no_absence() {
        let host = "onswick.example";
        for (cut, severity) in [
            ("_quaymark-challenge.onswick.example", Severity::Blocker),
            ("_dmarc.onswick.example", Severity::Warning),
        ] {
            let mut survey = test::survey(host, &test::healthy(host));
            let readings = survey.readings.iter_mut().filter(|reading| reading.name == cut);
            readings.for_each(|r| r.outcome = Outcome::Short { reason: "its TCP port is closed".into() });

            let found = test::judge(&test::domain(host), &survey);
            assert_eq!(test::codes(&found), ["tcp-closed"]);
            assert_eq!(found[0].severity, severity);
            assert!(found[0].evidence[0].said.ends_with("cuts its answer short, and its TCP port is closed"));
        }
    }

    #[test]
    fn each_server_is_named_once_and_the_names_that_we_ask_for_alone_are_left_out() {
        let host = "timetable.onswick.example";
        let short = Outcome::Short { reason: "its TCP port is closed".into() };
        let mut survey = test::survey(host, &test::healthy(host));
        let cut =
            ["_quaymark-challenge.timetable.onswick.example", "_quaymark-probe.timetable.onswick.example"];
        let readings = survey.readings.iter_mut().filter(|reading| cut.contains(&reading.name.as_str()));
        readings.for_each(|r| r.outcome = short.clone());
        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(found[0].evidence.len(), 1, "{:?}", found[0].evidence);
        assert_eq!(found[0].remedy.matches("ns1.harrowdns.example").count(), 1, "{}", found[0].remedy);

        survey.readings.retain(|reading| reading.name != cut[0]);
        assert!(test::judge(&test::domain(host), &survey).is_empty(), "a probe alone is nobody's record");
    }
}

//! `dnssec-broken`: resolvers that check signatures refuse the zone's answers.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Sighting, Yields};
use crate::judge::gate::GateName;
use crate::reading::answer::{Outcome, Rcode, Reading};

pub(super) const ENTRY: Entry = Entry {
    code: Code::DnssecBroken,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The zone's DNSSEC signatures do not match the DS record at its registrar, so every resolver \
            that checks them answers SERVFAIL. Certification authorities check them.",
    yields: Yields::To(&[Code::Unreachable]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let broken: Vec<&Reading> = case.survey.readings.iter().filter(|r| is_refused(case, r)).collect();
    broken.first()?;
    let zone = &case.sheet.zone;
    Some(Diagnosis {
        remedy: format!(
            "Delete the DS record of {zone} at your registrar, or switch DNSSEC on for {zone} at your DNS \
             operator and enter the DS record that it shows. The records in the zone are not at fault; keep them."
        ),
        remark: "With checking switched off the same resolver answers, so the data is there and the chain \
                 of trust is not: usually a DS record left from an operator before this one."
            .into(),
        evidence: broken.into_iter().take(6).map(sighting).collect(),
        ..Diagnosis::default()
    })
}

/// SERVFAIL for a name of this zone, and an answer when nothing is checked.
fn is_refused(case: &Case<'_>, reading: &Reading) -> bool {
    let failed = matches!(reading.outcome, Outcome::Answer { rcode: Rcode::ServFail, .. });
    let unchecked = matches!(reading.unchecked, Some(Rcode::NoError | Rcode::NxDomain));
    failed && unchecked && crate::name::dns::is_within(&reading.name, &case.sheet.zone)
}

fn sighting(reading: &Reading) -> Sighting {
    let extended = reading.extended.iter().map(|e| format!(", {e}"));
    let said = format!("{} {}: SERVFAIL{}", reading.name, reading.rtype, extended.collect::<String>());
    Sighting { source: reading.source.to_string(), said, ttl: None }
}

#[cfg(test)]
mod tests {
    use crate::reading::answer::{ExtendedError, Outcome, Rcode};
    use crate::test;

    #[test]
    fn an_answer_that_only_comes_unchecked_is_a_broken_chain() {
        let host = "onswick.example";
        let mut survey = test::survey_spread(host, &test::healthy(host), 1, 1);
        let last = survey.readings.iter_mut().rfind(|r| r.name == host && !r.source.is_authority());
        let reading = last.expect("a vantage");
        reading.outcome =
            Outcome::Answer { rcode: Rcode::ServFail, authoritative: false, records: Vec::new() };
        assert!(test::judge(&test::domain(host), &survey).is_empty(), "SERVFAIL alone may have any cause");
        let last = survey.readings.iter_mut().rfind(|r| r.name == host && !r.source.is_authority());
        let reading = last.expect("a vantage");
        reading.unchecked = Some(Rcode::NoError);
        reading.extended = vec![ExtendedError { code: 9, text: "DNSKEY Missing".into() }];
        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(test::codes(&found), ["dnssec-broken"]);
        assert!(found[0].evidence[0].said.ends_with("SERVFAIL, extended error 9 (DNSKEY Missing)"));
    }
}

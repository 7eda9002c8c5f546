//! `dnssec-broken`: resolvers that check signatures refuse the zone's answers.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::answer::Reading;
use crate::reading::trust::{Break, Trust};

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
    let trust = case.survey.trust.as_ref()?;
    let broken = trust.break_at(case.now)?;
    let refused: Vec<&Reading> = case.survey.readings.iter().filter(|r| is_refused(case, r)).collect();
    refused.first()?;

    Some(Diagnosis {
        remedy: format!(
            "{} The records in the zone are not at fault; keep them.",
            remedy(&broken, &case.sheet.zone)
        ),
        remark: format!(
            "With checking switched off the same resolver answers, so the data is there and the chain of trust is \
             not. {}",
            seen(trust)
        ),
        evidence: refused.into_iter().take(6).map(sighting).collect(),
        ..Diagnosis::default()
    })
}

fn remedy(broken: &Break, zone: &DnsName) -> String {
    match broken {
        Break::Unsigned => format!(
            "Delete the DS record of {zone} at your registrar, or switch DNSSEC on for {zone} at your DNS operator \
             and enter the DS record that it shows: the zone is not signed, and the registrar says that it is."
        ),
        Break::NoKey(tags) => format!(
            "Delete the DS record of {zone} with the key tag {} at your registrar, and enter the one that your DNS \
             operator shows, if it shows one: no key in the zone has that tag.",
            list(tags)
        ),
        Break::UnknownAlgorithm(numbers) => format!(
            "Delete the DS record of {zone} with the algorithm {} at your registrar, and have {zone} signed with \
             algorithm 13 or 8: resolvers do not know the one that is there.",
            list(numbers)
        ),
        Break::Expired(at) => format!(
            "Have {zone} signed anew at your DNS operator: its signatures ran out at {}. If it cannot, delete the DS \
             record of {zone} at your registrar.",
            at.format("%Y-%m-%d %H:%M UTC")
        ),
        Break::NotYet(at) => format!(
            "Ask your DNS operator to set its clock right and sign {zone} anew: its signatures hold from {} on only.",
            at.format("%Y-%m-%d %H:%M UTC")
        ),
        Break::Wrong => format!(
            "Delete the DS record of {zone} at your registrar, or enter the one that your DNS operator shows: what the \
             registrar has does not fit how the zone is signed."
        ),
    }
}

/// What stands at the zone above and in the zone.
fn seen(trust: &Trust) -> String {
    let above: Vec<_> = trust.signers.iter().map(|signer| signer.key_tag).collect();
    let here: Vec<_> = trust.keys.iter().flatten().map(|key| key.key_tag).collect();
    let keys = if here.is_empty() { "none".into() } else { list(&here) };
    format!("Key tags at the registry: {}; in the zone: {keys}.", list(&above))
}

fn list<T: ToString>(numbers: &[T]) -> String {
    numbers.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// SERVFAIL for a name of this zone, and an answer when nothing is checked,
/// while the zone's own servers do answer.
fn is_refused(case: &Case<'_>, reading: &Reading) -> bool {
    let is_served = case.survey.authority(&reading.name, reading.rtype).next().is_some();
    reading.is_refused_for_its_signatures() && is_served && reading.name.is_within(&case.sheet.zone)
}

fn sighting(reading: &Reading) -> Sighting {
    let extended = reading.extended.iter().map(|e| format!(", {e}"));
    let said = format!("{} {}: SERVFAIL{}", reading.name, reading.rtype, extended.collect::<String>());
    Sighting { source: reading.source.to_string(), said, ttl: None }
}

#[cfg(test)]
mod tests {
    use chrono::Duration;

    use crate::reading::answer::{ExtendedError, Outcome, Rcode};
    use crate::reading::survey::Survey;
    use crate::reading::trust::{Signature, Signer, Trust, ZoneKey};
    use crate::test;

    const HOST: &str = "onswick.example";

    /// One vantage refuses the host's address, unless nothing is checked.
    fn refused(trust: Option<Trust>) -> Survey {
        let mut survey = test::survey_spread(HOST, &test::healthy(HOST), 1, 1);
        let first = survey.readings.iter_mut().find(|r| r.name == HOST && !r.source.is_authority());
        let reading = first.expect("a vantage");
        reading.outcome =
            Outcome::Answer { rcode: Rcode::ServFail, authoritative: false, records: Vec::new() };
        reading.unchecked = Some(Rcode::NoError);
        reading.extended = vec![ExtendedError { code: 9, text: "DNSKEY Missing".into() }];
        Survey { trust, ..survey }
    }

    fn trust(keys: Vec<ZoneKey>, signatures: Vec<Signature>) -> Option<Trust> {
        let signers = vec![Signer { key_tag: 4711, algorithm: 13, digest_type: 2 }];
        Some(Trust { signers, keys: Some(keys), signatures })
    }

    #[test]
    fn each_break_has_its_remedy() {
        let past = test::now() - Duration::days(3);
        let key = ZoneKey { key_tag: 4711, algorithm: 13 };
        let expired = Signature { covered: 48, key_tag: 4711, begins: past, ends: past };

        for (trust, start) in [
            (
                trust(Vec::new(), Vec::new()),
                "Delete the DS record of onswick.example at your registrar, or switch",
            ),
            (
                trust(vec![ZoneKey { key_tag: 1, ..key }], Vec::new()),
                "Delete the DS record of onswick.example with the key tag 4711",
            ),
            (trust(vec![key], vec![expired]), "Have onswick.example signed anew at your DNS operator"),
        ] {
            let found = test::judge(&test::domain(HOST), &refused(trust));
            assert_eq!(test::codes(&found), ["dnssec-broken"]);
            assert!(found[0].remedy.starts_with(start), "{}", found[0].remedy);
            assert!(found[0].evidence[0].said.ends_with("SERVFAIL, extended error 9 (DNSKEY Missing)"));
        }
    }

    #[test]
    fn an_unsigned_zone_never_has_broken_signatures() {
        assert!(test::judge(&test::domain(HOST), &refused(Some(Trust::default()))).is_empty());
        assert!(test::judge(&test::domain(HOST), &refused(None)).is_empty());
    }
}

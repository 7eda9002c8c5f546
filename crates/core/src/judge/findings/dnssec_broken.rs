//! `dnssec-broken`: resolvers that check signatures refuse the zone's answers.

use chrono::{DateTime, Utc};

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::answer::{Reading, Source};
use crate::reading::record::RecordType;
use crate::reading::trust::{Break, Flaw, Signed, Trust, has_flaw};

pub(super) const ENTRY: Entry = Entry {
    code: Code::DnssecBroken,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The chain of trust to the zone's records is broken (RFC 4035): the DS record at the registrar fits no \
            key, signatures are missing or out of date, or a server gives answers that are not signed. Every \
            resolver that checks signatures answers SERVFAIL, and certification authorities check them.",
    yields: Yields::To(&[Code::Unreachable]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let trust = case.survey.trust.as_ref()?;
    let refused: Vec<&Reading> = case.survey.readings.iter().filter(|r| is_refused(case, r)).collect();
    if refused.is_empty() && !is_flawed(case) {
        return None;
    }

    let broken = trust.break_at(case.now)?;
    let mut evidence: Vec<_> = refused.into_iter().take(6).map(sighting).collect();
    if let Break::Servers(servers, flaw) = &broken {
        evidence.extend(servers.iter().map(|server| Sighting::new(server, flawed(*flaw))));
    }

    let zone = &case.sheet.zone;
    Some(Diagnosis {
        remedy: format!("{} The records in the zone are not at fault; keep them.", remedy(&broken, zone)),
        remark: format!(
            "With checking switched off a resolver gets the data, so the records are there and the chain of trust is \
             not. {}",
            seen(trust)
        ),
        evidence,
        ..Diagnosis::default()
    })
}

/// Whether validators must check the zone's signatures, and some of its servers give what they
/// refuse. Which server a vantage asks is a matter of luck, and so is what it has got.
fn is_flawed(case: &Case<'_>) -> bool {
    let starts = case.survey.of(&case.sheet.zone, RecordType::Soa).filter(|r| r.source.is_authority());
    let starts: Vec<_> = starts.collect();
    case.survey.signed == Some(Signed::Signed) && has_flaw(&starts, case.now)
}

fn remedy(broken: &Break, zone: &DnsName) -> String {
    match broken {
        Break::Unsigned => format!(
            "Delete the DS record of {zone} at your registrar, or switch DNSSEC on for {zone} at your DNS operator \
             and enter the DS record that it shows: the zone is not signed, and the registrar says that it is."
        ),
        Break::NoKeys => format!(
            "Ask your DNS operator why the servers of {zone} do not give its keys (DNSKEY). If it cannot mend that, \
             delete the DS record of {zone} at your registrar."
        ),
        Break::NoKey(tags) => format!(
            "Delete the DS record of {zone} with the key tag {} at your registrar, and enter the one that your DNS \
             operator shows, if it shows one: no key in the zone has that tag.",
            list(tags)
        ),
        Break::WrongDigest(tags) => format!(
            "Enter the DS record of {zone} anew at your registrar, exactly as your DNS operator shows it: the one with \
             the key tag {} has another digest than the key of the zone.",
            list(tags)
        ),
        Break::Expired(at) => format!(
            "Have {zone} signed anew at your DNS operator: its signatures ran out at {}. If it cannot, delete the DS \
             record of {zone} at your registrar.",
            time(*at)
        ),
        Break::NotYet(at) => format!(
            "Ask your DNS operator to set its clock right and sign {zone} anew: its signatures hold from {} on only.",
            time(*at)
        ),
        Break::Servers(servers, flaw) => format!(
            "Ask your DNS operator to have {} load the signed zone {zone} again: it {}, while the other name servers \
             give valid signatures. Until then, it may be taken off the list of name servers.",
            servers.iter().map(Source::to_string).collect::<Vec<_>>().join(" and "),
            flawed(*flaw)
        ),
        Break::UnsignedAnswer(name, rtype) => format!(
            "Ask your DNS operator to sign its answer for the {rtype} records of {name}, or replace the alias there by \
             records of your own: the rest of {zone} is signed, and this answer has no signature."
        ),
        Break::BadSignature => format!(
            "Have {zone} signed anew at your DNS operator: its signatures do not fit its keys or its records. If it \
             cannot, delete the DS record of {zone} at your registrar."
        ),
    }
}

/// What a server does, in words that follow "it".
fn flawed(flaw: Flaw) -> String {
    match flaw {
        Flaw::Unsigned => "answers without signatures".into(),
        Flaw::Expired(at) => format!("gives signatures that ran out at {}", time(at)),
        Flaw::NotYet(at) => format!("gives signatures that hold from {} on only", time(at)),
    }
}

fn time(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%d %H:%M UTC").to_string()
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

    use crate::reading::answer::{ExtendedError, Outcome, Rcode, Reading};
    use crate::reading::record::RecordType;
    use crate::reading::signature::Signature;
    use crate::reading::survey::Survey;
    use crate::reading::trust::{Signed, Signer, Trust, ZoneKey};
    use crate::test;

    const HOST: &str = "onswick.example";
    const KEY: ZoneKey = ZoneKey { key_tag: 4711, algorithm: 13 };

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

    fn signature(covered: u16, days: i64) -> Signature {
        let (begins, ends) = (test::now() - Duration::days(9), test::now() + Duration::days(days));
        Signature { covered, key_tag: 4711, begins, ends }
    }

    fn trust(keys: Vec<ZoneKey>, signatures: Vec<Signature>) -> Trust {
        let signers = vec![Signer { key_tag: 4711, algorithm: 13, digest_type: 2, fits: Some(true) }];
        Trust { signers, keys: Some(keys), signatures, answers: Vec::new() }
    }

    /// A zone in which everything is signed, as far as that shows.
    fn sound() -> Trust {
        trust(vec![KEY], vec![signature(48, 3), signature(6, 3)])
    }

    fn signed_at(server: u8, days: &[i64]) -> Reading {
        let outcome = Outcome::Answer { rcode: Rcode::NoError, authoritative: true, records: Vec::new() };
        let reading = Reading::new(test::authority(server), HOST.into(), RecordType::Soa, outcome, 1);
        Reading { signatures: days.iter().map(|days| signature(6, *days)).collect(), ..reading }
    }

    #[test]
    fn each_break_has_its_remedy() {
        let other_digest = Signer { key_tag: 4711, algorithm: 13, digest_type: 2, fits: Some(false) };
        let mut made = signed_at(1, &[]);
        made.rtype = RecordType::A;

        for (trust, start) in [
            (
                trust(Vec::new(), Vec::new()),
                "Delete the DS record of onswick.example at your registrar, or switch",
            ),
            (
                trust(vec![ZoneKey { key_tag: 1, ..KEY }], Vec::new()),
                "Delete the DS record of onswick.example with the key tag 4711",
            ),
            (
                trust(vec![KEY], vec![signature(48, -3)]),
                "Have onswick.example signed anew at your DNS operator",
            ),
            (
                Trust { signers: vec![other_digest], ..sound() },
                "Enter the DS record of onswick.example anew at your registrar, exactly as",
            ),
            (
                Trust { answers: vec![signed_at(1, &[3]), signed_at(2, &[])], ..sound() },
                "Ask your DNS operator to have ns2.harrowdns.example (127.53.2.2) load the signed zone",
            ),
            (
                Trust { answers: vec![made], ..sound() },
                "Ask your DNS operator to sign its answer for the A records of onswick.example, or replace the alias",
            ),
            (sound(), "Have onswick.example signed anew at your DNS operator: its signatures do not fit"),
        ] {
            let found = test::judge(&test::domain(HOST), &refused(Some(trust)));
            assert_eq!(test::codes(&found), ["dnssec-broken"]);
            assert!(found[0].remedy.starts_with(start), "{}", found[0].remedy);
            assert!(found[0].evidence[0].said.ends_with("SERVFAIL, extended error 9 (DNSKEY Missing)"));
        }
    }

    #[test]
    fn the_ds_record_is_not_blamed_while_its_key_tag_is_that_of_a_key() {
        for trust in [sound(), Trust { answers: vec![signed_at(1, &[3]), signed_at(2, &[-1])], ..sound() }] {
            let found = test::judge(&test::domain(HOST), &refused(Some(trust)));
            assert!(!found[0].remedy.starts_with("Delete the DS record"), "{}", found[0].remedy);
        }
    }

    #[test]
    fn one_server_of_several_without_signatures_is_told_whatever_the_vantages_happened_to_get() {
        let mut survey = test::survey_spread(HOST, &test::healthy(HOST), 1, 1);
        let answers = vec![signed_at(1, &[3]), signed_at(2, &[])];
        survey.readings.retain(|r| r.rtype != RecordType::Soa || !r.source.is_authority());
        survey.readings.extend(answers.clone());
        survey.trust = Some(Trust { answers, ..sound() });
        survey.signed = Some(Signed::Signed);
        let found = test::judge(&test::domain(HOST), &survey);
        assert_eq!(test::codes(&found), ["dnssec-broken"]);
        assert_eq!(found[0].evidence[0].said, "answers without signatures");

        survey.signed = Some(Signed::Unsigned);
        assert!(test::judge(&test::domain(HOST), &survey).is_empty(), "no validator checks any of it");
    }

    #[test]
    fn an_unsigned_zone_never_has_broken_signatures() {
        assert!(test::judge(&test::domain(HOST), &refused(Some(Trust::default()))).is_empty());
        assert!(test::judge(&test::domain(HOST), &refused(None)).is_empty());
    }
}

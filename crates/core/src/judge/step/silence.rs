//! Silence, ours and theirs: what it takes away, and what is said of it.

use chrono::{DateTime, Duration, Utc};

use super::tests::{HOST, held, judge, probed, states, surveyed};
use super::*;
use crate::judge::gate::GateState;
use crate::reading::answer::{self as reading, Rcode, Source};
use crate::reading::survey::Survey;
use crate::test::{self as testing, now};
use GateName::Routing;
use GateState::{Lapsed, Passed, Waiting};

#[test]
fn one_look_alone_takes_no_gate_away_and_a_second_one_decides() {
    let policy = Policy { second_look: Duration::seconds(10), ..testing::policy() };
    let look = |domain: &Domain, evidence: &Evidence, later: i64| {
        step(domain, &testing::platform(), evidence, &policy, now() + Duration::seconds(later))
    };
    let healthy = surveyed(&testing::healthy(HOST));
    let broken = surveyed(&[testing::healthy(HOST)[0], "timetable A 192.0.2.7"]);
    let mut domain = testing::domain(HOST);
    domain.gates = look(&domain, &healthy, 0).gates;

    let doubted = look(&domain, &broken, 1);
    assert_eq!(states(&doubted)[1], Passed);
    assert!(
        doubted.gates.get(Routing).reason.starts_with("In doubt; a second look decides. Delete the A record")
    );
    assert!(doubted.findings.is_empty(), "nothing is said to the customer yet");
    assert_eq!((doubted.next_look.due, doubted.quick), (now() + Duration::seconds(11), None));
    domain.gates = doubted.gates;

    let again = look(&domain, &broken, 5);
    assert_eq!(states(&again)[1], Passed, "too soon to be a second opinion");
    let lapsed = look(&domain, &broken, 11);
    assert_eq!(states(&lapsed)[1], Lapsed);
    assert_eq!(testing::codes(&lapsed.findings), ["address-foreign"]);

    let recovered = look(&domain, &healthy, 11);
    assert_eq!(states(&recovered)[1], Passed);
    assert_eq!(recovered.gates.get(Routing).doubted_at, None);
}

#[test]
fn a_certificate_that_is_gone_is_no_matter_of_doubt() {
    let policy = Policy { second_look: Duration::seconds(10), ..testing::policy() };
    let mut domain = testing::domain(HOST);
    domain.gates = judge(&domain, &held()).gates;

    let gone = Evidence { certificate: None, ..held() };
    let outcome = step(&domain, &testing::platform(), &gone, &policy, now() + Duration::seconds(1));
    assert_eq!(states(&outcome)[..3], [Passed, Passed, Lapsed]);
}

#[test]
fn silence_proves_nothing_about_a_passed_gate() {
    let mut domain = testing::domain(HOST);
    domain.gates = judge(&domain, &surveyed(&testing::healthy(HOST))).gates;
    let silent = testing::silent_survey(HOST);
    let outcome = judge(&domain, &Evidence { survey: Some(silent), ..Evidence::default() });
    assert_eq!(states(&outcome)[..2], [Passed, Passed]);
}

#[test]
fn vantages_that_are_silent_take_no_gate_back() {
    let passed = || {
        let mut domain = testing::domain(HOST);
        domain.gates.0[1].state = Passed;
        domain
    };
    let routing = |outcome: &Outcome| states(outcome)[1];
    let mut survey = testing::survey_spread(HOST, &testing::healthy(HOST), 1, 3);
    let held = judge(&passed(), &Evidence { survey: Some(survey.clone()), ..Evidence::default() });
    assert_eq!(routing(&held), Lapsed, "two still hold that nothing is there");

    for reading in &mut survey.readings {
        if matches!(&reading.source, Source::Vantage { name } if name != "vantage-0") {
            reading.outcome = crate::reading::answer::Outcome::Silence;
        }
    }
    let evidence = Evidence { survey: Some(survey), ..Evidence::default() };
    assert_eq!(routing(&judge(&passed(), &evidence)), Passed);
    assert_eq!(routing(&judge(&testing::domain(HOST), &evidence)), Waiting, "nor do they pass one");
}

#[test]
fn a_dead_zone_is_told_from_a_network_of_ours_that_is_cut_off() {
    let mut domain = testing::domain(HOST);
    domain.gates = judge(&domain, &surveyed(&testing::healthy(HOST))).gates;
    let dead = |outcome: &reading::Outcome| {
        let mut survey = testing::survey_spread(HOST, &testing::healthy(HOST), 3, 3);
        survey.zone = testing::unreachable("onswick.example", "ns1.harrowdns.example does not answer");
        survey.readings.retain(|reading| !reading.source.is_authority());
        survey.readings.iter_mut().for_each(|reading| reading.outcome = outcome.clone());
        judge(&domain, &Evidence { survey: Some(survey), ..Evidence::default() })
    };

    let cut_off = dead(&reading::Outcome::Silence);
    assert_eq!(states(&cut_off)[..2], [Passed, Passed]);
    assert!(cut_off.findings.is_empty());

    let failed =
        reading::Outcome::Answer { rcode: Rcode::ServFail, authoritative: false, records: Vec::new() };
    let gone = dead(&failed);
    assert_eq!(testing::codes(&gone.findings), ["unreachable"]);
    assert_eq!(states(&gone)[1], Lapsed);
    let reason = "No name server of onswick.example answers, and 3 of 3 vantages get no answer any more.";
    assert_eq!(gone.gates.get(Routing).reason, reason);
}

#[test]
fn a_lapsed_gate_runs_out_of_its_grace_in_silence_too() {
    let policy = Policy { grace: Duration::hours(1), ..testing::policy() };
    let silent = Evidence { survey: Some(testing::silent_survey(HOST)), ..Evidence::default() };
    let mut domain = testing::domain(HOST);
    domain.gates.0[0].state = Lapsed;
    domain.gates.0[1].state = Lapsed;

    let after = |later: Duration| step(&domain, &testing::platform(), &silent, &policy, now() + later);
    assert_eq!(states(&after(Duration::minutes(59)))[..2], [Lapsed, Lapsed]);
    let over = states(&after(Duration::minutes(60)));
    assert!(over[..2].iter().all(|state| !state.is_reached()), "{over:?}");
}

/// Who says nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Silent {
    Vantages,
    Servers,
    Both,
}

/// How long resolvers remember what stood there.
const TTL: Duration = Duration::seconds(300);

/// What a look may read of one host, before, in and after an outage.
struct Sights {
    host: &'static str,
    sound: Survey,
    silent: Survey,
    forgotten: Survey,
}

impl Sights {
    fn of(host: &'static str, silent: Silent) -> Self {
        let sound = testing::survey_spread(host, &testing::healthy(host), 3, 3);
        let mut quiet = sound.clone();
        if silent != Silent::Vantages {
            quiet.zone = testing::unreachable("onswick.example", "ns1.harrowdns.example does not answer");
            quiet.readings.retain(|reading| !reading.source.is_authority());
        }

        let failed =
            reading::Outcome::Answer { rcode: Rcode::ServFail, authoritative: false, records: Vec::new() };
        let mut forgotten = quiet.clone();
        if silent == Silent::Servers {
            forgotten.readings.iter_mut().for_each(|reading| reading.outcome = failed.clone());
        } else {
            let vantages = quiet.readings.iter_mut().filter(|reading| !reading.source.is_authority());
            vantages.for_each(|reading| reading.outcome = reading::Outcome::Silence);
            forgotten = quiet.clone();
        }
        Self { host, sound, silent: quiet, forgotten }
    }

    /// What is read at a moment, after an outage has lasted for `since`.
    fn at(&self, is_silent: bool, since: Duration) -> &Survey {
        match is_silent {
            false => &self.sound,
            true if since < TTL => &self.silent,
            true => &self.forgotten,
        }
    }
}

/// Looks as often as is asked for, from before the outage until well after it;
/// tells each judgement with its moment.
fn live_through(sights: &Sights, index: i64, outage: Duration) -> Vec<(DateTime<Utc>, Outcome)> {
    let every = (outage / 12).max(Duration::seconds(5));
    let policy = Policy { look_live: every, second_look: Duration::seconds(10), ..testing::policy() };
    let begins = now() + Duration::seconds(30);
    let ends = begins + outage;

    let certificate = Some(testing::held(sights.host));
    let mut evidence = Evidence { certificate, probe: probed("5e71a1", None), ..held() };
    let mut domain = testing::domain(sights.host);
    let mut at = now() + Duration::milliseconds(index * 200);
    let mut judged = Vec::new();

    while at < ends + every * 3 + Duration::seconds(20) {
        let is_silent = (begins..ends).contains(&at);
        evidence.survey = Some(sights.at(is_silent, at - begins).clone());

        let outcome = step(&domain, &testing::platform(), &evidence, &policy, at);
        domain.gates = outcome.gates.clone();
        let next = outcome.next_look.due.max(at + Duration::seconds(1));
        judged.push((at, outcome));
        at = next;
    }
    judged
}

#[test]
fn a_hundred_live_domains_outlive_every_silence_and_are_told_the_truth_of_it() {
    // All of them are the same two hosts, at other moments.
    let domains = if std::env::var_os("NOMENTA_FULL").is_some() { 100 } else { 20 };
    for outage in [Duration::seconds(20), Duration::hours(1)] {
        for silent in [Silent::Vantages, Silent::Servers, Silent::Both] {
            let sights = [HOST, "onswick.example"].map(|host| Sights::of(host, silent));
            for index in 0..domains {
                let judged = live_through(&sights[index % 2], index as i64, outage);
                let lapsed = judged.iter().filter(|(_, outcome)| states(outcome) != [Passed; 4]).count();
                let may_lapse = silent == Silent::Servers && outage > TTL;
                assert!(lapsed == 0 || may_lapse, "{silent:?} for {outage}: {lapsed} looks, domain {index}");

                let (_, last) = judged.last().expect("some looks");
                assert_eq!(states(last), [Passed; 4], "back by itself");
                judged.iter().for_each(|(_, outcome)| told_truly(silent, outcome));
            }
        }
    }
}

/// Nobody is said to hold an older answer who only says nothing, and what is said
/// to be gone is.
fn told_truly(silent: Silent, outcome: &Outcome) {
    let reasons: Vec<_> = outcome.gates.0.iter().map(|gate| gate.reason.as_str()).collect();
    assert!(reasons.iter().all(|reason| !reason.contains("older answer")), "{reasons:?}");

    let is_lapsed = outcome.gates.get(Routing).state == Lapsed;
    if is_lapsed {
        let said = outcome.gates.get(Routing).reason.as_str();
        assert_eq!(
            said,
            "No name server of onswick.example answers, and 3 of 3 vantages get no answer any more."
        );
    }
    if silent == Silent::Both {
        assert!(outcome.findings.is_empty(), "our own network accuses nobody: {:?}", outcome.findings);
    }
}

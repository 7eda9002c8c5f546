//! Judgements from evidence to gates, one statement a test.

use chrono::Duration;

use super::*;
use crate::judge::behind::Visit;
use crate::judge::canary::CanaryFetch;
use crate::judge::certificate::CertificateFacts;
use crate::judge::certificate::Held;
use crate::judge::domain::Pair;
use crate::judge::evidence::{self, OrderState, Probe, Problem, Spent};
use crate::judge::gate::{GateState, Stage};
use crate::judge::load::Load;
use crate::judge::policy::Fronting;
use crate::judge::preflight::{CheckName, CheckState};
use crate::reading::answer;
use crate::reading::cut::{Cut, Limit};
use crate::reading::record::RecordType;
use crate::reading::survey::Survey;
use crate::reading::target::Depth;
use crate::reading::trust::Signed;
use crate::test::{self as testing, now};
use GateName::{Certificate, Ownership, Routing, Serving};
use GateState::{Blocked, Lapsed, Passed, Waiting};

pub(super) const HOST: &str = "timetable.onswick.example";

pub(super) fn judge(domain: &Domain, evidence: &Evidence) -> Outcome {
    step(domain, &testing::platform(), evidence, &testing::policy(), now())
}

pub(super) fn surveyed(lines: &[&str]) -> Evidence {
    Evidence { survey: Some(testing::survey(HOST, lines)), ..Evidence::default() }
}

pub(super) fn states(outcome: &Outcome) -> [GateState; 4] {
    [Ownership, Routing, Certificate, Serving].map(|name| outcome.gates.get(name).state)
}

pub(super) fn held() -> Evidence {
    let canary = Some(vec![CanaryFetch { address: [127, 77, 0, 10].into(), failure: None }]);
    let certificate = Some(testing::held(HOST));
    Evidence { canary, certificate, ..surveyed(&testing::healthy(HOST)) }
}

pub(super) fn probed(serial: &str, tls_failure: Option<&str>) -> Option<Probe> {
    let facts = CertificateFacts { serial: serial.into(), ..testing::certificate(HOST) };
    let results = vec![testing::probed([127, 77, 0, 10].into(), Some(facts), tls_failure)];
    Some(Probe { results, default_host: None })
}

#[test]
fn nothing_passes_without_evidence() {
    let domain = testing::domain(HOST);
    for evidence in [Evidence::default(), surveyed(&[])] {
        let outcome = judge(&domain, &evidence);
        assert_eq!(states(&outcome), [Waiting; 4]);
        assert_eq!(outcome.action, None);
    }
}

#[test]
fn ownership_needs_a_vantage_beside_the_zones_own_servers_until_it_is_proved() {
    let mut domain = testing::domain(HOST);
    let seen_by = |seeing| {
        let survey = testing::survey_spread(HOST, &testing::healthy(HOST), seeing, 2);
        Evidence { survey: Some(survey), ..Evidence::default() }
    };
    assert_eq!(states(&judge(&domain, &seen_by(1)))[0], Passed, "one is enough");
    let unseen = judge(&domain, &seen_by(0));
    assert_eq!(states(&unseen)[0], Waiting);
    assert!(unseen.gates.get(Ownership).reason.ends_with("No vantage sees it yet."), "{:?}", unseen.gates);

    let mut holding = seen_by(0);
    for reading in &mut holding.survey.as_mut().expect("one").readings {
        reading.negative_ttl = (!reading.source.is_authority()).then_some(90);
    }
    let holding = judge(&domain, &holding);
    assert!(holding.gates.get(Ownership).reason.contains("No vantage sees it before"));
    assert_eq!(holding.next_look.due, now() + Duration::seconds(91), "looked at when it lets go");

    domain.gates = judge(&domain, &seen_by(2)).gates;
    assert_eq!(states(&judge(&domain, &seen_by(0)))[0], Passed, "what was proved stays so");
}

#[test]
fn in_a_signed_zone_only_a_vantage_that_checks_signatures_proves_ownership() {
    let mut domain = testing::domain(HOST);
    let seen = |signed, checking: usize| {
        let mut survey = testing::survey_spread(HOST, &testing::healthy(HOST), 2, 2);
        survey.signed = signed;
        let vantages: Vec<_> =
            survey.sources().into_iter().filter(|one| !one.is_authority()).cloned().collect();
        for reading in &mut survey.readings {
            reading.authentic = vantages[..checking].contains(&reading.source);
        }
        Evidence { survey: Some(survey), ..Evidence::default() }
    };
    for (signed, checking, state) in [
        (None, 0, Passed),
        (Some(Signed::Unsigned), 0, Passed),
        (Some(Signed::Signed), 1, Passed),
        (Some(Signed::Signed), 0, Waiting),
        (Some(Signed::Untold), 2, Waiting),
    ] {
        let outcome = judge(&domain, &seen(signed, checking));
        assert_eq!(states(&outcome)[0], state, "{signed:?} {checking}: {:?}", outcome.gates);
    }
    let unchecked = judge(&domain, &seen(Some(Signed::Signed), 0));
    let reason = &unchecked.gates.get(Ownership).reason;
    assert!(reason.contains("no vantage that checks signatures"), "{reason}");

    domain.gates = judge(&domain, &seen(None, 0)).gates;
    let later = judge(&domain, &seen(Some(Signed::Signed), 0));
    assert_eq!(states(&later)[0], Passed, "what was proved before it was signed stays so");
}

#[test]
fn no_gate_is_passed_or_lost_on_a_part() {
    let mut domain = testing::domain(HOST);
    let cut = Cut { limit: Limit::Servers, at: "onswick.example".into(), most: 32 };
    let in_part = |lines: &[&str]| {
        let survey = Survey { cuts: vec![cut.clone()], ..testing::survey(HOST, lines) };
        Evidence { survey: Some(survey), ..Evidence::default() }
    };

    let part = judge(&domain, &in_part(&testing::healthy(HOST)));
    assert_eq!(states(&part), [Blocked, Waiting, Waiting, Waiting]);
    domain.gates = judge(&domain, &surveyed(&testing::healthy(HOST))).gates;
    assert_eq!(
        states(&judge(&domain, &in_part(&[])))[..2],
        [Passed, Passed],
        "what is missing may be in the rest"
    );
}

#[test]
fn the_four_gates_pass_in_order_each_asking_for_the_next_evidence() {
    let domain = testing::domain(HOST);
    let mut evidence = surveyed(&testing::healthy(HOST));
    let outcome = judge(&domain, &evidence);
    assert_eq!(states(&outcome), [Passed, Passed, Waiting, Waiting]);
    assert_eq!(outcome.action, Some(Action::FetchCanary));

    evidence.canary = held().canary;
    assert_eq!(judge(&domain, &evidence).action, Some(Action::PlaceOrder { pair: false }));
    for (order, said) in [
        (OrderState::Wanted, "An order is on its way; the issuer has not taken it yet."),
        (OrderState::Open, "Ordered; the issuer is validating."),
    ] {
        evidence.order = order;
        let outcome = judge(&domain, &evidence);
        assert_eq!(outcome.action, None);
        assert_eq!(outcome.gates.get(Certificate).reason, said);
    }

    let mut evidence = held();
    let outcome = judge(&domain, &evidence);
    assert_eq!((states(&outcome)[2], outcome.action), (Passed, Some(Action::Probe)));
    evidence.probe = probed("5e71a1", None);
    let outcome = judge(&domain, &evidence);
    assert_eq!(states(&outcome), [Passed; 4]);
    assert_eq!(outcome.next_look.due - now(), testing::policy().look_live);
}

#[test]
fn a_certificate_of_somebody_else_does_not_count_as_served() {
    let domain = testing::domain(HOST);
    for probe in [probed("beef", None), probed("5e71a1", Some("certificate expired"))] {
        let outcome = judge(&domain, &Evidence { probe, ..held() });
        assert_ne!(states(&outcome)[3], Passed);
    }
}

#[test]
fn a_mistake_blocks_its_own_gate_only() {
    let domain = testing::domain(HOST);
    let token = format!("_quaymark-challenge.timetable TXT {}", testing::token().txt_value());
    let outcome = judge(&domain, &surveyed(&[&token, "timetable CNAME shop.harrowhost.example"]));
    assert_eq!(states(&outcome), [Passed, Blocked, Waiting, Waiting]);
}

#[test]
fn a_passed_gate_lapses_and_recovers_by_itself() {
    let mut domain = testing::domain(HOST);
    domain.gates = judge(&domain, &surveyed(&testing::healthy(HOST))).gates;
    let lapsed = judge(&domain, &surveyed(&testing::healthy(HOST)[..1]));
    assert_eq!(states(&lapsed)[1], Lapsed);
    domain.gates = lapsed.gates;
    assert_eq!(states(&judge(&domain, &surveyed(&testing::healthy(HOST))))[1], Passed);
}

#[test]
fn a_token_that_ran_out_proves_nothing_new_and_keeps_what_it_proved() {
    let mut domain = testing::domain(HOST);
    domain.token_expires_at = now() - Duration::days(1);
    let evidence = surveyed(&testing::healthy(HOST));
    let late = judge(&domain, &evidence);
    assert_eq!(states(&late)[0], Waiting);
    assert!(late.gates.get(Ownership).reason.contains("Rotate it"));
    domain.gates = judge(&testing::domain(HOST), &evidence).gates;
    assert_eq!(states(&judge(&domain, &evidence))[0], Passed);
}

#[test]
fn the_quorum_of_vantages_is_needed() {
    let domain = testing::domain(HOST);
    for (seeing, want) in [(0, Waiting), (1, Waiting), (2, Passed), (3, Passed)] {
        let survey = testing::survey_spread(HOST, &testing::healthy(HOST), seeing, 3);
        let outcome = judge(&domain, &Evidence { survey: Some(survey), ..Evidence::default() });
        assert_eq!(states(&outcome)[1], want, "{seeing} of 3");
    }
}

#[test]
fn the_next_look_may_be_quick_only_while_nothing_else_can_happen() {
    let domain = testing::domain(HOST);
    let quick = |evidence: &Evidence| judge(&domain, evidence).quick;
    let token = &testing::healthy(HOST)[..1];
    for (lines, want) in [
        (&[][..], true),
        (token, true),
        (&testing::healthy(HOST)[1..], true),
        // It is mended where a quick look reads.
        (&["_quaymark-challenge.timetable TXT token=5e71a1"], true),
        // This one is not.
        (&["timetable HTTPS . 192.0.2.7"], false),
        // From here on it goes by itself.
        (&testing::healthy(HOST), false),
    ] {
        assert_eq!(quick(&surveyed(lines)).is_some(), want, "{lines:?}");
    }
    let live = Evidence { probe: probed("5e71a1", None), ..held() };
    assert_eq!(quick(&live), Some(quick_print(&live)));
    let quickly =
        Evidence { survey: live.survey.clone().map(|s| Survey { depth: Depth::Quick, ..s }), ..live };
    assert_eq!(quick(&quickly), None, "a quick look does not vouch for the next one");
    let mut silent = surveyed(&[]);
    let readings = silent.survey.iter_mut().flat_map(|survey| &mut survey.readings);
    readings.filter(|r| r.rtype == RecordType::Aaaa).for_each(|r| r.outcome = answer::Outcome::Silence);
    assert_eq!(quick(&silent), None, "others would wait for it");
    let load = Load { strain: Duration::seconds(3), ..Load::default() };
    assert_eq!(quick(&Evidence { load, ..surveyed(&[]) }), None, "and for a server that is slow");
    let never = Policy { quick_looks: 0, ..testing::policy() };
    let outcome = step(&domain, &testing::platform(), &surveyed(&[]), &never, now());
    assert_eq!(outcome.quick, None);
}

fn quick_print(evidence: &Evidence) -> i64 {
    let target = testing::domain(HOST).target(&testing::platform());
    evidence.survey.as_ref().expect("a survey").quick_fingerprint(&target)
}

#[test]
fn foreign_addresses_are_asked_once_where_they_lead() {
    let domain = testing::domain("onswick.example");
    let survey = testing::survey("onswick.example", &["@ A 192.0.2.7", "@ A 192.0.2.8"]);
    let shown: Vec<_> =
        foreign_addresses(&domain, &survey, 8).addresses.iter().map(ToString::to_string).collect();
    assert_eq!(shown, ["192.0.2.7", "192.0.2.8"]);
    let mut evidence = Evidence { survey: Some(survey), ..Evidence::default() };
    assert_eq!(judge(&domain, &evidence).action, Some(Action::FollowForwards));
    evidence.behind = Behind::Visited(Visit::default());
    assert_eq!(judge(&domain, &evidence).action, None);
    let ours = testing::survey("onswick.example", &testing::healthy("onswick.example"));
    assert!(foreign_addresses(&domain, &ours, 8).addresses.is_empty());
}

#[test]
fn an_order_waits_for_the_last_vantage_that_lets_go_soon() {
    let domain = testing::domain(HOST);
    for (ttl, want) in [(60, None), (0, None), (3600, Some(Action::FetchCanary))] {
        let mut survey = testing::survey_spread(HOST, &testing::healthy(HOST), 2, 2);
        for rtype in [RecordType::A, RecordType::Aaaa] {
            survey.readings.push(testing::seen("late", HOST, rtype, &[]));
            survey.readings.last_mut().expect("one").negative_ttl = Some(ttl);
        }
        let outcome = judge(&domain, &Evidence { survey: Some(survey), ..Evidence::default() });
        assert_eq!((states(&outcome)[1], outcome.action), (Passed, want), "{ttl} s");
    }
}

#[test]
fn a_refused_order_waits_for_its_time() {
    let domain = testing::domain(HOST);
    let refused = |seconds| {
        let problem = Problem { detail: "no".into(), ..Problem::default() };
        let retry_at = now() + Duration::seconds(seconds);
        Evidence { order: OrderState::Refused { problem, retry_at }, certificate: None, ..held() }
    };
    let early = judge(&domain, &refused(60));
    assert_eq!((states(&early)[2], early.action), (Blocked, None));
    assert_eq!(judge(&domain, &refused(-1)).action, Some(Action::PlaceOrder { pair: false }));
}

#[test]
fn looks_grow_rarer_from_the_last_change_on() {
    let mut domain = testing::domain(HOST);
    domain.moved_at = now() - Duration::hours(24);
    let policy = testing::policy();
    let first = judge(&domain, &surveyed(&[]));
    assert_eq!((first.moved_at, first.next_look.due), (now(), now() + policy.look_first));

    domain.gates = first.gates;
    domain.fingerprint = first.fingerprint;
    let same = judge(&domain, &surveyed(&[]));
    assert_eq!((same.moved_at, same.next_look.due), (domain.moved_at, now() + policy.look_first * 24));
    assert_eq!(same.next_look.soonest, now() + policy.look_first);
    assert_eq!(judge(&domain, &surveyed(&["timetable A 192.0.2.7"])).moved_at, now());
}

#[test]
fn what_a_look_left_out_moves_nothing_and_the_domain_rests() {
    let mut domain = testing::domain(HOST);
    domain.moved_at = now() - Duration::days(1);
    let mut survey = testing::survey(HOST, &[]);
    for (host, has_moved) in [("a", true), ("b", false), ("c", false)] {
        let zone = [format!("{host} A 192.0.2.7")];
        survey.readings = testing::survey(HOST, &zone.each_ref().map(String::as_str)).readings;
        survey.cuts = vec![Cut { limit: Limit::ALL[0], at: host.into(), most: 32 }];
        let evidence = Evidence { survey: Some(survey.clone()), ..Evidence::default() };
        let outcome = judge(&domain, &evidence);
        assert_eq!(outcome.moved_at != domain.moved_at, has_moved);
        let rest = now() + testing::policy().look_first * 12;
        assert_eq!(
            (outcome.next_look.due, outcome.next_look.soonest),
            (rest.max(outcome.next_look.due), rest)
        );
        domain.gates = outcome.gates;
        domain.moved_at = outcome.moved_at;
    }
}

#[test]
fn visits_go_where_a_matching_vantage_leads_ipv6_first() {
    let domain = testing::domain("onswick.example");
    let probed = |survey: &Survey| addresses_to_probe(&domain, &testing::platform(), survey);
    let healthy = testing::healthy("onswick.example");
    let seen = testing::survey_spread("onswick.example", &healthy, 1, 2);
    let shown: Vec<_> = probed(&seen).iter().map(ToString::to_string).collect();
    assert_eq!(shown, ["::1", "127.77.0.10", "127.77.0.11"]);
    assert!(probed(&testing::survey_spread("onswick.example", &healthy, 0, 2)).is_empty());
    let foreign = testing::survey_spread("onswick.example", &["@ A 192.0.2.7"], 2, 2);
    assert!(probed(&foreign).is_empty(), "a foreign address is never visited");
}

#[test]
fn a_canary_that_does_not_arrive_holds_the_order_back_and_says_where() {
    let domain = testing::domain(HOST);
    let address = [127, 77, 0, 11].into();
    let canary = Some(vec![CanaryFetch { address, failure: Some("it answers with status 404".into()) }]);
    let outcome = judge(&domain, &Evidence { canary, certificate: None, ..held() });
    assert_eq!((states(&outcome)[2], outcome.action), (Blocked, None));
    assert_eq!(outcome.gates.get(Certificate).because, Some(Code::ChallengeBlocked));
}

#[test]
fn a_certificate_that_ran_out_or_is_for_another_name_does_not_pass() {
    let domain = testing::domain(HOST);
    let (mut old, other) = (testing::held(HOST), testing::held("www.onswick.example"));
    old.facts.not_after = now();
    for certificate in [old, other] {
        let outcome = judge(&domain, &Evidence { certificate: Some(certificate), ..held() });
        assert_eq!(
            (states(&outcome)[2], outcome.action),
            (Waiting, Some(Action::PlaceOrder { pair: false }))
        );
    }
}

#[test]
fn a_lapsed_gate_counts_as_not_passed_once_its_grace_is_over() {
    let mut domain = testing::domain(HOST);
    domain.gates = judge(&domain, &surveyed(&testing::healthy(HOST))).gates;
    let gone = surveyed(&testing::healthy(HOST)[..1]);
    domain.gates = judge(&domain, &gone).gates;
    assert_eq!(states(&judge(&domain, &gone))[1], Lapsed);
    domain.gates.0[1].since = now() - testing::policy().grace;
    assert_eq!(states(&judge(&domain, &gone))[1], Waiting);
}

#[test]
fn a_renewal_that_is_due_asks_the_same_questions_while_the_old_one_is_served() {
    let domain = testing::domain(HOST);
    let due = |evidence: Evidence| {
        let certificate = Some(Held { renew_at: Some(now()), ..testing::held(HOST) });
        judge(&domain, &Evidence { certificate, probe: probed("5e71a1", None), ..evidence })
    };
    let outcome = due(Evidence { canary: None, ..held() });
    assert_eq!((states(&outcome), outcome.action), ([Passed; 4], Some(Action::FetchCanary)));
    assert_eq!(due(held()).action, Some(Action::PlaceOrder { pair: false }));
    let problem = Problem { detail: "no".into(), ..Problem::default() };
    let retry_at = now() + Duration::seconds(60);
    let refused = due(Evidence { order: OrderState::Refused { problem, retry_at }, ..held() });
    assert_eq!((states(&refused), refused.action), ([Passed; 4], None));
    assert!(refused.gates.get(Certificate).reason.contains("Renewal is due."));
}

#[test]
fn one_order_covers_a_pair_that_is_ready_and_each_its_own_otherwise() {
    let host = "onswick.example";
    let other = || DnsName::new(format!("www.{host}"));
    let outcome = |other_stage, other_ready, since: i64, pair_canary: Option<Option<&str>>| {
        let mut domain = testing::domain(host);
        domain.pair =
            Some(Pair { other: other(), other_stage, is_primary: true, other_ready, other_late: false });
        domain.gates.0[1].state = Passed;
        domain.gates.0[1].since = now() - Duration::seconds(since);
        let fetch = |failure: Option<&str>| CanaryFetch {
            address: [127, 77, 0, 10].into(),
            failure: failure.map(str::to_owned),
        };
        let survey = Some(testing::survey(host, &testing::healthy(host)));
        let canary = Some(vec![fetch(None)]);
        let pair_canary = pair_canary.map(|failure| vec![fetch(failure)]);
        judge(&domain, &Evidence { survey, canary, pair_canary, ..Evidence::default() }).action
    };
    let place = |pair| Some(Action::PlaceOrder { pair });
    let at = Stage::At;
    assert_eq!(outcome(at(Certificate), true, 0, Some(None)), place(true));
    assert_eq!(outcome(at(Certificate), true, 0, Some(Some("status 404"))), place(false));
    assert_eq!(outcome(at(Routing), false, 0, None), None, "it may follow within moments");
    assert_eq!(outcome(at(Routing), false, 61, None), place(false));
    assert_eq!(outcome(Stage::Live, false, 0, None), place(false));
}

#[test]
fn one_of_a_pair_waits_for_the_other_while_a_vantage_does_not_see_it() {
    let host = "onswick.example";
    let action = |spread, since: i64| {
        let mut domain = testing::domain(host);
        let other = DnsName::new(format!("www.{host}"));
        domain.pair = Some(Pair::new(other, true, Stage::At(Certificate), Waiting, false, spread));
        domain.gates.0[1].state = Passed;
        domain.gates.0[1].since = now() - Duration::seconds(since);
        let fetched = Some(vec![CanaryFetch { address: [127, 77, 0, 10].into(), failure: None }]);
        let evidence = Evidence {
            survey: Some(testing::survey(host, &testing::healthy(host))),
            canary: fetched.clone(),
            pair_canary: fetched,
            ..Evidence::default()
        };
        judge(&domain, &evidence).action
    };
    assert_eq!(action(Some(1.0), 0), Some(Action::PlaceOrder { pair: true }));
    assert_eq!(action(Some(2.0 / 3.0), 0), None, "the CA may ask the one that is late");
    assert_eq!(action(Some(2.0 / 3.0), 61), Some(Action::PlaceOrder { pair: false }));
    assert_eq!(action(None, 0), Some(Action::PlaceOrder { pair: true }), "without any vantage");
}

/// What is left of a budget that others share, for so many seconds.
fn spent_for(seconds: i64) -> Option<Spent> {
    let limit = evidence::Limit::Own("40 orders".into());
    Some(Spent { limit, free_at: now() + Duration::seconds(seconds) })
}

#[test]
fn a_spent_budget_holds_orders_back() {
    let domain = testing::domain(HOST);
    let action = |seconds| {
        judge(&domain, &Evidence { budget: spent_for(seconds), certificate: None, ..held() }).action
    };
    assert_eq!(action(1), None);
    assert_eq!(action(0), Some(Action::PlaceOrder { pair: false }));
}

#[test]
fn a_spent_budget_is_told_to_a_proved_claim_alone() {
    let domain = testing::domain(HOST);
    let routed = testing::healthy(HOST)[1];
    let cases = [(testing::healthy(HOST).to_vec(), vec![Code::IssuerThrottled]), (vec![routed], vec![])];
    for (lines, found) in cases {
        let evidence = Evidence { budget: spent_for(60), ..surveyed(&lines) };
        let codes: Vec<_> = judge(&domain, &evidence).findings.iter().map(|one| one.code).collect();
        assert_eq!(codes, found, "{lines:?}");

        let checks = preflight(&domain, &testing::platform(), &evidence, &testing::policy(), now());
        let orders = checks.iter().find(|check| check.name == CheckName::Orders).expect("orders");
        assert_eq!(orders.state, CheckState::Waiting);
        assert_eq!(orders.said.contains("40 orders"), !found.is_empty(), "{}", orders.said);
    }
}

#[test]
fn a_proxy_in_front_is_routed_only_where_that_is_allowed() {
    let domain = testing::domain(HOST);
    let token = testing::healthy(HOST)[0];
    let fronts = vec![CanaryFetch { address: [192, 0, 2, 7].into(), failure: None }];
    let behind = Behind::Visited(Visit { fronts, ..Visit::default() });
    let evidence = Evidence { behind, ..surveyed(&[token, "timetable A 192.0.2.7"]) };
    for (fronting, want) in [(Fronting::Block, Blocked), (Fronting::Allow, Passed)] {
        let policy = Policy { fronting, ..testing::policy() };
        let outcome = step(&domain, &testing::platform(), &evidence, &policy, now());
        assert_eq!(states(&outcome)[1], want, "{fronting}");
    }
}

#[test]
fn what_nobody_has_visited_takes_nothing_away_and_is_told() {
    let mut domain = testing::domain(HOST);
    domain.gates.0[1].state = Passed;
    let policy = Policy { fronting: Fronting::Allow, second_look: Duration::zero(), ..testing::policy() };
    let judged = |behind| {
        let evidence = Evidence { behind, ..surveyed(&[testing::healthy(HOST)[0], "timetable A 192.0.2.7"]) };
        step(&domain, &testing::platform(), &evidence, &policy, now())
    };
    let (left_alone, visited) = (judged(Behind::LeftAlone), judged(Behind::Visited(Visit::default())));
    assert_eq!(states(&left_alone)[1], Passed);
    assert_eq!(states(&visited)[1], Lapsed);
    let tells = |outcome: &Outcome| outcome.findings[0].remark.contains("--visits-a-minute");
    assert!(tells(&left_alone) && !tells(&visited));
    assert_ne!(left_alone.action, Some(Action::FollowForwards), "it was asked for once");
}

#[test]
fn a_wildcard_is_ordered_once_the_ca_is_led_to_us_by_dns() {
    let mut domain = testing::domain(HOST);
    domain.wildcard = true;
    let lines = [
        "_quaymark-challenge.timetable TXT token=u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h",
        "*.timetable CNAME onswick.edge.quaymark.example",
        "_acme-challenge.timetable CNAME timetable.onswick.example.acme.quaymark.example",
    ];
    let judged = |lines: &[&str]| {
        let survey = Some(testing::survey_of(&domain, lines));
        judge(&domain, &Evidence { survey, ..Evidence::default() })
    };
    let outcome = judged(&lines);
    assert_eq!(states(&outcome)[..2], [Passed, Passed], "{:?}", outcome.gates);
    assert_eq!(outcome.action, Some(Action::PlaceOrder { pair: false }));
    let missing = judged(&lines[..2]);
    assert_eq!(missing.action, None);
    assert!(missing.gates.get(Certificate).reason.contains("at _acme-challenge.timetable"));
}

#[test]
fn what_a_pair_shares_is_renewed_for_both() {
    let host = "onswick.example";
    let renewal = |names: &[&str], other_stage| {
        let mut domain = testing::domain(host);
        let other = DnsName::new(format!("www.{host}"));
        domain.pair =
            Some(Pair { other, other_stage, is_primary: true, other_ready: false, other_late: false });
        let mut held = Held { renew_at: Some(now()), ..testing::held(host) };
        held.facts.names = names.iter().map(|n| (*n).to_owned()).collect();
        let fetched = Some(vec![CanaryFetch { address: [127, 77, 0, 10].into(), failure: None }]);
        let evidence = Evidence {
            survey: Some(testing::survey(host, &testing::healthy(host))),
            canary: fetched.clone(),
            pair_canary: fetched,
            certificate: Some(held),
            ..Evidence::default()
        };
        judge(&domain, &evidence).action
    };
    let both = ["onswick.example", "www.onswick.example"];
    let place = |pair| Some(Action::PlaceOrder { pair });
    assert_eq!(renewal(&both, Stage::Live), place(true));
    assert_eq!(renewal(&both[..1], Stage::Live), place(false), "the other has one of its own");
    assert_eq!(renewal(&both, Stage::At(Serving)), place(false), "something is wrong with the other");
}

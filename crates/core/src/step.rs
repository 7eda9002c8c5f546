//! The judgement: from what was learned to where the domain stands.
//!
//! [`step`] is one pure function. It never passes a gate without evidence, and
//! the same evidence gives the same answer.

use std::collections::BTreeSet;
use std::net::IpAddr;

use chrono::{DateTime, Duration, Utc};

use crate::domain::Domain;
use crate::evidence::{Evidence, OrderState, ProbeResult};
use crate::finding::{Case, Finding, Severity};
use crate::findings;
use crate::gate::{Gate, GateName, GateState, Gates, Stage};
use crate::ingress::Platform;
use crate::policy::Policy;
use crate::schedule;
use crate::sheet::Way;
use crate::survey::{Depth, HostView, Survey, ZoneView};
use crate::verdict::{Expected, Verdict};
use crate::waiting::{self, Wait};

/// How long an order is held back for vantages that are late; beyond that the
/// quorum is enough.
const LONGEST_HOLD: Duration = Duration::minutes(15);

/// What the world outside must do before the domain can get further.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// Fetch the canary through every address, then judge again.
    FetchCanary,
    /// Place a certificate order.
    PlaceOrder,
    /// Probe every address by TLS, then judge again.
    Probe,
    /// Ask the foreign addresses where they send visitors, then judge again.
    FollowForwards,
}

/// The new state of a domain.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// Where the gates stand now.
    pub gates: Gates,
    /// Every open finding.
    pub findings: Vec<Finding>,
    /// At most one thing to do.
    pub action: Option<Action>,
    /// When to look again if nothing else happens.
    pub next_look: DateTime<Utc>,
    /// Looks in a row that found nothing new.
    pub quiet_looks: i32,
    /// The zone's apex, for the sheet.
    pub zone: String,
    /// Fingerprint of the survey.
    pub fingerprint: Option<i64>,
    /// Share of vantages that see the routing, 0 to 1.
    pub spread: Option<f64>,
    /// What each vantage sees or still holds.
    pub waits: Vec<Wait>,
    /// When anything about the domain changed last.
    pub moved_at: DateTime<Utc>,
    /// What a quick look must read for nothing to have changed; `None` if the
    /// next look must be a full one.
    pub quick: Option<i64>,
}

/// What the evidence says about one gate.
enum Judged {
    Pass(String),
    NotYet(String),
    Unknown(String),
}

use Judged::{NotYet, Pass, Unknown};

/// Judges `domain` by `evidence`.
pub fn step(
    domain: &Domain,
    platform: &Platform,
    evidence: &Evidence,
    policy: &Policy,
    now: DateTime<Utc>,
) -> Outcome {
    let Some(survey) = &evidence.survey else { return unsurveyed(domain, policy, now) };
    let zone = survey.apex().unwrap_or(&domain.zone).to_owned();
    let sheet = domain.sheet(platform, &zone);
    let case = Case { domain, platform, sheet: &sheet, survey, evidence, policy, now };
    let found = findings::diagnose(&case);
    let waits = waiting::waits(&case);
    let spread = waiting::spread(&waits);

    let mut board = Board { gates: domain.gates.clone(), findings: &found, now };
    board.set(GateName::Ownership, ownership(&case));
    let routed = routing(&case, &waits);
    board.set(GateName::Routing, routed);
    let (judged, order) = certificate(&board, domain, evidence, &waits);
    board.set(GateName::Certificate, judged);
    let (judged, probe) = serving(&board, evidence);
    board.set(GateName::Serving, judged);

    let gates = board.gates;
    let fingerprint = Some(survey.fingerprint());
    let moved = fingerprint != domain.fingerprint || gates != domain.gates;
    let quiet_looks = if moved { 0 } else { domain.quiet_looks.saturating_add(1) };
    let retry_at = match &evidence.order {
        OrderState::Refused { retry_at, .. } => Some(*retry_at),
        _ => None,
    };
    let ends = waits.iter().filter_map(|w| w.until).min().filter(|_| gates.stage() != Stage::Live);
    let next_look = match ends {
        Some(ends) => schedule::when_cache_ends(ends, policy, now),
        None => schedule::next_look(gates.stage(), quiet_looks, policy, retry_at, now),
    };
    let foreign = evidence.forwards.is_none() && found.iter().any(|f| f.code == "address-foreign");
    let follow = foreign.then_some(Action::FollowForwards);
    let action = order.or(probe).or(follow);
    let moved_at = if moved { now } else { domain.moved_at };
    let calm = action.is_none() && ends.is_none() && is_calm(&case, gates.stage(), &found);
    let quick = calm.then(|| survey.quick_fingerprint(&domain.target(platform)));
    let findings = found;
    Outcome {
        gates,
        findings,
        action,
        next_look,
        quiet_looks,
        zone,
        fingerprint,
        spread,
        waits,
        moved_at,
        quick,
    }
}

/// Whether all that can happen next shows in what a quick survey reads: the
/// customer has not published yet, or everything is well.
fn is_calm(case: &Case<'_>, stage: Stage, found: &[Finding]) -> bool {
    let unpublished = match stage {
        Stage::Live => true,
        Stage::At(GateName::Ownership) => !case.owned(),
        Stage::At(GateName::Routing) => !case.routed(),
        Stage::At(_) => false,
    };
    let full =
        case.survey.depth == Depth::Full && case.survey.apex().is_some() && case.policy.quick_looks > 0;
    full && unpublished && found.iter().all(|f| f.severity == Severity::Note || f.code == "stalled")
}

/// Nothing was read, so nothing is known anew.
fn unsurveyed(domain: &Domain, policy: &Policy, now: DateTime<Utc>) -> Outcome {
    Outcome {
        gates: domain.gates.clone(),
        findings: Vec::new(),
        action: None,
        next_look: now + policy.look_first,
        quiet_looks: domain.quiet_looks,
        zone: domain.zone.clone(),
        fingerprint: domain.fingerprint,
        spread: None,
        waits: Vec::new(),
        moved_at: domain.moved_at,
        quick: None,
    }
}

/// The gates while they are being set.
struct Board<'a> {
    gates: Gates,
    findings: &'a [Finding],
    now: DateTime<Utc>,
}

impl Board<'_> {
    fn blocker(&self, name: GateName) -> Option<&Finding> {
        self.findings.iter().find(|f| f.gate == name && f.severity == Severity::Blocker)
    }

    fn passed(&self, name: GateName) -> bool {
        self.gates.passed(name)
    }

    fn set(&mut self, name: GateName, judged: Judged) {
        let before = self.gates.get(name);
        let held = matches!(before.state, GateState::Passed | GateState::Lapsed);
        let (state, reason) = match (judged, self.blocker(name)) {
            (Unknown(_), _) if held => return,
            (Pass(reason), None) => (GateState::Passed, reason),
            (Pass(_) | NotYet(_) | Unknown(_), Some(finding)) => {
                let state = if held { GateState::Lapsed } else { GateState::Blocked };
                (state, format!("{}: {}", finding.code, finding.remedy))
            }
            (NotYet(reason), None) if held => (GateState::Lapsed, reason),
            (NotYet(reason) | Unknown(reason), None) => (GateState::Waiting, reason),
        };
        let since = if state == before.state { before.since } else { self.now };
        self.gates.0[name as usize] = Gate { name, state, since, reason };
    }
}

/// Passes when every authority server that answers returns the token.
fn ownership(case: &Case<'_>) -> Judged {
    match case.owners() {
        (_, 0) => unread(case.survey),
        (with, all) if with == all && case.now > case.domain.token_expires_at && !was_owned(case) => {
            let day = case.domain.token_expires_at.format("%Y-%m-%d");
            NotYet(format!("The token ran out on {day}. Rotate it, and hand the customer the new sheet."))
        }
        (with, all) if with == all => Pass(format!("The token is at every authority server ({all}).")),
        (0, _) => {
            let at = case.sheet.host_field(&case.sheet.challenge);
            NotYet(format!("The TXT record at {at} is not there yet."))
        }
        (with, all) => NotYet(format!("{with} of {all} authority servers return the token.")),
    }
}

fn unread(survey: &Survey) -> Judged {
    match survey.zone {
        ZoneView::Unregistered { .. } => NotYet("The domain is not registered.".into()),
        _ => Unknown("No authority server answered.".into()),
    }
}

/// A token that proved ownership in time goes on proving it.
fn was_owned(case: &Case<'_>) -> bool {
    matches!(case.domain.gates.get(GateName::Ownership).state, GateState::Passed | GateState::Lapsed)
}

/// Passes when the authority servers agree on one choice met exactly, and the
/// spread over the vantages reaches the quorum.
fn routing(case: &Case<'_>, waits: &[Wait]) -> Judged {
    match case.verdict() {
        Verdict::Unreadable => unread(case.survey),
        Verdict::Match => spread_enough(waits, case.policy),
        Verdict::Absent => {
            let kinds = if case.way() == Way::Cname { "CNAME record is" } else { "address records are" };
            NotYet(format!("The {kinds} not at {} yet.", case.sheet.host_field(&case.sheet.routed)))
        }
        _ => NotYet("The authority servers do not all return what the sheet asks for.".into()),
    }
}

fn spread_enough(waits: &[Wait], policy: &Policy) -> Judged {
    let share = match waiting::spread(waits) {
        Some(share) if share + 1e-9 < policy.quorum => share,
        _ => return Pass("The authority servers agree, and enough vantages see it.".into()),
    };
    let ends = match waiting::settled_at(waits, policy.quorum) {
        Some(at) => format!("Enough of them let go of it by {}.", at.format("%H:%M:%S UTC")),
        None => "Some of them give no answer that tells how long.".into(),
    };
    NotYet(format!(
        "The zone is right. {:.0} % of the vantages see it; {:.0} % are needed. The rest still hold an older \
         answer. {ends}",
        share * 100.0,
        policy.quorum * 100.0
    ))
}

/// Where a visitor is led: the addresses that the first matching vantage gives,
/// IPv6 first, as certification authorities try them. Empty until one matches.
pub fn addresses_to_visit(domain: &Domain, platform: &Platform, survey: &Survey) -> Vec<IpAddr> {
    let sheet = domain.sheet(platform, survey.apex().unwrap_or(&domain.zone));
    let expected = Expected::new(&sheet, &domain.ingress, survey);
    let mut views = survey.vantages().filter_map(|source| survey.host_view(source));
    let matching = |v: &HostView| expected.routing(Some(v)) == Verdict::Match;
    let Some(view) = views.find(matching) else { return Vec::new() };
    let six = view.ipv6.into_iter().map(IpAddr::from);
    six.chain(view.ipv4.into_iter().map(IpAddr::from)).collect()
}

/// The addresses that the zone names and that are somebody else's.
pub fn foreign_addresses(domain: &Domain, survey: &Survey) -> Vec<IpAddr> {
    let views = survey.authority_views();
    let foreign = views.iter().flat_map(|(_, view)| view.ipv4.difference(&domain.ingress.ipv4));
    let unique: BTreeSet<_> = foreign.copied().map(IpAddr::from).collect();
    unique.into_iter().collect()
}

/// Passes while a certificate is held that covers the host and has not run out.
fn certificate(
    board: &Board<'_>,
    domain: &Domain,
    evidence: &Evidence,
    waits: &[Wait],
) -> (Judged, Option<Action>) {
    let (name, now) = (domain.routed(), board.now);
    let held = evidence.certificate.as_ref().filter(|c| c.names.contains(&name));
    if let Some(held) = held.filter(|c| c.not_after > now) {
        return (Pass(format!("Held until {}.", held.not_after.format("%Y-%m-%d"))), None);
    }
    if !board.passed(GateName::Ownership) || !board.passed(GateName::Routing) {
        return (NotYet("Comes after ownership and routing.".into()), None);
    }
    if board.blocker(GateName::Certificate).is_some_and(|f| f.code != "issuer-refused") {
        return (NotYet("An open finding forbids it.".into()), None);
    }
    if domain.wildcard {
        let reason = "A wildcard certificate needs a challenge by DNS, which is not set up.";
        return (NotYet(reason.into()), None);
    }
    // The certification authority asks through a resolver of its own, which may
    // be as late as the last of ours.
    let late = waits.iter().filter_map(|w| w.until).filter(|until| *until > now).max();
    if let Some(until) = late.filter(|until| *until <= now + LONGEST_HOLD) {
        let until = until.format("%H:%M:%S UTC");
        let reason = format!("Ordered once the last vantage lets go of an older answer, at about {until}.");
        return (NotYet(reason), None);
    }
    order(evidence, now)
}

fn order(evidence: &Evidence, now: DateTime<Utc>) -> (Judged, Option<Action>) {
    match &evidence.order {
        OrderState::Open => return (NotYet("Ordered; the issuer is validating.".into()), None),
        OrderState::Refused { retry_at, .. } if *retry_at > now => {
            return (NotYet("The issuer refused; another order comes later.".into()), None);
        }
        _ => {}
    }
    let Some(fetches) = &evidence.canary else {
        return (NotYet("Preflight is due.".into()), Some(Action::FetchCanary));
    };
    match fetches.iter().find_map(|f| Some((f.address, f.failure.as_ref()?))) {
        Some((address, failure)) => {
            let reason = format!("Plain HTTP through {address} does not reach the platform: {failure}.");
            (NotYet(reason), None)
        }
        None if fetches.is_empty() => (NotYet("No address to fetch the canary through.".into()), None),
        None => (NotYet("Preflight passed; the order is being placed.".into()), Some(Action::PlaceOrder)),
    }
}

/// Passes when every address serves our certificate and redirects to HTTPS.
fn serving(board: &Board<'_>, evidence: &Evidence) -> (Judged, Option<Action>) {
    let (Some(held), true) = (&evidence.certificate, board.passed(GateName::Certificate)) else {
        return (NotYet("Comes after the certificate.".into()), None);
    };
    if !board.passed(GateName::Routing) {
        return (Unknown("Comes after routing.".into()), None);
    }
    let Some(results) = &evidence.probe else {
        return (Unknown("Not probed yet.".into()), Some(Action::Probe));
    };
    let judged = match results.iter().find_map(|result| trouble(result, &held.serial)) {
        Some(reason) => NotYet(reason),
        None if results.is_empty() => Unknown("No address to probe.".into()),
        None => Pass(format!("{} addresses serve our certificate.", results.len())),
    };
    (judged, None)
}

fn trouble(result: &ProbeResult, serial: &str) -> Option<String> {
    let address = result.address;
    if let Some(failure) = &result.tls_failure {
        return Some(format!("HTTPS at {address} fails: {failure}."));
    }
    if result.serial.as_deref() != Some(serial) {
        return Some(format!("{address} serves another certificate than ours."));
    }
    let failure = result.redirect_failure.as_ref()?;
    Some(format!("HTTP at {address} does not lead to HTTPS: {failure}."))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::{CanaryFetch, Problem};
    use crate::reading::RecordType;
    use crate::test::{self as testing, now};
    use GateName::{Certificate, Ownership, Routing, Serving};
    use GateState::{Blocked, Lapsed, Passed, Waiting};

    const HOST: &str = "timetable.onswick.example";

    fn judge(domain: &Domain, evidence: &Evidence) -> Outcome {
        step(domain, &testing::platform(), evidence, &testing::policy(), now())
    }

    fn surveyed(lines: &[&str]) -> Evidence {
        Evidence { survey: Some(testing::survey(HOST, lines)), ..Evidence::default() }
    }

    fn states(outcome: &Outcome) -> [GateState; 4] {
        [Ownership, Routing, Certificate, Serving].map(|name| outcome.gates.get(name).state)
    }

    fn held() -> Evidence {
        let canary = Some(vec![CanaryFetch { address: [127, 77, 0, 10].into(), failure: None }]);
        let certificate = Some(testing::certificate(HOST));
        Evidence { canary, certificate, ..surveyed(&testing::healthy(HOST)) }
    }

    fn probed(serial: &str, tls_failure: Option<&str>) -> Option<Vec<ProbeResult>> {
        let address = [127, 77, 0, 10].into();
        let (serial, tls_failure) = (Some(serial.to_owned()), tls_failure.map(str::to_owned));
        Some(vec![ProbeResult { address, serial, tls_failure, redirect_failure: None }])
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
    fn the_four_gates_pass_in_order_each_asking_for_the_next_evidence() {
        let domain = testing::domain(HOST);
        let mut evidence = surveyed(&testing::healthy(HOST));
        let outcome = judge(&domain, &evidence);
        assert_eq!(states(&outcome), [Passed, Passed, Waiting, Waiting]);
        assert_eq!(outcome.action, Some(Action::FetchCanary));

        evidence.canary = held().canary;
        assert_eq!(judge(&domain, &evidence).action, Some(Action::PlaceOrder));
        evidence.order = OrderState::Open;
        assert_eq!(judge(&domain, &evidence).action, None);

        let mut evidence = held();
        let outcome = judge(&domain, &evidence);
        assert_eq!((states(&outcome)[2], outcome.action), (Passed, Some(Action::Probe)));
        evidence.probe = probed("5e71a1", None);
        let outcome = judge(&domain, &evidence);
        assert_eq!(states(&outcome), [Passed; 4]);
        assert_eq!(outcome.next_look - now(), testing::policy().look_live);
    }

    #[test]
    fn a_certificate_of_somebody_else_does_not_count_as_served() {
        let domain = testing::domain(HOST);
        for probe in [probed("beef", None), probed("5e71a1", Some("certificate expired"))] {
            let outcome = judge(&domain, &Evidence { probe, ..held() });
            assert_eq!(states(&outcome)[3], Waiting);
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
    fn silence_proves_nothing_about_a_passed_gate() {
        let mut domain = testing::domain(HOST);
        domain.gates = judge(&domain, &surveyed(&testing::healthy(HOST))).gates;
        let silent = testing::silent_survey(HOST);
        let outcome = judge(&domain, &Evidence { survey: Some(silent), ..Evidence::default() });
        assert_eq!(states(&outcome)[..2], [Passed, Passed]);
    }

    #[test]
    fn a_token_that_ran_out_proves_nothing_new_and_keeps_what_it_proved() {
        let mut domain = testing::domain(HOST);
        domain.token_expires_at = now() - chrono::Duration::days(1);
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
            // A finding may be mended in a record that a quick look does not read.
            (&["timetable CNAME shop.harrowhost.example"], false),
            // From here on it goes by itself.
            (&testing::healthy(HOST), false),
        ] {
            assert_eq!(quick(&surveyed(lines)).is_some(), want, "{lines:?}");
        }
        let live = Evidence { probe: probed("5e71a1", None), ..held() };
        assert_eq!(quick(&live), Some(quick_print(&live)));
        let glanced =
            Evidence { survey: live.survey.clone().map(|s| Survey { depth: Depth::Quick, ..s }), ..live };
        assert_eq!(quick(&glanced), None, "a quick look does not vouch for the next one");
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
        let shown: Vec<_> = foreign_addresses(&domain, &survey).iter().map(ToString::to_string).collect();
        assert_eq!(shown, ["192.0.2.7", "192.0.2.8"]);
        let mut evidence = Evidence { survey: Some(survey), ..Evidence::default() };
        assert_eq!(judge(&domain, &evidence).action, Some(Action::FollowForwards));
        evidence.forwards = Some(Vec::new());
        assert_eq!(judge(&domain, &evidence).action, None);
        let ours = testing::survey("onswick.example", &testing::healthy("onswick.example"));
        assert!(foreign_addresses(&domain, &ours).is_empty());
    }

    #[test]
    fn an_order_waits_for_the_last_vantage_that_lets_go_soon() {
        let domain = testing::domain(HOST);
        for (ttl, want) in [(60, None), (3600, Some(Action::FetchCanary))] {
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
            let retry_at = now() + chrono::Duration::seconds(seconds);
            Evidence { order: OrderState::Refused { problem, retry_at }, certificate: None, ..held() }
        };
        let early = judge(&domain, &refused(60));
        assert_eq!((states(&early)[2], early.action), (Blocked, None));
        assert_eq!(judge(&domain, &refused(-1)).action, Some(Action::PlaceOrder));
    }

    #[test]
    fn quiet_looks_count_up_until_something_moves() {
        let mut domain = testing::domain(HOST);
        let evidence = surveyed(&[]);
        for want in [0, 1, 2] {
            let outcome = judge(&domain, &evidence);
            assert_eq!(outcome.quiet_looks, want);
            domain.gates = outcome.gates;
            domain.fingerprint = outcome.fingerprint;
            domain.quiet_looks = outcome.quiet_looks;
        }
        assert_eq!(judge(&domain, &surveyed(&["timetable A 192.0.2.7"])).quiet_looks, 0);
    }

    #[test]
    fn visits_go_where_a_matching_vantage_leads_ipv6_first() {
        let domain = testing::domain("onswick.example");
        let visit = |survey: &Survey| addresses_to_visit(&domain, &testing::platform(), survey);
        let healthy = testing::healthy("onswick.example");
        let seen = testing::survey_spread("onswick.example", &healthy, 1, 2);
        let shown: Vec<_> = visit(&seen).iter().map(ToString::to_string).collect();
        assert_eq!(shown, ["::1", "127.77.0.10", "127.77.0.11"]);
        assert!(visit(&testing::survey_spread("onswick.example", &healthy, 0, 2)).is_empty());
        let foreign = testing::survey_spread("onswick.example", &["@ A 192.0.2.7"], 2, 2);
        assert!(visit(&foreign).is_empty(), "a foreign address is never visited");
    }

    #[test]
    fn a_canary_that_does_not_arrive_holds_the_order_back_and_says_where() {
        let domain = testing::domain(HOST);
        let address = [127, 77, 0, 11].into();
        let canary = Some(vec![CanaryFetch { address, failure: Some("it answers with status 404".into()) }]);
        let outcome = judge(&domain, &Evidence { canary, certificate: None, ..held() });
        assert_eq!((states(&outcome)[2], outcome.action), (Waiting, None));
        let reason = &outcome.gates.get(Certificate).reason;
        assert_eq!(
            reason,
            "Plain HTTP through 127.77.0.11 does not reach the platform: it answers with status 404."
        );
    }

    #[test]
    fn a_certificate_that_ran_out_or_is_for_another_name_does_not_pass() {
        let domain = testing::domain(HOST);
        let (mut old, other) = (testing::certificate(HOST), testing::certificate("www.onswick.example"));
        old.not_after = now();
        for certificate in [old, other] {
            let outcome = judge(&domain, &Evidence { certificate: Some(certificate), ..held() });
            assert_eq!((states(&outcome)[2], outcome.action), (Waiting, Some(Action::PlaceOrder)));
        }
    }
}

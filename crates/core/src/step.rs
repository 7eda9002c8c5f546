//! The judgement: from what was learned to where the domain stands.
//!
//! [`step`] is one pure function. It never passes a gate without evidence, and
//! the same evidence gives the same answer.

use std::collections::BTreeSet;
use std::net::IpAddr;

use chrono::{DateTime, Duration, Utc};

use crate::certificate::CertificateFacts;
use crate::domain::Domain;
use crate::evidence::{Evidence, OrderState, ProbeResult};
use crate::finding::{Case, Finding, Severity};
use crate::findings;
use crate::gate::{Gate, GateName, GateState, Gates, Stage};
use crate::ingress::Platform;
use crate::policy::{Fronting, Policy};
use crate::preflight::{self, Check, CheckState};
use crate::schedule;
use crate::sheet::Way;
use crate::survey::{Depth, HostView, Survey, ZoneView};
use crate::verdict::{Expected, Verdict};
use crate::waiting::{self, Wait};

/// What the world outside must do before the domain can get further.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// Fetch the canary through every address, then judge again.
    FetchCanary,
    /// Place a certificate order.
    PlaceOrder {
        /// Whether it covers the other one of the pair too.
        pair: bool,
    },
    /// Probe every address by TLS, then judge again.
    Probe,
    /// Ask the foreign addresses where they send visitors, and whether the
    /// canary arrives through them, then judge again.
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

/// Findings behind which a proxy may stand that passes visitors on.
const FRONTABLE: [&str; 3] = ["address-foreign", "cname-foreign", "cname-chain-broken"];

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

    let mut board = Board { gates: domain.gates.clone(), findings: &found, grace: policy.grace, now };
    board.set(GateName::Ownership, ownership(&case));
    let routed = routing(&case, &waits);
    board.set(GateName::Routing, routed);
    let (judged, order) = certificate(&case, &board, &waits);
    board.set(GateName::Certificate, judged);
    let (judged, probe) = serving(&case, &board);
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
    // A renewal that is held up is looked at like an order that is.
    let due = evidence.certificate.as_ref().is_some_and(|held| held.is_due(now));
    let at = match gates.stage() {
        Stage::Live if due => Stage::At(GateName::Certificate),
        stage => stage,
    };
    let next_look = match ends {
        Some(ends) => schedule::when_cache_ends(ends, policy, now),
        None => schedule::next_look(at, quiet_looks, policy, retry_at, now),
    };
    let foreign = found.iter().any(|f| FRONTABLE.contains(&f.code.as_str()));
    let follow = (evidence.forwards.is_none() && foreign).then_some(Action::FollowForwards);
    let action = order.or(probe).or(follow);
    let moved_at = if moved { now } else { domain.moved_at };
    let calm = action.is_none() && !due && ends.is_none() && is_calm(&case, gates.stage(), &found);
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
        Stage::At(_) | Stage::Released => false,
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
    grace: Duration,
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
        let in_grace = before.state == GateState::Lapsed && self.now - before.since < self.grace;
        let held = before.state == GateState::Passed || in_grace;
        let (state, reason) = match (judged, self.blocker(name)) {
            (Unknown(_), _) if matches!(before.state, GateState::Passed | GateState::Lapsed) => return,
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
    if case.is_fronted() && case.policy.fronting == Fronting::Allow {
        return Pass("A proxy in front passes visitors on to the platform.".into());
    }
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

/// The addresses that visitors are led to and that are somebody else's, IPv6
/// first: those in the zone, and those that the vantages find behind an alias.
pub fn foreign_addresses(domain: &Domain, survey: &Survey) -> Vec<IpAddr> {
    let sources = survey.sources().into_iter().filter_map(|source| survey.host_view(source));
    let (mut six, mut four) = (BTreeSet::new(), BTreeSet::new());
    for view in sources {
        six.extend(view.ipv6.difference(&domain.ingress.ipv6).copied());
        four.extend(view.ipv4.difference(&domain.ingress.ipv4).copied());
    }
    six.into_iter().map(IpAddr::from).chain(four.into_iter().map(IpAddr::from)).collect()
}

/// Passes while a certificate is held that covers the host and has not run out.
/// One that is due for renewal is served until the next one is there.
fn certificate(case: &Case<'_>, board: &Board<'_>, waits: &[Wait]) -> (Judged, Option<Action>) {
    let held = case.held();
    match held {
        Some(held) if !held.is_due(case.now) => (Pass(held_until(&held.facts)), None),
        Some(held) => {
            let (judged, action) = order(case, board, waits);
            let reason = match judged {
                Pass(reason) | NotYet(reason) | Unknown(reason) => reason,
            };
            (Pass(format!("{} Renewal is due. {reason}", held_until(&held.facts))), action)
        }
        None => order(case, board, waits),
    }
}

fn held_until(facts: &CertificateFacts) -> String {
    format!("Held until {}.", facts.not_after.format("%Y-%m-%d"))
}

fn order(case: &Case<'_>, board: &Board<'_>, waits: &[Wait]) -> (Judged, Option<Action>) {
    if !board.passed(GateName::Ownership) || !board.passed(GateName::Routing) {
        return (NotYet("Comes after ownership and routing.".into()), None);
    }
    if preflight::is_forbidden(board.findings) {
        return (NotYet("An open finding forbids it.".into()), None);
    }
    let checks = preflight::checks(case, &board.gates, board.findings, waits);
    match checks.iter().find(|check| check.state != CheckState::Passed) {
        None => {
            let reason = "Preflight passed; the order is being placed.";
            (NotYet(reason.into()), Some(Action::PlaceOrder { pair: shares_order(case) }))
        }
        Some(check) => (NotYet(check.said.clone()), fetch(case, check)),
    }
}

/// The canary is fetched once nothing else stands in the way.
fn fetch(case: &Case<'_>, check: &Check) -> Option<Action> {
    (check.name == "canary" && case.evidence.canary.is_none()).then_some(Action::FetchCanary)
}

/// Whether the other one of the pair is covered by the same order: the canary
/// arrives there too, and no order has been refused.
fn shares_order(case: &Case<'_>) -> bool {
    let refused = matches!(case.evidence.order, OrderState::Refused { .. });
    let fetched = case.evidence.pair_canary.as_deref().unwrap_or_default();
    wants_pair_canary(case.domain, case.evidence, case.now)
        && !refused
        && !fetched.is_empty()
        && preflight::lost(fetched).is_none()
}

/// Whether the other one of the pair is worth a canary of its own.
pub fn wants_pair_canary(domain: &Domain, evidence: &Evidence, now: DateTime<Utc>) -> bool {
    let Some(pair) = &domain.pair else { return false };
    let shared = evidence.certificate.as_ref().is_some_and(|held| held.covers(&pair.other, now));
    pair.other_ready || (pair.other_stage == Stage::Live && shared)
}

/// Everything that is asked before an order, for people to read: nothing is
/// ordered, whatever it says.
pub fn preflight(
    domain: &Domain,
    platform: &Platform,
    evidence: &Evidence,
    policy: &Policy,
    now: DateTime<Utc>,
) -> Vec<Check> {
    let Some(survey) = &evidence.survey else { return Vec::new() };
    let sheet = domain.sheet(platform, survey.apex().unwrap_or(&domain.zone));
    let case = Case { domain, platform, sheet: &sheet, survey, evidence, policy, now };
    let gates = step(domain, platform, evidence, policy, now).gates;
    preflight::checks(&case, &gates, &findings::diagnose(&case), &waiting::waits(&case))
}

/// Passes when every address serves our certificate and redirects as it should.
fn serving(case: &Case<'_>, board: &Board<'_>) -> (Judged, Option<Action>) {
    let evidence = case.evidence;
    let (Some(held), true) = (&evidence.certificate, board.passed(GateName::Certificate)) else {
        return (NotYet("Comes after the certificate.".into()), None);
    };
    if !board.passed(GateName::Routing) {
        return (Unknown("Comes after routing.".into()), None);
    }
    let Some(probe) = &evidence.probe else {
        return (Unknown("Not probed yet.".into()), Some(Action::Probe));
    };
    let through_a_proxy = case.is_fronted() && case.policy.fronting == Fronting::Allow;
    let ours = (!through_a_proxy).then_some(held.facts.serial.as_str());
    let judged = match probe.results.iter().find_map(|result| trouble(result, ours)) {
        Some(reason) => NotYet(reason),
        None if probe.results.is_empty() => Unknown("No address to probe.".into()),
        None if ours.is_none() => Pass("The proxy in front serves a good certificate.".into()),
        None => Pass(format!("{} addresses serve our certificate.", probe.results.len())),
    };
    (judged, None)
}

/// What a visitor through one address would stumble over; with `ours`, another
/// certificate than the one with that serial counts too.
fn trouble(result: &ProbeResult, ours: Option<&str>) -> Option<String> {
    let address = result.address;
    if let Some(failure) = &result.tls_failure {
        return Some(format!("HTTPS at {address} fails: {failure}."));
    }
    if ours.is_some() && result.serial() != ours {
        return Some(format!("{address} serves another certificate than ours."));
    }
    if let Some(failure) = &result.redirect_failure {
        return Some(format!("HTTP at {address} does not lead to HTTPS: {failure}."));
    }
    let failure = result.pair_failure.as_ref()?;
    Some(format!("{address} does not lead to the primary: {failure}."))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::certificate::Held;
    use crate::domain::Pair;
    use crate::evidence::{CanaryFetch, Probe, Problem};
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
        let certificate = Some(testing::held(HOST));
        Evidence { canary, certificate, ..surveyed(&testing::healthy(HOST)) }
    }

    fn probed(serial: &str, tls_failure: Option<&str>) -> Option<Probe> {
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
    fn the_four_gates_pass_in_order_each_asking_for_the_next_evidence() {
        let domain = testing::domain(HOST);
        let mut evidence = surveyed(&testing::healthy(HOST));
        let outcome = judge(&domain, &evidence);
        assert_eq!(states(&outcome), [Passed, Passed, Waiting, Waiting]);
        assert_eq!(outcome.action, Some(Action::FetchCanary));

        evidence.canary = held().canary;
        assert_eq!(judge(&domain, &evidence).action, Some(Action::PlaceOrder { pair: false }));
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
            let retry_at = now() + Duration::seconds(seconds);
            Evidence { order: OrderState::Refused { problem, retry_at }, certificate: None, ..held() }
        };
        let early = judge(&domain, &refused(60));
        assert_eq!((states(&early)[2], early.action), (Blocked, None));
        assert_eq!(judge(&domain, &refused(-1)).action, Some(Action::PlaceOrder { pair: false }));
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
        assert_eq!((states(&outcome)[2], outcome.action), (Blocked, None));
        assert!(outcome.gates.get(Certificate).reason.starts_with("challenge-blocked"));
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
        let other = || format!("www.{host}");
        let outcome = |other_stage, other_ready, since: i64, pair_canary: Option<Option<&str>>| {
            let mut domain = testing::domain(host);
            domain.pair = Some(Pair { other: other(), other_stage, is_primary: true, other_ready });
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
    fn a_spent_budget_holds_orders_back() {
        let domain = testing::domain(HOST);
        let spent = |seconds| {
            let free_at = now() + Duration::seconds(seconds);
            let budget = Some(crate::evidence::Spent {
                limit: crate::evidence::Limit::Own("40 orders".into()),
                free_at,
            });
            judge(&domain, &Evidence { budget, certificate: None, ..held() }).action
        };
        assert_eq!(spent(1), None);
        assert_eq!(spent(0), Some(Action::PlaceOrder { pair: false }));
    }

    #[test]
    fn a_proxy_in_front_is_routed_only_where_that_is_allowed() {
        let domain = testing::domain(HOST);
        let token = testing::healthy(HOST)[0];
        let fronts = Some(vec![CanaryFetch { address: [192, 0, 2, 7].into(), failure: None }]);
        let evidence = Evidence { fronts, ..surveyed(&[token, "timetable A 192.0.2.7"]) };
        for (fronting, want) in [(Fronting::Block, Blocked), (Fronting::Allow, Passed)] {
            let policy = Policy { fronting, ..testing::policy() };
            let outcome = step(&domain, &testing::platform(), &evidence, &policy, now());
            assert_eq!(states(&outcome)[1], want, "{fronting}");
        }
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
            let other = format!("www.{host}");
            domain.pair = Some(Pair { other, other_stage, is_primary: true, other_ready: false });
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
}

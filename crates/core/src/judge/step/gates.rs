//! What the evidence says about each gate.

use chrono::{DateTime, Utc};

use super::Action;
use super::board::Judged::{NotYet, Pass, Unknown};
use super::board::{Board, Judged};
use crate::judge::behind::Behind;
use crate::judge::case::{Case, Owners};
use crate::judge::certificate::CertificateFacts;
use crate::judge::domain::Domain;
use crate::judge::evidence::{Evidence, OrderState, ProbeResult};
use crate::judge::gate::{GateName, Stage};
use crate::judge::moment::moment;
use crate::judge::policy::Fronting;
use crate::judge::preflight::{self, Check, CheckName, CheckState};
use crate::judge::verdict::Verdict;
use crate::judge::waiting::{self, Wait};
use crate::reading::answer::Reading;
use crate::reading::survey::{Survey, ZoneView};
use crate::reading::trust::Signed;
use crate::sheet::line::Choice;

/// What is said of a gate, and what has to be done before more can be said.
pub(super) struct Next {
    pub judged: Judged,
    pub asks: Option<Action>,
}

impl Next {
    fn asking(judged: Judged, asks: Action) -> Self {
        Self { judged, asks: Some(asks) }
    }
}

impl From<Judged> for Next {
    fn from(judged: Judged) -> Self {
        Self { judged, asks: None }
    }
}

/// What was judged, where all was read that there is to read: a part says nothing.
pub(super) fn on_the_whole(case: &Case<'_>, judged: Judged) -> Judged {
    match case.survey.cuts.first() {
        None => judged,
        Some(cut) => Unknown(format!("Only a part was read: {cut}.")),
    }
}

/// Passes when every authoritative server that answers returns the token, and a vantage sees it.
pub(super) fn ownership(case: &Case<'_>) -> Judged {
    let Owners { with, all, is_seen, is_checked } = case.owners;
    if all == 0 {
        return unread(case.survey);
    }
    if with == 0 {
        let at = case.sheet.host_field(&case.sheet.challenge);
        return NotYet(format!("The TXT record at {at} is not there yet."));
    }
    if with < all {
        return NotYet(format!("{with} of {all} authoritative servers return the token."));
    }

    if case.now > case.domain.token_expires_at && !was_owned(case) {
        let day = case.domain.token_expires_at.format("%Y-%m-%d");
        return NotYet(format!(
            "The token ran out on {day}. Rotate it, and hand the customer the new sheet."
        ));
    }
    let found = format!("The token is at every authoritative server ({all}).");
    if !was_owned(case) && !case.vantages.is_empty() && is_seen == Some(true) {
        match case.survey.signed {
            Some(Signed::Signed) if !is_checked => {
                return NotYet(format!(
                    "{found} The zone is signed, and no vantage that checks signatures sees it yet."
                ));
            }
            Some(Signed::Untold) => {
                return Unknown(format!("{found} The zone above does not say whether this one is signed."));
            }
            _ => {}
        }
    }
    match is_seen {
        _ if was_owned(case) || case.vantages.is_empty() => Pass(found),
        Some(true) => Pass(found),
        Some(false) => match waiting::token_until(case) {
            Some(at) => NotYet(format!("{found} No vantage sees it before {}.", moment(at, case.now))),
            None => NotYet(format!("{found} No vantage sees it yet.")),
        },
        None => Unknown(format!("{found} No vantage answers to confirm it.")),
    }
}

fn unread(survey: &Survey) -> Judged {
    match &survey.zone {
        ZoneView::Unregistered { .. } => NotYet("The domain is not registered.".into()),
        ZoneView::Unreachable { .. } if survey.is_cut_off() => Unknown(
            "Nothing answers, neither the zone's name servers nor any vantage: it may be the platform's own network."
                .into(),
        ),
        ZoneView::Unreachable { zone, .. } => Unknown(format!("No name server of {zone} answers.")),
        ZoneView::Found { .. } if survey.readings.iter().any(is_without_authority) => {
            Unknown("The name servers answer, but none with authority (the AA bit is missing).".into())
        }
        ZoneView::Found { .. } => Unknown("No authoritative server gave a usable answer.".into()),
    }
}

/// Whether a server of the zone has answered, and not as one that is an authority for it.
fn is_without_authority(reading: &Reading) -> bool {
    reading.is_lame() && reading.answer().is_some()
}

/// A token that proved ownership in time goes on proving it.
fn was_owned(case: &Case<'_>) -> bool {
    case.domain.gates.get(GateName::Ownership).state.is_reached()
}

/// Passes when the authoritative servers agree on one choice met exactly, and the
/// spread over the vantages reaches the quorum.
pub(super) fn routing(case: &Case<'_>, waits: &[Wait]) -> Judged {
    if case.is_fronted() && case.policy.fronting == Fronting::Allow {
        return Pass("A proxy in front passes visitors on to the platform.".into());
    }
    if case.evidence.behind == Behind::LeftAlone && case.policy.fronting == Fronting::Allow {
        return Unknown(
            "Whether a proxy passes visitors on is not known: its network was visited often just now.".into(),
        );
    }

    match case.verdict {
        Verdict::Unreadable => unread_routing(case, waits),
        Verdict::Match => spread_enough(case, waits),
        Verdict::Absent => {
            let kinds = match case.choice() {
                Choice::Cname => "CNAME record is",
                _ => "address records are",
            };
            NotYet(format!("The {kinds} not at {} yet.", case.sheet.host_field(&case.sheet.routed)))
        }
        Verdict::Partial | Verdict::Differs => {
            NotYet("The authoritative servers do not all return what the sheet asks for.".into())
        }
    }
}

/// Once no server of the zone answers, what resolvers still say decides whether
/// visitors arrive.
fn unread_routing(case: &Case<'_>, waits: &[Wait]) -> Judged {
    let answering = waits.iter().filter(|wait| wait.answers).count();
    let failing = waits.iter().filter(|wait| wait.failure.is_some()).count();
    match &case.survey.zone {
        ZoneView::Unreachable { zone, .. } if failing * 2 > answering => NotYet(format!(
            "No name server of {zone} answers, and {failing} of {answering} vantages get no answer any more."
        )),
        _ => unread(case.survey),
    }
}

fn spread_enough(case: &Case<'_>, waits: &[Wait]) -> Judged {
    let policy = case.policy;
    let answering = waits.iter().filter(|wait| wait.answers).count();
    if (answering as f64) + 1e-9 < policy.vantage_floor * waits.len() as f64 {
        return Unknown(format!(
            "The zone is right. Too few vantages answer to tell who sees it: {}.",
            silent(waits)
        ));
    }

    let aside =
        if answering < waits.len() { format!(" Left out: {}.", silent(waits)) } else { String::new() };
    let share = match waiting::spread(waits) {
        Some(share) if share + 1e-9 < policy.quorum => share,
        _ => {
            return Pass(format!("The authoritative servers agree, and enough vantages see it.{aside}"));
        }
    };

    NotYet(format!(
        "The zone is right. {:.0} % of the vantages that answer see it; {:.0} % are needed. {}{aside}",
        share * 100.0,
        policy.quorum * 100.0,
        against(case, waits)
    ))
}

/// Which vantages say nothing.
fn silent(waits: &[Wait]) -> String {
    let silent = waits.iter().filter(|wait| !wait.answers).map(|wait| wait.vantage.as_str());
    let mut silent: Vec<_> = silent.collect();
    silent.sort_unstable();

    let verb = if silent.len() == 1 { "is" } else { "are" };
    format!("{} {verb} silent", silent.join(" and "))
}

/// What keeps the others from seeing it, and until when.
fn against(case: &Case<'_>, waits: &[Wait]) -> String {
    let mut said: Vec<String> = Vec::new();
    for wait in waits {
        said.extend(wait.failure.iter().map(|failure| format!("{} {failure}.", wait.vantage)));
    }
    if waits.iter().all(|wait| wait.holds.is_empty()) {
        return said.join(" ");
    }

    said.push("The rest still hold an older answer.".into());
    said.push(match waiting::settled_at(waits, case.policy.quorum) {
        Some(at) => format!("Enough of them let go of it by {}.", moment(at, case.now)),
        None => "Some of them give no answer that tells how long.".into(),
    });
    said.join(" ")
}

/// Passes while a certificate is held that covers the host and has not run out.
/// One that is due for renewal is served until the next one is there.
pub(super) fn certificate(case: &Case<'_>, board: &Board<'_>, waits: &[Wait]) -> Next {
    let Some(held) = case.held() else { return order(case, board, waits) };
    let until = held_until(&held.facts);
    if !held.is_due(case.now) {
        return Pass(until).into();
    }

    let renewal = order(case, board, waits);
    let (Pass(reason) | NotYet(reason) | Unknown(reason)) = renewal.judged;
    Next { judged: Pass(format!("{until} Renewal is due. {reason}")), asks: renewal.asks }
}

fn held_until(facts: &CertificateFacts) -> String {
    format!("Held until {}.", facts.not_after.format("%Y-%m-%d"))
}

fn order(case: &Case<'_>, board: &Board<'_>, waits: &[Wait]) -> Next {
    if !board.passed(GateName::Ownership) || !board.passed(GateName::Routing) {
        return NotYet("Comes after ownership and routing.".into()).into();
    }
    if preflight::is_forbidden(board.findings) {
        return NotYet("An open finding forbids it.".into()).into();
    }

    let checks = preflight::checks(case, &board.gates, board.findings, waits);
    match checks.iter().find(|check| check.state != CheckState::Passed) {
        None => {
            let reason = "Preflight passed; the order is being placed.";
            Next::asking(NotYet(reason.into()), Action::PlaceOrder { pair: shares_order(case) })
        }
        Some(check) => Next { judged: NotYet(check.said.clone()), asks: fetch(case, check) },
    }
}

/// The canary is fetched once nothing else stands in the way.
fn fetch(case: &Case<'_>, check: &Check) -> Option<Action> {
    let is_due = check.name == CheckName::Canary && case.evidence.canary.is_none();
    is_due.then_some(Action::FetchCanary)
}

/// Whether the other one of the pair is covered by the same order: the canary
/// arrives there too, and no order has been refused.
fn shares_order(case: &Case<'_>) -> bool {
    let was_refused = matches!(case.evidence.order, OrderState::Refused { .. });
    let fetched = case.evidence.pair_canary.as_deref().unwrap_or_default();
    let arrives = !fetched.is_empty() && preflight::lost(fetched).is_none();
    wants_pair_canary(case.domain, case.evidence, case.now) && !was_refused && arrives
}

/// Whether the other one of the pair is worth a canary of its own.
pub fn wants_pair_canary(domain: &Domain, evidence: &Evidence, now: DateTime<Utc>) -> bool {
    let Some(pair) = &domain.pair else { return false };
    let is_shared = evidence.certificate.as_ref().is_some_and(|held| held.covers(&pair.other, now));
    pair.other_ready || (pair.other_stage == Stage::Live && is_shared)
}

/// Passes when every address serves our certificate and redirects as it should.
pub(super) fn serving(case: &Case<'_>, board: &Board<'_>) -> Next {
    let evidence = case.evidence;
    let (Some(held), true) = (&evidence.certificate, board.passed(GateName::Certificate)) else {
        return NotYet("Comes after the certificate.".into()).into();
    };
    if !board.passed(GateName::Routing) {
        return Unknown("Comes after routing.".into()).into();
    }
    if !case.domain.ties.standing.is_shown() {
        return NotYet("Comes once the name is this claim's.".into()).into();
    }
    let Some(probe) = &evidence.probe else {
        return Next::asking(Unknown("Not probed yet.".into()), Action::Probe);
    };

    let is_through_a_proxy = case.is_fronted() && case.policy.fronting == Fronting::Allow;
    let ours = (!is_through_a_proxy).then_some(held.facts.serial.as_str());
    let judged = match probe.results.iter().find_map(|result| trouble(result, ours)) {
        Some(reason) => NotYet(reason),
        None if probe.results.is_empty() => Unknown("No address to probe.".into()),
        None if ours.is_none() => Pass("The proxy in front serves a good certificate.".into()),
        None => Pass(format!("{} addresses serve our certificate.", probe.results.len())),
    };
    judged.into()
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

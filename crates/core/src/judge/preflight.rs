//! What must be so before a certificate is ordered: the questions that the CA
//! will ask, asked first.

use chrono::Duration;
use serde::{Deserialize, Serialize};

use crate::judge::canary::CanaryFetch;
use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::evidence::{Limit, OrderState, Spent};
use crate::judge::finding::{Finding, Severity};
use crate::judge::gate::{Gate, GateName, GateState, Gates};
use crate::judge::moment::moment;
use crate::judge::standing::Standing;
use crate::judge::waiting::Wait;
use crate::reading::answer::Rcode;
use crate::reading::climb::CaaView;
use crate::reading::method::Method;
use crate::reading::record::RecordType;
use crate::sheet::line::Choice;

/// How long an order is held back for vantages that are late; beyond that the
/// quorum is enough.
const LONGEST_HOLD: Duration = Duration::minutes(15);

crate::spelled! {
    /// What the CA will look at.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum CheckName: "check" {
        /// The gate of that name.
        Ownership = "ownership",
        /// The gate of that name.
        Routing = "routing",
        /// Whether the name is this claim's to have.
        Claim = "claim",
        /// Whether resolvers that check signatures answer.
        Dnssec = "dnssec",
        /// Whether CAA records allow the order.
        Caa = "caa",
        /// Whether a late resolver may still hold an older answer.
        Resolvers = "resolvers",
        /// Whether the other one of the pair is about to follow.
        Pair = "pair",
        /// Whether an order is open, or a budget used up.
        Orders = "orders",
        /// Whether the CA's question for a TXT record is led to us.
        Delegation = "delegation",
        /// Whether plain HTTP reaches the platform.
        Canary = "canary",
    }
}

crate::spelled! {
    /// How one check ended.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum CheckState: "state of a check" {
        /// The CA would find nothing wrong.
        Passed = "passed",
        /// The CA would refuse.
        Failed = "failed",
        /// It cannot be told yet, or its time has not come.
        Waiting = "waiting",
    }
}

/// One thing that the CA will look at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Check {
    /// What.
    pub name: CheckName,
    /// How it ended.
    pub state: CheckState,
    /// What was found, in one sentence.
    pub said: String,
}

use CheckState::{Failed, Passed, Waiting};

fn check(name: CheckName, state: CheckState, said: impl Into<String>) -> Check {
    Check { name, state, said: said.into() }
}

/// Every check, cheapest first; an order is placed only when all are passed.
/// `gates` has ownership and routing as they stand now.
pub fn checks(case: &Case<'_>, gates: &Gates, found: &[Finding], waits: &[Wait]) -> Vec<Check> {
    let mut list = vec![
        gate(CheckName::Ownership, gates.get(GateName::Ownership)),
        gate(CheckName::Routing, gates.get(GateName::Routing)),
        claim(case.domain.ties.standing, gates),
        dnssec(found, waits),
        caa(case, found),
        resolvers(case, waits),
    ];
    list.extend(pair(case, gates));
    list.push(orders(case, gates));
    list.push(match case.domain.method(case.policy) {
        Method::Dns => delegation(case),
        Method::Http | Method::TlsAlpn => canary(case, gates),
    });
    list
}

fn gate(name: CheckName, gate: &Gate) -> Check {
    let state = match gate.state {
        GateState::Passed => Passed,
        GateState::Waiting => Waiting,
        GateState::Blocked | GateState::Lapsed => Failed,
    };
    check(name, state, gate.reason.clone())
}

/// Said once the claim is proved: before that, it would tell what others have.
fn claim(standing: Standing, gates: &Gates) -> Check {
    if !gates.passed(GateName::Ownership) {
        return check(CheckName::Claim, Waiting, "Comes after ownership.");
    }
    if standing.may_order() {
        return check(CheckName::Claim, Passed, "No other claim stands in the way.");
    }
    check(
        CheckName::Claim,
        Waiting,
        "Another claim holds the name; this one gets a certificate once it is ruled upon.",
    )
}

fn dnssec(found: &[Finding], waits: &[Wait]) -> Check {
    let fails = |wait: &Wait| wait.failure.is_some();
    match found.iter().find(|f| f.code == Code::DnssecBroken) {
        Some(finding) => check(CheckName::Dnssec, Failed, finding.remedy.clone()),
        // Why may show at the next look.
        None if !waits.is_empty() && waits.iter().all(fails) => check(
            CheckName::Dnssec,
            Waiting,
            "No vantage gets an answer; whether signatures are why cannot be told yet.",
        ),
        None => check(CheckName::Dnssec, Passed, "Resolvers that check signatures answer."),
    }
}

fn caa(case: &Case<'_>, found: &[Finding]) -> Check {
    if let Some(finding) = found.iter().find(|f| f.code == Code::CaaForbids) {
        return check(CheckName::Caa, Failed, finding.remedy.clone());
    }

    match case.caa() {
        CaaView::Set { owner, .. } => {
            check(CheckName::Caa, Passed, format!("The CAA records at {owner} allow our issuer."))
        }
        CaaView::None => check(CheckName::Caa, Passed, "No CAA record restricts issuers."),
        CaaView::Unread { owner, why, theirs: true } => {
            let said = format!("CAA records at {owner} cannot be read, so the issuer will refuse: {why}.");
            check(CheckName::Caa, Failed, said)
        }
        CaaView::Unread { owner, why, theirs: false } => {
            let said = format!(
                "CAA records at {owner} could not be read from here: {why}. They are asked for again."
            );
            check(CheckName::Caa, Waiting, said)
        }
    }
}

/// The certification authority asks through a resolver of its own, which may
/// be as late as the last of ours.
fn resolvers(case: &Case<'_>, waits: &[Wait]) -> Check {
    let late = waits.iter().filter_map(|w| w.until).filter(|until| *until > case.now).max();
    match late.filter(|until| *until <= case.now + LONGEST_HOLD) {
        Some(until) => {
            let until = moment(until, case.now);
            let said = format!("Ordered once the last vantage lets go of an older answer, at about {until}.");
            check(CheckName::Resolvers, Waiting, said)
        }
        None => check(CheckName::Resolvers, Passed, "No vantage is expected to change its answer soon."),
    }
}

/// The other one of the pair may follow within moments; one certificate is
/// then enough for both.
fn pair(case: &Case<'_>, gates: &Gates) -> Option<Check> {
    let pair = case.domain.pair.as_ref()?;
    let other = &pair.other;
    if pair.other_ready {
        let said = format!("{other} is ready for the same certificate.");
        return Some(check(CheckName::Pair, Passed, said));
    }
    if pair.has_begun() && !pair.other_late {
        return Some(check(CheckName::Pair, Passed, format!("{other} needs no certificate now.")));
    }

    let until = gates.get(GateName::Routing).since + case.policy.pair_hold;
    if case.now < until {
        return Some(check(CheckName::Pair, Waiting, format!("Waits a moment for {other} to follow.")));
    }
    let said = format!("{other} is not ready; it gets a certificate of its own later.");
    Some(check(CheckName::Pair, Passed, said))
}

/// A budget that others share is told to a proved claim alone.
fn orders(case: &Case<'_>, gates: &Gates) -> Check {
    match (&case.evidence.order, &case.evidence.budget) {
        (OrderState::Wanted | OrderState::Open, Some(Spent { limit: Limit::Issuer, free_at }))
            if *free_at > case.now =>
        {
            let at = moment(*free_at, case.now);
            check(CheckName::Orders, Waiting, format!("{}; the order goes on at {at}.", Limit::Issuer))
        }
        (OrderState::Wanted, _) => {
            check(CheckName::Orders, Waiting, "An order is on its way; the issuer has not taken it yet.")
        }
        (OrderState::Open, _) => check(CheckName::Orders, Waiting, "Ordered; the issuer is validating."),
        (OrderState::Refused { retry_at, .. }, _) if *retry_at > case.now => {
            let at = moment(*retry_at, case.now);
            check(
                CheckName::Orders,
                Waiting,
                format!("The issuer refused; the next order may be placed at {at}."),
            )
        }
        _ if !gates.passed(GateName::Ownership) => {
            check(CheckName::Orders, Waiting, "No order is open. The budget is told after ownership.")
        }
        (_, Some(spent)) if spent.free_at > case.now => {
            let at = moment(spent.free_at, case.now);
            check(
                CheckName::Orders,
                Waiting,
                format!("{}; the next order may be placed at {at}.", spent.limit),
            )
        }
        _ => check(CheckName::Orders, Passed, "No order is open, and the budget has room."),
    }
}

/// Whether the CA's question for a TXT record is led to us.
fn delegation(case: &Case<'_>) -> Check {
    let Some(line) = case.sheet.by(Choice::AcmeCname).next() else {
        let said =
            "A challenge by DNS needs a zone of the platform's own. Start the service with --acme-zone.";
        return check(CheckName::Delegation, Failed, said);
    };
    let at = &line.host_field;

    let answers: Vec<_> = case.survey.authority(&line.owner, RecordType::Txt).collect();
    let led = answers.iter().filter(|(_, a)| a.iter().any(|r| line.is_met_by(&r.data))).count();
    let all = answers.len();
    if all == 0 {
        return check(CheckName::Delegation, Waiting, "No authoritative server answered.");
    }
    if led < all {
        let said =
            format!("Add the CNAME record {} at {at}; {led} of {all} servers have it.", line.value_field);
        return check(CheckName::Delegation, Waiting, said);
    }

    let mut seen = case.survey.of(&line.owner, RecordType::Txt).filter(|r| !r.source.is_authority());
    match seen.find(|reading| reading.rcode() != Some(Rcode::NoError)) {
        Some(reading) => {
            let vantage = &reading.source;
            let said = format!("{vantage} gets no answer from the platform's own challenge zone.");
            check(CheckName::Delegation, Failed, said)
        }
        None => {
            check(CheckName::Delegation, Passed, format!("The CNAME at {at} leads the CA to the platform."))
        }
    }
}

fn canary(case: &Case<'_>, gates: &Gates) -> Check {
    let Some(fetches) = &case.evidence.canary else {
        return check(CheckName::Canary, Waiting, "Preflight is due.");
    };

    match lost(fetches) {
        Some((fetch, failure)) => {
            let address = fetch.address;
            let said = format!("Plain HTTP through {address} does not reach the platform: {failure}.");
            check(CheckName::Canary, Failed, said)
        }
        None if !fetches.is_empty() => {
            check(CheckName::Canary, Passed, format!("It arrives through all addresses ({}).", fetches.len()))
        }
        None if gates.passed(GateName::Routing) => {
            check(CheckName::Canary, Waiting, "No address to fetch the canary through.")
        }
        None => check(CheckName::Canary, Waiting, "Comes after routing."),
    }
}

/// The first address through which the canary does not arrive.
pub(crate) fn lost(fetches: &[CanaryFetch]) -> Option<(&CanaryFetch, &str)> {
    fetches.iter().find_map(|fetch| Some((fetch, fetch.failure.as_deref()?)))
}

/// Whether an open finding forbids any order.
pub(crate) fn is_forbidden(found: &[Finding]) -> bool {
    // What the CA or the canary said last time is asked anew.
    let asked_anew = [Code::IssuerRefused, Code::IssuerThrottled, Code::ChallengeBlocked];
    let blockers =
        found.iter().filter(|f| f.gate == GateName::Certificate && f.severity == Severity::Blocker);
    blockers.into_iter().any(|f| !asked_anew.contains(&f.code))
}

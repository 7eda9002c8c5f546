//! What must be so before a certificate is ordered: the questions that the CA
//! will ask, asked first.

use chrono::Duration;
use serde::{Deserialize, Serialize};

use crate::certificate::Method;
use crate::evidence::{CanaryFetch, Limit, OrderState, Spent};
use crate::finding::{Case, Finding, Severity};
use crate::gate::{GateName, GateState, Gates, Stage};
use crate::reading::{Rcode, RecordType};
use crate::sheet::{Purpose, Way};
use crate::waiting::Wait;

/// How long an order is held back for vantages that are late; beyond that the
/// quorum is enough.
const LONGEST_HOLD: Duration = Duration::minutes(15);

/// How one check ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum CheckState {
    /// The CA would find nothing wrong.
    Passed,
    /// The CA would refuse.
    Failed,
    /// It cannot be told yet, or its time has not come.
    Waiting,
}

/// One thing that the CA will look at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Check {
    /// What: `ownership`, `routing`, `dnssec`, `caa`, `resolvers`, `pair`,
    /// `orders`, `delegation` or `canary`.
    pub name: String,
    /// How it ended.
    pub state: CheckState,
    /// What was found, in one sentence.
    pub said: String,
}

use CheckState::{Failed, Passed, Waiting};

fn check(name: &str, state: CheckState, said: impl Into<String>) -> Check {
    Check { name: name.to_owned(), state, said: said.into() }
}

/// Every check, cheapest first; an order is placed only when all are passed.
/// `gates` has ownership and routing as they stand now.
pub fn checks(case: &Case<'_>, gates: &Gates, found: &[Finding], waits: &[Wait]) -> Vec<Check> {
    let mut list = vec![
        gate(gates, GateName::Ownership),
        gate(gates, GateName::Routing),
        dnssec(found),
        caa(case, found),
        resolvers(case, waits),
    ];
    list.extend(pair(case, gates));
    list.push(orders(case));
    list.push(match case.domain.method(case.policy) {
        Method::Dns => delegation(case),
        Method::Http | Method::TlsAlpn => canary(case, gates),
    });
    list
}

fn gate(gates: &Gates, name: GateName) -> Check {
    let gate = gates.get(name);
    let state = match gate.state {
        GateState::Passed => Passed,
        GateState::Waiting => Waiting,
        GateState::Blocked | GateState::Lapsed => Failed,
    };
    check(&name.to_string(), state, gate.reason.clone())
}

fn dnssec(found: &[Finding]) -> Check {
    match found.iter().find(|f| f.code == "dnssec-broken") {
        Some(finding) => check("dnssec", Failed, finding.remedy.clone()),
        None => check("dnssec", Passed, "Resolvers that check signatures answer."),
    }
}

fn caa(case: &Case<'_>, found: &[Finding]) -> Check {
    if let Some(finding) = found.iter().find(|f| f.code == "caa-forbids") {
        return check("caa", Failed, finding.remedy.clone());
    }
    match case.survey.relevant_caa() {
        Some((owner, _)) => check("caa", Passed, format!("The CAA records at {owner} allow our issuer.")),
        None => check("caa", Passed, "No CAA record restricts issuers."),
    }
}

/// The certification authority asks through a resolver of its own, which may
/// be as late as the last of ours.
fn resolvers(case: &Case<'_>, waits: &[Wait]) -> Check {
    let late = waits.iter().filter_map(|w| w.until).filter(|until| *until > case.now).max();
    match late.filter(|until| *until <= case.now + LONGEST_HOLD) {
        Some(until) => {
            let until = until.format("%H:%M:%S UTC");
            let said = format!("Ordered once the last vantage lets go of an older answer, at about {until}.");
            check("resolvers", Waiting, said)
        }
        None => check("resolvers", Passed, "No vantage is expected to change its answer soon."),
    }
}

/// The other one of the pair may follow within moments; one certificate is
/// then enough for both.
fn pair(case: &Case<'_>, gates: &Gates) -> Option<Check> {
    let pair = case.domain.pair.as_ref()?;
    let begun = !matches!(pair.other_stage, Stage::At(GateName::Ownership | GateName::Routing));
    let until = gates.get(GateName::Routing).since + case.policy.pair_hold;
    let other = &pair.other;
    Some(match () {
        () if pair.other_ready => {
            check("pair", Passed, format!("{other} is ready for the same certificate."))
        }
        () if begun => check("pair", Passed, format!("{other} needs no certificate now.")),
        () if case.now < until => check("pair", Waiting, format!("Waits a moment for {other} to follow.")),
        () => check("pair", Passed, format!("{other} is not ready; it gets a certificate of its own later.")),
    })
}

fn orders(case: &Case<'_>) -> Check {
    match (&case.evidence.order, &case.evidence.budget) {
        (OrderState::Open, Some(Spent { limit: Limit::Issuer, free_at })) if *free_at > case.now => {
            let at = free_at.format("%Y-%m-%d %H:%M:%S UTC");
            check("orders", Waiting, format!("Ordered. {}; it goes on at {at}.", Limit::Issuer))
        }
        (OrderState::Open, _) => check("orders", Waiting, "Ordered; the issuer is validating."),
        (OrderState::Refused { retry_at, .. }, _) if *retry_at > case.now => {
            let at = retry_at.format("%Y-%m-%d %H:%M:%S UTC");
            check("orders", Waiting, format!("The issuer refused; the next order may be placed at {at}."))
        }
        (_, Some(spent)) if spent.free_at > case.now => {
            let at = spent.free_at.format("%Y-%m-%d %H:%M UTC");
            check("orders", Waiting, format!("{}; the next order may be placed at {at}.", spent.limit))
        }
        _ => check("orders", Passed, "No order is open, and the budget has room."),
    }
}

/// Whether the CA's question for a TXT record is led to us.
fn delegation(case: &Case<'_>) -> Check {
    let word = "delegation";
    let Some(line) = case.sheet.by(Way::AcmeCname).next() else {
        let said =
            "A challenge by DNS needs a zone of the platform's own. Start the service with --acme-zone.";
        return check(word, Failed, said);
    };
    let at = &line.host_field;
    let answers: Vec<_> = case.survey.authority(&line.owner, RecordType::Txt).collect();
    let led = answers.iter().filter(|(_, a)| a.iter().any(|r| line.is_met_by(&r.data))).count();
    if answers.is_empty() || led < answers.len() {
        let said = match answers.len() {
            0 => "No authority server answered.".to_owned(),
            all => format!("Add the CNAME record {} at {at}; {led} of {all} servers have it.", line.value),
        };
        return check(word, Waiting, said);
    }
    let seen = case.survey.of(&line.owner, RecordType::Txt).filter(|r| !r.source.is_authority());
    let lost = seen.filter(|r| r.rcode() != Some(Rcode::NoError)).map(|r| r.source.to_string()).next();
    match lost {
        Some(vantage) => {
            check(word, Failed, format!("{vantage} gets no answer from the platform's own challenge zone."))
        }
        None => check(word, Passed, format!("The CNAME at {at} leads the CA to the platform.")),
    }
}

fn canary(case: &Case<'_>, gates: &Gates) -> Check {
    let Some(fetches) = &case.evidence.canary else { return check("canary", Waiting, "Preflight is due.") };
    match lost(fetches) {
        Some((fetch, failure)) => {
            let address = fetch.address;
            let said = format!("Plain HTTP through {address} does not reach the platform: {failure}.");
            check("canary", Failed, said)
        }
        None if !fetches.is_empty() => {
            check("canary", Passed, format!("It arrives through all addresses ({}).", fetches.len()))
        }
        None if gates.passed(GateName::Routing) => {
            check("canary", Waiting, "No address to fetch the canary through.")
        }
        None => check("canary", Waiting, "Comes after routing."),
    }
}

/// The first address through which the canary does not arrive.
pub(crate) fn lost(fetches: &[CanaryFetch]) -> Option<(&CanaryFetch, &str)> {
    fetches.iter().find_map(|fetch| Some((fetch, fetch.failure.as_deref()?)))
}

/// Whether an open finding forbids any order.
pub(crate) fn is_forbidden(found: &[Finding]) -> bool {
    let against = |f: &&Finding| f.gate == GateName::Certificate && f.severity == Severity::Blocker;
    // What the CA or the canary said last time is asked anew.
    let asked_anew = ["issuer-refused", "issuer-throttled", "challenge-blocked"];
    found.iter().filter(against).any(|f| !asked_anew.contains(&f.code.as_str()))
}

/// Whether the sheet asks for a record that lets the CA be answered by DNS.
pub fn needs_delegation(case: &Case<'_>) -> bool {
    case.sheet.of(Purpose::Certificate).next().is_some()
}

//! The judgement: from what was learned to where the domain stands.
//!
//! [`step`] is one pure function. It never passes a gate without evidence, and
//! the same evidence gives the same answer. All four gates are judged in it,
//! since each asks whether those before it are passed as of now, and a domain
//! must not be written down half judged.

mod addresses;
mod board;
mod gates;

use chrono::{DateTime, Utc};

pub use self::addresses::{addresses_to_probe, foreign_addresses};
pub use self::gates::wants_pair_canary;
pub use crate::judge::action::Action;

use self::board::Board;
use crate::judge::behind::Behind;
use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::domain::Domain;
use crate::judge::evidence::Evidence;
use crate::judge::finding::{Finding, Severity};
use crate::judge::findings;
use crate::judge::gate::{GateName, Gates};
use crate::judge::policy::Policy;
use crate::judge::preflight::{self, Check};
use crate::judge::schedule::{self, NextLook, Outlook};
use crate::judge::served::Served;
use crate::judge::waiting::{self, Wait};
use crate::name::dns::DnsName;
use crate::name::platform::Platform;

/// The new state of a domain.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// Where the gates stand now.
    pub gates: Gates,
    /// Every open finding.
    pub findings: Vec<Finding>,
    /// At most one thing to do.
    pub action: Option<Action>,
    /// When to look again.
    pub next_look: NextLook,
    /// The zone's apex, for the sheet.
    pub zone: DnsName,
    /// Fingerprint of the survey.
    pub fingerprint: Option<i64>,
    /// Share of vantages that see the routing, 0 to 1.
    pub spread: Option<f64>,
    /// What each vantage sees or still holds.
    pub waits: Vec<Wait>,
    /// What the zone's own servers return.
    pub served: Served,
    /// When anything about the domain changed last.
    pub moved_at: DateTime<Utc>,
    /// What a quick look must read for nothing to have changed; `None` if the
    /// next look must be a full one.
    pub quick: Option<i64>,
}

impl Outcome {
    /// What a look at a domain that is left alone changes: whether it is still proved, which others
    /// that claim the name must not wait for.
    #[must_use]
    pub fn of_proof_alone(self, before: &Gates) -> Self {
        let gates = before.with(self.gates.get(GateName::Ownership).clone());
        Self { gates, action: None, quick: None, ..self }
    }

    /// Whether the next look is likely to move a gate: it is the second one at what has just changed,
    /// or resolvers are about to let go of an older answer.
    pub fn is_about_to_move(&self) -> bool {
        self.gates.are_in_doubt() || schedule::cache_ends(&self.gates, &self.waits).is_some()
    }
}

/// What a case holds, told once.
struct Judgement<'a> {
    case: Case<'a>,
    found: Vec<Finding>,
    waits: Vec<Wait>,
}

impl<'a> Judgement<'a> {
    /// `None` where nothing was read.
    fn of(
        domain: &'a Domain,
        platform: &'a Platform,
        evidence: &'a Evidence,
        policy: &'a Policy,
        now: DateTime<Utc>,
    ) -> Option<Self> {
        let survey = evidence.survey.as_ref()?;
        let case = Case::new(domain, platform, survey, evidence, policy, now);
        let found = findings::diagnose(&case);
        let waits = waiting::waits(&case);
        Some(Self { case, found, waits })
    }

    /// The gates, and what the certificate or the serving gate asks for.
    fn gates(&self) -> (Gates, Option<Action>) {
        let Self { case, found, waits } = self;
        let mut board = Board::new(case, found);
        board.set(GateName::Ownership, gates::on_the_whole(case, gates::ownership(case)));
        board.set(GateName::Routing, gates::on_the_whole(case, gates::routing(case, waits)));

        let certificate = gates::certificate(case, &board, waits);
        board.set(GateName::Certificate, certificate.judged);

        let serving = gates::serving(case, &board);
        board.set(GateName::Serving, serving.judged);
        (board.gates, certificate.asks.or(serving.asks))
    }
}

/// Judges `domain` by `evidence`.
///
/// ```
/// use chrono::{DateTime, Utc};
/// use nomenta_core::judge::domain::Domain;
/// use nomenta_core::judge::evidence::Evidence;
/// use nomenta_core::judge::gate::{GateState, Stage};
/// use nomenta_core::judge::policy::Policy;
/// use nomenta_core::judge::step::step;
/// use nomenta_core::name::platform::Platform;
///
/// /// A domain that nothing is known of stays where it is, and is looked at soon.
/// fn nothing_read(domain: &Domain, platform: &Platform, now: DateTime<Utc>) {
///     let policy = Policy::default();
///     let outcome = step(domain, platform, &Evidence::default(), &policy, now);
///     assert_eq!(outcome.gates, domain.gates);
///     assert_eq!(outcome.next_look.due, now + policy.look_first);
/// }
/// # use nomenta_core::judge::gate::Gates;
/// # use nomenta_core::name::{hostname::Hostname, token::Token};
/// # use nomenta_core::sheet::ingress::{CanonicalHost, Ingress};
/// # let now = Utc::now();
/// # let domain = Domain {
/// #     host: Hostname::parse("timetable.onswick.example").unwrap(),
/// #     site: "onswick".into(),
/// #     ingress: Ingress {
/// #         name: "harbour".into(),
/// #         revision: 1,
/// #         ipv4: Default::default(),
/// #         ipv6: Default::default(),
/// #         canonical: CanonicalHost::parse("edge.quaymark.example").unwrap(),
/// #         name_servers: Default::default(),
/// #         subdomain_addresses: true,
/// #     },
/// #     wildcard: false,
/// #     token: Token::from_random([7; 20]),
/// #     token_expires_at: now,
/// #     superseded: Vec::new(),
/// #     mail_before: Vec::new(),
/// #     moved_at: now,
/// #     gates: Gates::new(now),
/// #     zone: "onswick.example".into(),
/// #     fingerprint: None,
/// #     enrolled_at: now,
/// #     pair: None,
/// #     ties: Default::default(),
/// # };
/// # let platform = Platform {
/// #     zone: "quaymark.example".into(),
/// #     brand: "quaymark".into(),
/// #     proof_zone: None,
/// #     acme_zone: None,
/// #     dns_for_all: false,
/// #     special_use: Vec::new(),
/// #     reserved: Vec::new(),
/// # };
/// # nothing_read(&domain, &platform, now);
/// ```
pub fn step(
    domain: &Domain,
    platform: &Platform,
    evidence: &Evidence,
    policy: &Policy,
    now: DateTime<Utc>,
) -> Outcome {
    let Some(judgement) = Judgement::of(domain, platform, evidence, policy, now) else {
        return unsurveyed(domain, policy, now);
    };
    let (gates, asks) = judgement.gates();
    let Judgement { case, mut found, waits } = judgement;

    let is_frontable = found.iter().any(|finding| findings::FRONTABLE.contains(&finding.code));
    let follow = (is_frontable && evidence.behind == Behind::Unasked).then_some(Action::FollowForwards);
    // What stands behind foreign addresses decides what else is worth doing.
    let action = follow.or(asks);

    found.retain(|finding| is_told(finding, &gates));

    let served = Served::of(&case);
    let fingerprint = case.survey.fingerprint();
    // Where a look is cut short another part is missing each time, and where answers vary another
    // one comes: whether anything has moved shows in what it comes to.
    let has_moved = if case.survey.cuts.is_empty() && !case.variation.is_any() {
        Some(fingerprint) != domain.fingerprint || gates != domain.gates
    } else {
        gates.moved_from(&domain.gates).next().is_some()
    };
    let moved_at = if has_moved { now } else { domain.moved_at };

    let outlook = Outlook { gates: &gates, found: &found, waits: &waits, action, moved_at };
    let next_look = schedule::after_look(&case, &outlook);
    let quick = schedule::quick(&case, &outlook);

    Outcome {
        next_look,
        quick,
        gates,
        findings: found,
        action,
        zone: case.sheet.zone,
        fingerprint: Some(fingerprint),
        spread: waiting::spread(&waits),
        served,
        waits,
        moved_at,
    }
}

/// Whether a finding is told as the gates stand.
fn is_told(finding: &Finding, gates: &Gates) -> bool {
    match finding.code {
        // What others have used up is no business of a claim that nobody has proved.
        Code::IssuerThrottled => gates.passed(GateName::Ownership),
        // What only one look has seen is told along with its gate, and no finding yet.
        _ => finding.severity != Severity::Blocker || gates.get(finding.gate).doubted_at.is_none(),
    }
}

/// Nothing was read, so nothing is known anew.
fn unsurveyed(domain: &Domain, policy: &Policy, now: DateTime<Utc>) -> Outcome {
    Outcome {
        gates: domain.gates.clone(),
        findings: Vec::new(),
        action: None,
        next_look: NextLook::at(now + policy.look_first),
        zone: domain.zone.clone(),
        fingerprint: domain.fingerprint,
        spread: None,
        waits: Vec::new(),
        served: Served::default(),
        moved_at: domain.moved_at,
        quick: None,
    }
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
    let Some(judgement) = Judgement::of(domain, platform, evidence, policy, now) else {
        return Vec::new();
    };
    let (gates, _) = judgement.gates();
    preflight::checks(&judgement.case, &gates, &judgement.found, &judgement.waits)
}

#[cfg(test)]
mod silence;
#[cfg(test)]
mod tests;

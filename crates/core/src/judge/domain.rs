//! A domain as the judgement sees it.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::judge::gate::{GateName, GateState, Gates, Stage};
use crate::judge::policy::Policy;
use crate::judge::standing::{Ending, Standing};
use crate::name::dns::DnsName;
use crate::name::hostname::Hostname;
use crate::name::mask::Mask;
use crate::name::platform::Platform;
use crate::name::subject::Subject;
use crate::name::token::Token;
use crate::reading::method::Method;
use crate::reading::record::Record;
use crate::reading::survey::Survey;
use crate::reading::target::Target;
use crate::sheet::form::Form;
use crate::sheet::ingress::Ingress;
use crate::sheet::{Brief, ProofAt, Sheet};

/// A domain and what the platform expects of it.
#[derive(Clone, Debug)]
pub struct Domain {
    /// The name.
    pub host: Hostname,
    /// The site it will show.
    pub site: String,
    /// The ingress of that site.
    pub ingress: Ingress,
    /// Whether every name under the host is meant, and not the host itself.
    pub wildcard: bool,
    /// The verification token.
    pub token: Token,
    /// When it runs out; after that it proves nothing new.
    pub token_expires_at: DateTime<Utc>,
    /// Tokens that were valid before it, newest first.
    pub superseded: Vec<Token>,
    /// The customer's mail records as they were at enrolment.
    pub mail_before: Vec<Record>,
    /// When anything about it changed last.
    pub moved_at: DateTime<Utc>,
    /// The gates as they stood before this look.
    pub gates: Gates,
    /// The zone's apex as last found, else the registered domain.
    pub zone: DnsName,
    /// Fingerprint of the survey before this one.
    pub fingerprint: Option<i64>,
    /// When the domain was taken in.
    pub enrolled_at: DateTime<Utc>,
    /// The other domain of the pair, apex or www, where there is one.
    pub pair: Option<Pair>,
    /// What other claims mean for it.
    pub ties: Ties,
}

/// What other claims, of its account and of others, mean for a domain.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ties {
    /// Where it stands beside the claims of the same name.
    pub standing: Standing,
    /// How it ended.
    pub ending: Option<Ending>,
    /// The name around it, or under whose wildcard it is, that another account
    /// holds.
    pub inside: Option<DnsName>,
    /// How many domains the account's plan grants, where this one is beyond them.
    pub beyond: Option<u32>,
    /// Where its token is published.
    pub proof_at: ProofAt,
    /// The label that stands for its site in a canonical host, if that is not the
    /// site's name: a site may be renamed, and a domain moved to another, without
    /// the customer changing a record.
    pub label: Option<String>,
}

/// The other one of two domains that show the same site.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pair {
    /// Its name.
    pub other: DnsName,
    /// The stage that it is at.
    pub other_stage: Stage,
    /// Whether this one is the primary, to which the other leads.
    pub is_primary: bool,
    /// Whether the other one waits for its certificate, with nothing in the
    /// way: one order can then cover both.
    #[serde(default)]
    pub other_ready: bool,
    /// Whether it waits likewise, but some vantages do not see it yet: the CA,
    /// which has a resolver of its own, may not see it either.
    #[serde(default)]
    pub other_late: bool,
}

impl Pair {
    /// From how the other one stands: at which stage, how its certificate gate
    /// stands, whether an order is on its way for it, and which share of the
    /// vantages sees it.
    pub fn new(
        other: DnsName,
        is_primary: bool,
        other_stage: Stage,
        other_certificate: GateState,
        other_is_ordered: bool,
        other_spread: Option<f64>,
    ) -> Self {
        // A blocked gate has a finding in the way; a waiting one has not.
        let is_next = other_stage == Stage::At(GateName::Certificate);
        let waits = is_next && other_certificate == GateState::Waiting && !other_is_ordered;
        let is_late = other_spread.is_some_and(|share| share < 1.0);
        Self { other, other_stage, is_primary, other_ready: waits && !is_late, other_late: waits && is_late }
    }

    /// Whether the other one has come past routing.
    pub fn has_begun(&self) -> bool {
        !matches!(self.other_stage, Stage::At(GateName::Ownership | GateName::Routing))
    }
}

impl Domain {
    /// How control over it is shown to the CA: by DNS for a wildcard.
    pub fn method(&self, policy: &Policy) -> Method {
        if self.wildcard { Method::Dns } else { policy.method }
    }

    /// The name to probe: one that only the wildcard answers for, or the host.
    pub fn probed_name(&self) -> DnsName {
        let host = DnsName::from(&self.host);
        if self.wildcard { host.child("nomenta-probe") } else { host }
    }

    /// The primary that this one is to redirect to, once that one is live.
    pub fn leads_to(&self) -> Option<&DnsName> {
        let pair = self.pair.as_ref()?;
        let leads = !pair.is_primary && pair.other_stage == Stage::Live;
        leads.then_some(&pair.other)
    }

    /// The name that routing records stand at: the host, or `*.` and the host.
    pub fn routed(&self) -> DnsName {
        self.subject().routed()
    }

    /// What stands for its site in a canonical host.
    pub fn label(&self) -> &str {
        self.ties.label.as_deref().unwrap_or(&self.site)
    }

    /// Hides its tokens, those of now and before.
    pub fn mask(&self) -> Mask {
        Mask::of(std::iter::once(&self.token).chain(&self.superseded))
    }

    /// Whether a token is its own, was so once, or was meant to be.
    pub fn had(&self, token: &Token) -> bool {
        self.superseded.contains(token) || self.token.is_like(token)
    }

    /// Hides whatever in a survey may be the token of another claim. Which of them are
    /// is not asked: that would tell who has which.
    pub fn mask_of_others(&self, survey: &Survey) -> Mask {
        let read = survey.token_candidates().into_iter().map(Token::from_stored);
        let others: Vec<_> = read.filter(|token| !self.had(token)).collect();
        Mask::of(&others)
    }

    /// What the domain was taken in for.
    pub fn subject(&self) -> Subject {
        Subject { host: self.host.clone(), wildcard: self.wildcard }
    }

    /// The sheet, relative to `zone`, as the customer's DNS editor wants it typed
    /// where its form is known.
    pub fn sheet(&self, platform: &Platform, zone: &DnsName, form: Option<&Form>) -> Sheet {
        let brief = Brief {
            subject: self.subject(),
            site: self.label(),
            proof_at: self.ties.proof_at,
            ingress: &self.ingress,
            token: &self.token,
            form,
        };
        Sheet::draw(&brief, platform, zone)
    }

    /// What a survey asks about.
    pub fn target(&self, platform: &Platform) -> Target {
        let canonical = self.ingress.canonical.for_site(self.label());
        let mut target = Target::new(&self.subject(), platform, canonical).with_token(&self.token);
        target.is_unproved = !self.gates.get(GateName::Ownership).state.is_reached();
        target.is_unrouted = !self.gates.passed(GateName::Routing) || self.gates.are_in_doubt();
        target.addresses = self.ingress.addresses();
        match self.ties.proof_at {
            ProofAt::Host => target,
            ProofAt::Zone => target.proved_at(platform.challenge_name(&self.zone)),
        }
    }
}

//! A domain as the judgement sees it.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::certificate::Method;
use crate::form::Form;
use crate::gate::{Gates, Stage};
use crate::hostname::{Hostname, Subject};
use crate::ingress::{Ingress, Platform};
use crate::policy::Policy;
use crate::reading::Record;
use crate::sheet::Sheet;
use crate::survey::Target;
use crate::token::Token;

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
    /// How the customer's DNS editor wants a line typed, where known.
    pub form: Option<Form>,
    /// The gates as they stood before this look.
    pub gates: Gates,
    /// The zone's apex as last found, else the registered domain.
    pub zone: String,
    /// Fingerprint of the survey before this one.
    pub fingerprint: Option<i64>,
    /// Looks in a row that found nothing new.
    pub quiet_looks: i32,
    /// When the domain was taken in.
    pub enrolled_at: DateTime<Utc>,
    /// The other domain of the pair, apex or www, where there is one.
    pub pair: Option<Pair>,
}

/// The other one of two domains that show the same site.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pair {
    /// Its name.
    pub other: String,
    /// The stage that it is at.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub other_stage: Stage,
    /// Whether this one is the primary, to which the other leads.
    pub is_primary: bool,
    /// Whether the other one waits for its certificate, with nothing in the
    /// way: one order can then cover both.
    #[serde(default)]
    pub other_ready: bool,
}

impl Domain {
    /// How control over it is shown to the CA: by DNS for a wildcard.
    pub fn method(&self, policy: &Policy) -> Method {
        if self.wildcard { Method::Dns } else { policy.method }
    }

    /// The name to probe: one that only the wildcard answers for, or the host.
    pub fn probed_name(&self) -> String {
        if self.wildcard { format!("nomenta-probe.{}", self.host) } else { self.host.to_string() }
    }

    /// The primary that this one is to redirect to, once that one is live.
    pub fn leads_to(&self) -> Option<&str> {
        let pair = self.pair.as_ref().filter(|pair| !pair.is_primary && pair.other_stage == Stage::Live)?;
        Some(&pair.other)
    }

    /// The name that routing records stand at: the host, or `*.` and the host.
    pub fn routed(&self) -> String {
        self.subject().to_string()
    }

    /// What the domain was taken in for.
    pub fn subject(&self) -> Subject {
        Subject { host: self.host.clone(), wildcard: self.wildcard }
    }

    /// The sheet, relative to `zone`.
    pub fn sheet(&self, platform: &Platform, zone: &str) -> Sheet {
        Sheet::draw(self, platform, zone)
    }

    /// What a survey asks about.
    pub fn target(&self, platform: &Platform) -> Target {
        Target::new(&self.subject(), platform, self.ingress.canonical.for_site(&self.site))
    }
}

//! What was learned beside the survey: the canary, the order, the certificate
//! and the serving probe.

use std::fmt;
use std::net::IpAddr;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::judge::behind::Behind;
use crate::judge::canary::CanaryFetch;
use crate::judge::certificate::{CertificateFacts, Held};
use crate::judge::load::Load;
use crate::name::dns::DnsName;
use crate::name::token::Token;
use crate::reading::registration::Registration;
use crate::reading::survey::Survey;
use crate::sheet::form::Form;

/// Last part of the type of a problem by which the CA asks for patience
/// (RFC 8555, section 6.7).
pub const RATE_LIMITED: &str = "rateLimited";

/// Everything known when a domain is judged.
#[derive(Clone, Debug, Default)]
pub struct Evidence {
    /// What DNS says now.
    pub survey: Option<Survey>,
    /// How the customer's DNS editor wants a line typed, where known.
    pub form: Option<Form>,
    /// Whether plain HTTP through the domain's own addresses reaches us.
    pub canary: Option<Vec<CanaryFetch>>,
    /// The latest certificate order.
    pub order: OrderState,
    /// The certificate held for the domain.
    pub certificate: Option<Held>,
    /// What a TLS client gets.
    pub probe: Option<Probe>,
    /// What stands behind somebody else's addresses.
    pub behind: Behind,
    /// Whether it arrives through the addresses of the other one of the pair.
    pub pair_canary: Option<Vec<CanaryFetch>>,
    /// Why no order may be placed for now, if so.
    pub budget: Option<Spent>,
    /// URL of the account at the CA, where it matters and is known.
    pub account: Option<String>,
    /// What the registry says of the registered domain.
    pub registration: Option<Registration>,
    /// Where nobody has registered the domain: one that somebody has, and that is spelt almost
    /// the same.
    pub nearest: Option<DnsName>,
    /// Tokens of the account's other domains that were read.
    pub known_tokens: Vec<KnownToken>,
    /// What looking costs just now.
    pub load: Load,
}

/// A token that is published for one domain, and belongs to another of the same account.
/// What other accounts have is not for this one to read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownToken {
    /// The token.
    pub token: Token,
    /// The domain that it is for.
    pub host: DnsName,
}

/// A limit of orders that is used up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Spent {
    /// Which one.
    pub limit: Limit,
    /// When there is room again.
    pub free_at: DateTime<Utc>,
}

/// Whose limit it is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Limit {
    /// The CA has asked for patience.
    Issuer,
    /// The platform's own budget, in words that follow "the limit of".
    Own(String),
}

impl fmt::Display for Limit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Issuer => f.write_str("The certification authority has asked for patience"),
            Self::Own(limit) => write!(f, "The limit of {limit} is used up"),
        }
    }
}

/// The latest certificate order of a domain.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "state", rename_all = "lowercase")]
pub enum OrderState {
    /// None was placed yet, or the last one was fulfilled.
    #[default]
    None,
    /// One is wanted, and the CA does not have it yet.
    Wanted,
    /// The CA has one, and works on it.
    Open,
    /// The CA refused.
    Refused {
        /// The CA's problem document.
        problem: Problem,
        /// Not before this moment may another be placed.
        retry_at: DateTime<Utc>,
    },
}

/// A problem document of the CA (RFC 8555, section 6.7; RFC 9457).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = IssuerProblem))]
pub struct Problem {
    /// Type URI.
    #[serde(rename = "type", default)]
    pub kind: String,
    /// What the CA says.
    #[serde(default)]
    pub detail: String,
    /// HTTP status, where given.
    #[serde(default)]
    pub status: Option<u16>,
    /// What is wrong with each name, where the CA tells them apart (RFC 8555,
    /// section 6.7.1).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub subproblems: Vec<Subproblem>,
}

impl Problem {
    /// The last part of its type.
    pub fn short(&self) -> &str {
        self.kind.rsplit(':').next().unwrap_or(&self.kind)
    }

    /// Whether the CA asks for patience, and nothing else is wrong.
    pub fn is_throttling(&self) -> bool {
        self.short() == RATE_LIMITED
    }

    /// Whether the CA refused the caller rather than the order: what was sent was not signed as
    /// it expects of the account (RFC 8555, section 6.7).
    pub fn is_of_the_account(&self) -> bool {
        matches!(self.short(), "unauthorized" | "malformed")
    }
}

/// A problem with one name of an order (RFC 8555, section 6.7.1).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Subproblem {
    /// The name.
    pub name: String,
    /// Type URI.
    #[serde(rename = "type")]
    pub kind: String,
    /// What the CA says.
    pub detail: String,
}

/// What a visitor with a browser gets.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Probe {
    /// Each address.
    pub results: Vec<ProbeResult>,
    /// Why search engines may list the site's default host, if they may.
    pub default_host: Option<String>,
}

/// A TLS and HTTP probe of one address.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ProbeResult {
    /// The address connected to.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub address: IpAddr,
    /// The certificate that was sent, good or not.
    pub served: Option<CertificateFacts>,
    /// What went wrong with TLS.
    pub tls_failure: Option<String>,
    /// What went wrong with the redirect from HTTP to HTTPS.
    pub redirect_failure: Option<String>,
    /// What went wrong with the redirect to the primary of the pair.
    pub pair_failure: Option<String>,
}

impl ProbeResult {
    /// Serial of the certificate that was sent.
    pub fn serial(&self) -> Option<&str> {
        self.served.as_ref().map(|facts| facts.serial.as_str())
    }
}

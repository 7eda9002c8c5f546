//! Accounts, sites, ingresses, keys and sessions.

use chrono::{DateTime, Utc};
use nomenta_core::claim::allowance::Allowance;
use nomenta_core::name::dns::DnsName;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

use crate::role::Role;

/// A customer of the platform.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Account {
    /// Short name.
    pub name: String,
    /// Name for people.
    pub title: String,
    /// Whom to write to.
    pub contact: Option<String>,
    /// The language that it is written to in (BCP 47).
    pub language: String,
    /// What the platform's staff should know.
    pub notes: String,
    /// How many domains its plan grants, and how many there are.
    pub allowance: Allowance,
    /// Since when it is suspended: its routes are withdrawn.
    pub suspended_at: Option<DateTime<Utc>>,
    /// Since when.
    pub created_at: DateTime<Utc>,
}

/// What is to change about an account; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct AccountChange {
    /// Name for people.
    #[serde(default)]
    pub title: Option<String>,
    /// Mail address to write to; empty for none.
    #[serde(default)]
    pub contact: Option<String>,
    /// The language that it is written to in (BCP 47).
    #[serde(default)]
    pub language: Option<String>,
    /// What the platform's staff should know.
    #[serde(default)]
    pub notes: Option<String>,
    /// How many domains its plan grants.
    #[serde(default)]
    pub allowance: Option<Grant>,
}

/// How many domains a plan grants.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Grant {
    /// So many; 0 for none.
    Domains(u32),
    /// As many as are wanted.
    Unlimited,
}

impl Grant {
    /// The number, if there is one.
    pub fn number(self) -> Option<u32> {
        match self {
            Self::Domains(number) => Some(number),
            Self::Unlimited => None,
        }
    }
}

/// An account to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewAccount {
    /// Short name: letters, digits and hyphens.
    pub name: String,
    /// What else is known of it; its name for people is the short name if left out.
    #[serde(flatten)]
    pub known: AccountChange,
}

/// What a domain will show.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Site {
    /// Short name.
    pub name: String,
    /// Account it belongs to.
    pub account: String,
    /// Ingress that its traffic lands on.
    pub ingress: String,
    /// Host under the platform's own zone.
    pub default_host: DnsName,
    /// Hosts that lead there since it was renamed.
    #[serde(default)]
    pub former_hosts: Vec<DnsName>,
    /// Where visitors enter.
    pub entry_path: String,
    /// What they get when something is missing.
    pub error_path: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
}

/// What is to change about a site; what is left out stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SiteChange {
    /// Another short name. The default host goes with it, the former one leads to it,
    /// and what customers have published goes on being right.
    #[serde(default)]
    pub name: Option<String>,
    /// Where visitors enter.
    #[serde(default)]
    pub entry_path: Option<String>,
    /// What they get when something is missing.
    #[serde(default)]
    pub error_path: Option<String>,
}

/// A site to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewSite {
    /// Short name, the first label of its default host.
    pub name: String,
    /// Account it belongs to.
    pub account: String,
    /// Ingress that its traffic lands on.
    pub ingress: String,
    /// Where visitors enter.
    #[serde(default = "root")]
    pub entry_path: String,
    /// What they get when something is missing.
    #[serde(default = "root")]
    pub error_path: String,
}

/// Targets of an ingress, as typed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Targets {
    /// IPv4 addresses.
    pub ipv4: Vec<String>,
    /// IPv6 addresses.
    #[serde(default)]
    pub ipv6: Vec<String>,
    /// Canonical host, with `{site}` for one per site.
    pub canonical: String,
    /// Name servers to which a whole zone may be delegated.
    #[serde(default)]
    pub name_servers: Vec<String>,
    /// Whether a subdomain may have the addresses instead of a CNAME.
    #[serde(default = "yes")]
    pub subdomain_addresses: bool,
}

/// An ingress to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewIngress {
    /// Short name.
    pub name: String,
    /// Where traffic lands.
    #[serde(flatten)]
    pub targets: Targets,
}

/// An access key, without its secret.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AccessKey {
    /// Identifies the key.
    pub id: Uuid,
    /// What it is for.
    pub name: String,
    /// What it opens.
    pub role: Role,
    /// The account that it opens alone.
    pub account: Option<String>,
    /// Last four characters of the secret.
    pub hint: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Last use, to the minute.
    pub used_at: Option<DateTime<Utc>>,
    /// Since when it opens nothing.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// A key to make.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewKey {
    /// What it is for.
    pub name: String,
    /// What it opens.
    pub role: Role,
    /// The account that it opens alone; every account if left out.
    #[serde(default)]
    pub account: Option<String>,
}

/// A key just made: the only time its secret is shown.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeKey {
    /// Identifies the key.
    pub id: Uuid,
    /// The secret.
    pub secret: String,
}

/// Signing in to the console.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// A viewer, operator or admin key.
    pub key: String,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Who {
    /// What the key is for.
    pub name: String,
    /// What it opens.
    pub role: Role,
    /// The account that it opens alone.
    #[serde(default)]
    pub account: Option<String>,
}

fn root() -> String {
    "/".into()
}

fn yes() -> bool {
    true
}

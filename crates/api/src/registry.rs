//! Accounts, sites, ingresses, keys and sessions.

use chrono::{DateTime, Utc};
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
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Domains taken in for it.
    pub domains: i64,
}

/// An account to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewAccount {
    /// Short name: letters, digits and hyphens.
    pub name: String,
    /// Name for people; the short name if left out.
    pub title: Option<String>,
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
    /// Where visitors enter.
    pub entry_path: String,
    /// What they get when something is missing.
    pub error_path: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
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
}

fn root() -> String {
    "/".into()
}

fn yes() -> bool {
    true
}

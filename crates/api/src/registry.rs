//! Accounts, sites, ingresses, keys and sessions.

use chrono::{DateTime, Utc};
use nomenta_core::claim::allowance::Allowance;
use nomenta_core::name::dns::DnsName;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::role::Role;

/// Which accounts or sites.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct NamesQuery {
    /// Only of this account.
    #[param(max_length = 63)]
    pub account: Option<String>,
    /// Only those whose names contain this: the short name, and an account's title or a
    /// site's default host.
    #[param(max_length = 253)]
    pub text: Option<String>,
    /// Only those after this name: the cursor in the `Link` header.
    #[param(max_length = 63)]
    pub after: Option<String>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

/// A page of the keys.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct KeysQuery {
    /// Only those made before this one: the cursor in the `Link` header.
    pub after: Option<Uuid>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

/// A page of a listing.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PageQuery {
    /// Only what comes after the cursor of the page before.
    #[param(max_length = 400)]
    pub after: Option<String>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

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
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "title": "Onswick Ferries", "allowance": { "domains": 20 } }))]
pub struct AccountChange {
    /// Name for people.
    #[serde(default)]
    #[schema(max_length = 200, pattern = r"^[^\x00-\x1f\x7f]*[^\s\x00-\x1f\x7f][^\x00-\x1f\x7f]*$")]
    pub title: Option<String>,
    /// Mail address to write to; empty for none.
    #[serde(default)]
    #[schema(
        max_length = 254,
        pattern = r"^([^\s@\x00-\x1f\x7f]+@[^\s@.\x00-\x1f\x7f]+(\.[^\s@.\x00-\x1f\x7f]+)+)?$"
    )]
    pub contact: Option<String>,
    /// The language that it is written to in (BCP 47).
    #[serde(default)]
    #[schema(min_length = 2, max_length = 35, pattern = "^[A-Za-z]{2,3}(-[A-Za-z0-9]{1,8})*$")]
    pub language: Option<String>,
    /// What the platform's staff should know.
    #[serde(default)]
    #[schema(max_length = 10000, pattern = r"^[^\x00-\x08\x0b\x0c\x0e-\x1f\x7f]*$")]
    pub notes: Option<String>,
    /// How many domains its plan grants.
    #[serde(default)]
    pub allowance: Option<Grant>,
}

/// How many domains a plan grants.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase", deny_unknown_fields)]
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
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "name": "onswick", "title": "Onswick Ferries", "contact": "office@onswick.example" }))]
pub struct NewAccount {
    /// Short name: letters, digits and hyphens.
    #[schema(min_length = 1, max_length = 63, pattern = "^[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?$")]
    pub name: String,
    /// Name for people; the short name if left out.
    #[serde(default)]
    #[schema(max_length = 200, pattern = r"^[^\x00-\x1f\x7f]*[^\s\x00-\x1f\x7f][^\x00-\x1f\x7f]*$")]
    pub title: Option<String>,
    /// Mail address to write to; empty for none.
    #[serde(default)]
    #[schema(
        max_length = 254,
        pattern = r"^([^\s@\x00-\x1f\x7f]+@[^\s@.\x00-\x1f\x7f]+(\.[^\s@.\x00-\x1f\x7f]+)+)?$"
    )]
    pub contact: Option<String>,
    /// The language that it is written to in (BCP 47).
    #[serde(default)]
    #[schema(min_length = 2, max_length = 35, pattern = "^[A-Za-z]{2,3}(-[A-Za-z0-9]{1,8})*$")]
    pub language: Option<String>,
    /// What the platform's staff should know.
    #[serde(default)]
    #[schema(max_length = 10000, pattern = r"^[^\x00-\x08\x0b\x0c\x0e-\x1f\x7f]*$")]
    pub notes: Option<String>,
    /// How many domains its plan grants.
    #[serde(default)]
    pub allowance: Option<Grant>,
}

impl NewAccount {
    /// An account with what is known of it.
    pub fn new(name: String, known: AccountChange) -> Self {
        let AccountChange { title, contact, language, notes, allowance } = known;
        Self { name, title, contact, language, notes, allowance }
    }

    /// What is known of it, beside its name.
    pub fn known(self) -> AccountChange {
        let Self { title, contact, language, notes, allowance, .. } = self;
        AccountChange { title, contact, language, notes, allowance }
    }
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
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "entry_path": "/timetable" }))]
pub struct SiteChange {
    /// Another short name. The default host goes with it, the former one leads to it,
    /// and what customers have published goes on being right.
    #[serde(default)]
    #[schema(min_length = 1, max_length = 63, pattern = "^[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?$")]
    pub name: Option<String>,
    /// Where visitors enter.
    #[serde(default)]
    #[schema(
        max_length = 2000,
        pattern = r"^/([\x21\x22\x24-\x2e\x30-\x5b\x5d-\x7e][\x21\x22\x24-\x5b\x5d-\x7e]*)?$"
    )]
    pub entry_path: Option<String>,
    /// What they get when something is missing.
    #[serde(default)]
    #[schema(
        max_length = 2000,
        pattern = r"^/([\x21\x22\x24-\x2e\x30-\x5b\x5d-\x7e][\x21\x22\x24-\x5b\x5d-\x7e]*)?$"
    )]
    pub error_path: Option<String>,
}

/// A site to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "name": "onswick-night", "account": "onswick", "ingress": "harbour" }))]
pub struct NewSite {
    /// Short name, the first label of its default host.
    #[schema(min_length = 1, max_length = 63, pattern = "^[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?$")]
    pub name: String,
    /// Account it belongs to.
    #[schema(min_length = 1, max_length = 63)]
    pub account: String,
    /// Ingress that its traffic lands on.
    #[schema(min_length = 1, max_length = 63)]
    pub ingress: String,
    /// Where visitors enter: a path that begins with one slash, as in /timetable.
    #[serde(default = "root")]
    #[schema(
        max_length = 2000,
        pattern = r"^/([\x21\x22\x24-\x2e\x30-\x5b\x5d-\x7e][\x21\x22\x24-\x5b\x5d-\x7e]*)?$"
    )]
    pub entry_path: String,
    /// What they get when something is missing: a path that begins with one slash.
    #[serde(default = "root")]
    #[schema(
        max_length = 2000,
        pattern = r"^/([\x21\x22\x24-\x2e\x30-\x5b\x5d-\x7e][\x21\x22\x24-\x5b\x5d-\x7e]*)?$"
    )]
    pub error_path: String,
}

/// Targets of an ingress, as typed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "ipv4": ["203.0.113.10"], "canonical": "{site}.edge.quaymark.example" }))]
pub struct Targets {
    /// IPv4 addresses.
    #[schema(min_items = 1, max_items = 64)]
    pub ipv4: Vec<String>,
    /// IPv6 addresses.
    #[serde(default)]
    #[schema(max_items = 64)]
    pub ipv6: Vec<String>,
    /// Canonical host, with `{site}` for one per site.
    #[schema(min_length = 1, max_length = 253)]
    pub canonical: String,
    /// Name servers to which a whole zone may be delegated.
    #[serde(default)]
    #[schema(max_items = 16)]
    pub name_servers: Vec<String>,
    /// Whether a subdomain may have the addresses instead of a CNAME.
    #[serde(default = "yes")]
    pub subdomain_addresses: bool,
}

/// An ingress to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "name": "lock", "ipv4": ["203.0.113.10"], "canonical": "{site}.lock.quaymark.example" }))]
pub struct NewIngress {
    /// Short name.
    #[schema(min_length = 1, max_length = 63, pattern = "^[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?$")]
    pub name: String,
    /// IPv4 addresses.
    #[schema(min_items = 1, max_items = 64)]
    pub ipv4: Vec<String>,
    /// IPv6 addresses.
    #[serde(default)]
    #[schema(max_items = 64)]
    pub ipv6: Vec<String>,
    /// Canonical host, with `{site}` for one per site.
    #[schema(min_length = 1, max_length = 253)]
    pub canonical: String,
    /// Name servers to which a whole zone may be delegated.
    #[serde(default)]
    #[schema(max_items = 16)]
    pub name_servers: Vec<String>,
    /// Whether a subdomain may have the addresses instead of a CNAME.
    #[serde(default = "yes")]
    pub subdomain_addresses: bool,
}

impl NewIngress {
    /// An ingress with its targets.
    pub fn new(name: String, targets: Targets) -> Self {
        let Targets { ipv4, ipv6, canonical, name_servers, subdomain_addresses } = targets;
        Self { name, ipv4, ipv6, canonical, name_servers, subdomain_addresses }
    }

    /// Where traffic lands.
    pub fn targets(&self) -> Targets {
        Targets {
            ipv4: self.ipv4.clone(),
            ipv6: self.ipv6.clone(),
            canonical: self.canonical.clone(),
            name_servers: self.name_servers.clone(),
            subdomain_addresses: self.subdomain_addresses,
        }
    }
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
    /// The accounts that it opens alone; every one, if there are none.
    pub accounts: Vec<String>,
    /// Last four characters of the secret.
    pub hint: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Last use, to the minute.
    pub used_at: Option<DateTime<Utc>>,
    /// From when on it opens nothing.
    pub expires_at: Option<DateTime<Utc>>,
    /// Since when it opens nothing.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// A key to make.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "name": "night shift", "role": "operator" }))]
pub struct NewKey {
    /// What it is for.
    #[schema(
        min_length = 1,
        max_length = 100,
        pattern = r"^[^\x00-\x1f\x7f]*[^\s\x00-\x1f\x7f][^\x00-\x1f\x7f]*$"
    )]
    pub name: String,
    /// What it opens.
    pub role: Role,
    /// The accounts that it opens alone; every one if left out.
    #[serde(default)]
    #[schema(max_items = 200)]
    pub accounts: Vec<String>,
    /// From when on it opens nothing; never if left out.
    #[serde(default)]
    pub expires_at: Option<DateTime<Utc>>,
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
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// A viewer, operator or admin key.
    #[schema(min_length = 1, max_length = 200)]
    pub key: String,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Who {
    /// What the key is for.
    pub name: String,
    /// What it opens.
    pub role: Role,
    /// The accounts that it opens alone; every one, if there are none.
    #[serde(default)]
    pub accounts: Vec<String>,
}

/// A session of the console.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// Identifies it.
    pub id: Uuid,
    /// The key that signed in.
    pub key: String,
    /// The address that it came from.
    pub from: Option<String>,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Last use, to the minute.
    pub used_at: DateTime<Utc>,
    /// When it ends by itself.
    pub expires_at: DateTime<Utc>,
    /// Whether it is the caller's own.
    pub is_own: bool,
}

fn root() -> String {
    "/".into()
}

fn yes() -> bool {
    true
}

//! Templates: the records of a sheet, with places for what is different for each domain.

use serde::{Deserialize, Serialize};

use crate::name::platform::Platform;
use crate::sheet::SHEET_TTL;
use crate::sheet::ingress::Ingress;

/// The label of the TXT record that leads to an operator's settings.
pub const DISCOVERY_LABEL: &str = "_domainconnect";
/// What a token's value begins with, so that a new one takes the place of an old one.
const TOKEN_PREFIX: &str = "token=";
/// The variable that has the token.
pub(super) const TOKEN: &str = "token";
/// The variable that has the site, where the canonical host is one per site.
pub(super) const SITE: &str = "site";

crate::spelled! {
    /// What kind of domain a template is for: a CNAME cannot stand at an apex.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Shape: "shape" {
        /// A host in a zone.
        Host = "host",
        /// A zone itself.
        Apex = "apex",
    }
}

/// Who offers templates, and how what they ask for is signed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Provider {
    /// Its name, for people.
    pub name: String,
    /// The name under which its public keys stand in TXT records.
    pub key_domain: String,
    /// The host that customers come back to.
    pub redirect_host: String,
}

/// A template in the protocol's JSON format.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Template {
    /// The platform, as a domain of its own.
    pub provider_id: String,
    /// Its name.
    pub provider_name: String,
    /// The template's name among the platform's.
    pub service_id: String,
    /// The same, for people.
    pub service_name: String,
    /// Grows with each change: the ingress's revision.
    pub version: i32,
    /// What applying it does.
    pub description: String,
    /// What each variable is.
    pub variable_description: String,
    /// Whether the synchronous flow is closed.
    pub sync_block: bool,
    /// Where public keys stand; what is not signed is not applied.
    pub sync_pub_key_domain: String,
    /// Where customers may be sent back to.
    pub sync_redirect_domain: String,
    /// Whether it may be applied several times in a zone.
    pub multi_instance: bool,
    /// Whether it is for a host alone.
    pub host_required: bool,
    /// The records.
    pub records: Vec<TemplateRecord>,
}

crate::spelled! {
    /// Until when a record has to stay for the template to count as applied.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Essential: "essential" {
        /// As long as the template does.
        Always = "Always",
        /// Only when it is applied.
        OnApply = "OnApply",
    }
}

/// A record of a template.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "type")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum TemplateRecord {
    /// An IPv4 address.
    A {
        /// Relative to where the template is applied; `@` for that itself.
        host: String,
        /// The address.
        #[serde(rename = "pointsTo")]
        points_to: String,
        /// Seconds.
        ttl: u32,
        /// Until when it has to stay.
        essential: Essential,
    },
    /// An IPv6 address.
    #[serde(rename = "AAAA")]
    Aaaa {
        /// Relative to where the template is applied; `@` for that itself.
        host: String,
        /// The address.
        #[serde(rename = "pointsTo")]
        points_to: String,
        /// Seconds.
        ttl: u32,
        /// Until when it has to stay.
        essential: Essential,
    },
    /// An alias.
    #[serde(rename = "CNAME")]
    Cname {
        /// Relative to where the template is applied; `@` for that itself.
        host: String,
        /// The target.
        #[serde(rename = "pointsTo")]
        points_to: String,
        /// Seconds.
        ttl: u32,
        /// Until when it has to stay.
        essential: Essential,
    },
    /// A text.
    #[serde(rename = "TXT")]
    Txt {
        /// Relative to where the template is applied; `@` for that itself.
        host: String,
        /// The text.
        data: String,
        /// Seconds.
        ttl: u32,
        /// Until when it has to stay.
        essential: Essential,
        /// Which texts at the name make way: `None`, `All` or `Prefix`.
        #[serde(rename = "txtConflictMatchingMode")]
        txt_conflict_matching_mode: String,
        /// Those that begin so.
        #[serde(rename = "txtConflictMatchingPrefix")]
        txt_conflict_matching_prefix: String,
    },
}

/// The name of an ingress's template for a shape.
pub fn service_id(ingress: &Ingress, shape: Shape) -> String {
    format!("{}-{shape}", ingress.name)
}

impl Template {
    /// The template of an ingress for domains of a shape.
    pub fn of(ingress: &Ingress, shape: Shape, platform: &Platform, provider: &Provider) -> Self {
        let mut records = vec![token(platform)];
        match shape {
            Shape::Host => records.push(TemplateRecord::Cname {
                host: "@".into(),
                points_to: ingress.canonical.as_str().replace("{site}", &place(SITE)),
                ttl: SHEET_TTL,
                essential: Essential::Always,
            }),
            Shape::Apex => records.extend(addresses(ingress)),
        }

        let has_site = shape == Shape::Host && ingress.canonical.as_str().contains("{site}");
        let site = if has_site { "; site: the short name of the site" } else { "" };
        Self {
            provider_id: platform.zone.as_str().to_owned(),
            provider_name: provider.name.clone(),
            service_id: service_id(ingress, shape),
            service_name: format!("{} {}", provider.name, ingress.name),
            version: ingress.revision,
            description: format!("Connects a domain to a site at {}", provider.name),
            variable_description: format!("{TOKEN}: shows that the domain is the customer's{site}"),
            sync_block: false,
            sync_pub_key_domain: provider.key_domain.clone(),
            sync_redirect_domain: provider.redirect_host.clone(),
            multi_instance: true,
            host_required: shape == Shape::Host,
            records,
        }
    }
}

/// A place that the operator fills.
fn place(variable: &str) -> String {
    format!("%{variable}%")
}

fn token(platform: &Platform) -> TemplateRecord {
    TemplateRecord::Txt {
        host: platform.challenge_label(),
        data: format!("{TOKEN_PREFIX}{}", place(TOKEN)),
        ttl: SHEET_TTL,
        essential: Essential::OnApply,
        txt_conflict_matching_mode: "Prefix".into(),
        txt_conflict_matching_prefix: TOKEN_PREFIX.into(),
    }
}

fn addresses(ingress: &Ingress) -> impl Iterator<Item = TemplateRecord> {
    let four = ingress.ipv4.iter().map(|address| TemplateRecord::A {
        host: "@".into(),
        points_to: address.to_string(),
        ttl: SHEET_TTL,
        essential: Essential::Always,
    });
    let six = ingress.ipv6.iter().map(|address| TemplateRecord::Aaaa {
        host: "@".into(),
        points_to: address.to_string(),
        ttl: SHEET_TTL,
        essential: Essential::Always,
    });
    four.chain(six)
}

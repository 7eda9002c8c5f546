//! Where traffic must land.

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::name::dns::DnsName;
use crate::name::hostname::Hostname;

/// One way in: addresses for an apex, a canonical host for everything else.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Ingress {
    /// Short name, unique on the platform.
    pub name: String,
    /// Counts up with each change of the targets.
    pub revision: i32,
    /// Every IPv4 address that an apex must have, and no other.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub ipv4: BTreeSet<Ipv4Addr>,
    /// Every IPv6 address that an apex must have, and no other; may be empty.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub ipv6: BTreeSet<Ipv6Addr>,
    /// What a subdomain's CNAME points at.
    pub canonical: CanonicalHost,
    /// Name servers to which a whole zone may be delegated; may be empty.
    #[serde(default)]
    pub name_servers: BTreeSet<DnsName>,
    /// Whether a subdomain may have the addresses instead of a CNAME.
    #[serde(default = "yes")]
    pub subdomain_addresses: bool,
}

impl Ingress {
    /// Its addresses of both kinds.
    pub fn addresses(&self) -> BTreeSet<IpAddr> {
        let six = self.ipv6.iter().copied().map(IpAddr::from);
        self.ipv4.iter().copied().map(IpAddr::from).chain(six).collect()
    }
}

fn yes() -> bool {
    true
}

/// The canonical host: one name for all sites, or one per site by `{site}`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String, example = "{site}.edge.quaymark.example"))]
pub struct CanonicalHost(String);

/// Why a canonical host is not taken.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum CanonicalError {
    /// A placeholder other than `{site}` is used, or a brace is left open.
    #[error(
        "The canonical host {0} has a placeholder that is not {{site}}. Write it like {{site}}.edge.quaymark.example."
    )]
    Placeholder(String),
    /// With the placeholder filled, this is no host name.
    #[error("The canonical host {0} is not a host name. Write it like edge.quaymark.example.")]
    NotAHost(String),
}

impl CanonicalHost {
    /// Reads a pattern such as `{site}.edge.quaymark.example`.
    ///
    /// # Errors
    /// [`CanonicalError`] for an unknown placeholder or an impossible name.
    pub fn parse(pattern: &str) -> Result<Self, CanonicalError> {
        let pattern = String::from(DnsName::new(pattern.trim()));
        let sample = pattern.replace("{site}", "site");
        if sample.contains(['{', '}']) {
            return Err(CanonicalError::Placeholder(pattern));
        }

        match Hostname::parse(&sample) {
            Ok(name) if name.as_str() == sample => Ok(Self(pattern)),
            _ => Err(CanonicalError::NotAHost(pattern)),
        }
    }

    /// The name that a site's customers point at.
    pub fn for_site(&self, site: &str) -> DnsName {
        DnsName::new(self.0.replace("{site}", site))
    }

    /// The pattern as written.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for CanonicalHost {
    type Error = CanonicalError;
    fn try_from(pattern: String) -> Result<Self, Self::Error> {
        Self::parse(&pattern)
    }
}

impl From<CanonicalHost> for String {
    fn from(host: CanonicalHost) -> Self {
        host.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_placeholder_is_filled_per_site() {
        let per_site = CanonicalHost::parse("{site}.edge.quaymark.example.").expect("valid");
        assert_eq!(per_site.for_site("onswick"), "onswick.edge.quaymark.example");
        let shared = CanonicalHost::parse("edge.quaymark.example").expect("valid");
        assert_eq!(shared.for_site("onswick"), "edge.quaymark.example");
    }

    #[test]
    fn other_placeholders_and_non_names_are_refused() {
        for bad in ["{account}.edge.quaymark.example", "{site.quaymark.example"] {
            assert!(matches!(CanonicalHost::parse(bad), Err(CanonicalError::Placeholder(_))), "{bad}");
        }
        for bad in ["192.0.2.7", "https://edge.quaymark.example", ""] {
            assert!(matches!(CanonicalHost::parse(bad), Err(CanonicalError::NotAHost(_))), "{bad}");
        }
    }
}

//! The names that the platform goes by.

use serde::{Deserialize, Serialize};

use super::dns::DnsName;

/// The label at which the CA looks for a TXT record (RFC 8555, section 8.4).
pub const ACME_LABEL: &str = "_acme-challenge";

/// The platform itself: its zones and the brand in its challenge label.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Platform {
    /// The platform's own zone, under which every site has its default host.
    pub zone: DnsName,
    /// The word between `_` and `-challenge`.
    pub brand: String,
    /// Zone under which a CNAME proves ownership: `<token>.<proof zone>`.
    #[serde(default)]
    pub proof_zone: Option<DnsName>,
    /// Zone to which customers delegate `_acme-challenge` by CNAME, for
    /// certificates that need DNS-01.
    #[serde(default)]
    pub acme_zone: Option<DnsName>,
    /// Whether control is shown by DNS for every name, not for wildcards alone.
    pub dns_for_all: bool,
}

impl Platform {
    /// Where the TXT token of `host` is published.
    pub fn challenge_name(&self, host: &str) -> DnsName {
        DnsName::new(format!("_{}-challenge.{host}", self.brand))
    }

    /// A name beside the challenge that nobody publishes: an answer for it
    /// comes from a wildcard.
    pub fn probe_name(&self, parent: &str) -> DnsName {
        DnsName::new(format!("_{}-probe.{parent}", self.brand))
    }

    /// The default host of a site.
    pub fn default_host(&self, site: &str) -> DnsName {
        self.zone.child(site)
    }
}

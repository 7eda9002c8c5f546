//! The names that the platform goes by.

use serde::{Deserialize, Serialize};

use super::dns::{DnsName, is_within};
use super::hostname::Hostname;
use super::refused::HostnameError;
use super::special;

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
    /// Special-use names (RFC 6761) under which domains are taken in all the
    /// same, as a private network or a test may want.
    #[serde(default)]
    pub special_use: Vec<DnsName>,
    /// Names that no claim is taken of, nor of any under them.
    #[serde(default)]
    pub reserved: Vec<DnsName>,
}

/// Labels under the platform's zone that no site may have: what mail, browsers and
/// operators expect to find there.
const NO_SITES: [&str; 18] = [
    "www",
    "mail",
    "smtp",
    "imap",
    "webmail",
    "autoconfig",
    "autodiscover",
    "wpad",
    "ftp",
    "localhost",
    "admin",
    "api",
    "status",
    "support",
    "console",
    "login",
    "cdn",
    "static",
];

impl Platform {
    /// Refuses what is never a customer's domain: the platform's own names, and
    /// those that its operator reserves, and those that nobody can register, unless
    /// the platform allows them.
    ///
    /// # Errors
    /// [`HostnameError::PlatformZone`], [`HostnameError::Reserved`] or
    /// [`HostnameError::SpecialUse`].
    pub fn admits(&self, name: &Hostname) -> Result<(), HostnameError> {
        if let Some(zone) = self.zones().find(|zone| is_within(name.as_str(), zone)) {
            return Err(HostnameError::PlatformZone { name: name.to_string(), zone: zone.to_string() });
        }
        if let Some(zone) = self.reserved.iter().find(|zone| is_within(name.as_str(), zone)) {
            return Err(HostnameError::Reserved { name: name.to_string(), zone: zone.to_string() });
        }

        let is_allowed = self.special_use.iter().any(|zone| is_within(name.as_str(), zone));
        match special::reserved(name.as_str()).filter(|_| !is_allowed) {
            Some(reserved) => Err(reserved.refuse(name.as_str())),
            None => Ok(()),
        }
    }

    /// Zones that the platform itself needs.
    fn zones(&self) -> impl Iterator<Item = &DnsName> {
        std::iter::once(&self.zone).chain(&self.proof_zone).chain(&self.acme_zone)
    }

    /// Whether a site may have this name: its default host must be nothing that the
    /// platform or its ingresses need for themselves. `hosts` are the hosts of the
    /// ingresses.
    pub fn has_room_for(&self, site: &str, hosts: &[DnsName]) -> bool {
        let default = self.default_host(site);
        let is_name_server =
            site.strip_prefix("ns").is_some_and(|rest| rest.bytes().all(|c| c.is_ascii_digit()));
        let is_needed = self.zones().skip(1).chain(hosts).any(|host| is_within(host, &default));
        !is_name_server && !is_needed && !NO_SITES.contains(&site)
    }

    /// The label under which tokens are published.
    pub fn challenge_label(&self) -> String {
        format!("_{}-challenge", self.brand)
    }

    /// Where the TXT token of `host` is published.
    pub fn challenge_name(&self, host: &str) -> DnsName {
        DnsName::new(format!("{}.{host}", self.challenge_label()))
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::subject::Subject;
    use crate::test;

    fn refused(typed: &str, platform: &Platform) -> &'static str {
        Subject::parse_for(typed, platform).expect_err(typed).code().as_str()
    }

    #[test]
    fn the_platforms_own_names_are_refused() {
        let platform = test::platform();
        assert_eq!(refused("onswick.quaymark.example", &platform), "platform-zone");
        assert_eq!(refused("*.Quaymark.example", &platform), "platform-zone");
        assert!(Subject::parse_for("notquaymark.example", &platform).is_ok());
    }

    #[test]
    fn what_is_reserved_and_what_the_platform_needs_is_refused() {
        let platform = Platform { reserved: vec!["rivals.example".into()], ..test::platform() };
        assert_eq!(refused("www.rivals.example", &platform), "reserved");
        assert!(Subject::parse_for("notrivals.example", &platform).is_ok());

        let hosts = ["onswick.edge.quaymark.example".into(), "ns1.quaymark.example".into()];
        for site in ["www", "ns", "ns1", "ns27", "proof", "edge", "mail"] {
            assert!(!platform.has_room_for(site, &hosts), "{site}");
        }
        for site in ["onswick", "nsfw", "wwwharbour", "proofs"] {
            assert!(platform.has_room_for(site, &hosts), "{site}");
        }
    }

    #[test]
    fn names_that_nobody_can_register_are_refused_unless_allowed() {
        let strict = Platform { special_use: Vec::new(), ..test::platform() };
        for typed in ["onswick.test", "*.lines.onswick.example", "press.local", "7.2.0.192.in-addr.arpa"] {
            assert_eq!(refused(typed, &strict), "special-use", "{typed}");
        }

        let lenient = Platform { special_use: vec!["test".into()], ..strict };
        assert!(Subject::parse_for("onswick.test", &lenient).is_ok());
        assert_eq!(refused("onswick.local", &lenient), "special-use");
    }
}

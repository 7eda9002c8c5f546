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
}

impl Platform {
    /// Refuses what is never a customer's domain: the platform's own names, and
    /// those that nobody can register, unless the platform allows them.
    ///
    /// # Errors
    /// [`HostnameError::PlatformZone`] or [`HostnameError::SpecialUse`].
    pub fn admits(&self, name: &Hostname) -> Result<(), HostnameError> {
        if is_within(name.as_str(), &self.zone) {
            let name = name.to_string();
            return Err(HostnameError::PlatformZone { name, zone: self.zone.to_string() });
        }

        let is_allowed = self.special_use.iter().any(|zone| is_within(name.as_str(), zone));
        match special::reserved(name.as_str()).filter(|_| !is_allowed) {
            Some(reserved) => Err(reserved.refuse(name.as_str())),
            None => Ok(()),
        }
    }

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

//! What a domain is taken in for.

use std::fmt;

use super::dns::DnsName;
use super::hostname::{Hostname, HostnameError};

/// What a domain is taken in for: a name, or every name under one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Subject {
    /// The name, without the asterisk.
    pub host: Hostname,
    /// Whether every name under it is meant.
    pub wildcard: bool,
}

impl Subject {
    /// Reads a name as [`Hostname::parse`] does, with `*.` before it for a
    /// wildcard (RFC 4592).
    ///
    /// # Errors
    /// As for `Hostname::parse`.
    pub fn parse(typed: &str) -> Result<Self, HostnameError> {
        match typed.trim().strip_prefix("*.") {
            Some(rest) => Ok(Self { host: Hostname::parse(rest)?, wildcard: true }),
            None => Ok(Self { host: Hostname::parse(typed)?, wildcard: false }),
        }
    }

    /// As [`parse`](Self::parse), and refuses names under the platform's zone.
    ///
    /// # Errors
    /// As for `Hostname::parse_for`.
    pub fn parse_for(typed: &str, platform_zone: &str) -> Result<Self, HostnameError> {
        match typed.trim().strip_prefix("*.") {
            Some(rest) => Ok(Self { host: Hostname::parse_for(rest, platform_zone)?, wildcard: true }),
            None => Ok(Self { host: Hostname::parse_for(typed, platform_zone)?, wildcard: false }),
        }
    }

    /// The name that routing records stand at: the host, or `*.` and the host.
    pub fn routed(&self) -> DnsName {
        DnsName::new(self.to_string())
    }

    /// The name in the customer's own script, for showing.
    pub fn to_unicode(&self) -> String {
        let shown = self.host.to_unicode();
        if self.wildcard { format!("*.{shown}") } else { shown }
    }
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", if self.wildcard { "*." } else { "" }, self.host)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wildcard_is_the_name_under_its_asterisk() {
        let subject = Subject::parse(" *.Lines.Onswick.example. ").expect("valid");
        assert_eq!((subject.to_string().as_str(), subject.wildcard), ("*.lines.onswick.example", true));
        assert!(!Subject::parse("lines.onswick.example").expect("valid").wildcard);
        let code = |typed| Subject::parse_for(typed, "quaymark.example").expect_err(typed).code().as_str();
        assert_eq!(code("*.quaymark.example"), "platform-zone");
        assert_eq!(code("*.*.onswick.example"), "forbidden-character");
        assert_eq!(code("*.example"), "public-suffix");
    }
}

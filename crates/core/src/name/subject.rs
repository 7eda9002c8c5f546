//! What a domain is taken in for.

use std::fmt;

use super::dns::DnsName;
use super::hostname::{Hostname, HostnameError};
use super::pasted::{self, Pasted};
use super::platform::Platform;

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
        let Pasted { host, wildcard } = pasted::read(typed)?;
        Ok(Self { host: Hostname::judged(&host)?, wildcard })
    }

    /// As [`parse`](Self::parse), and refuses what the platform does not admit.
    ///
    /// # Errors
    /// As for `parse`, and as for [`Platform::admits`].
    pub fn parse_for(typed: &str, platform: &Platform) -> Result<Self, HostnameError> {
        let subject = Self::parse(typed)?;
        platform.admits(&subject.host)?;
        Ok(subject)
    }

    /// A subject as it was recorded: never refused, as
    /// [`Hostname::kept`].
    pub fn kept(name: &str) -> Self {
        match name.strip_prefix("*.") {
            Some(host) => Self { host: Hostname::kept(host), wildcard: true },
            None => Self { host: Hostname::kept(name), wildcard: false },
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
        assert!(Subject::kept("*.onswick.example").wildcard);
        let code = |typed| Subject::parse(typed).expect_err(typed).code().as_str();
        assert_eq!(code("*.*.onswick.example"), "forbidden-character");
        assert_eq!(code("*.example"), "public-suffix");
    }
}

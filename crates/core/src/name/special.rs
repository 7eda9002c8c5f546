//! Names that are reserved for a special use, so that nobody registers one
//! (RFC 6761, and the registry that it sets up).

use super::dns;
use super::refused::HostnameError;

/// A name that is reserved, with all that lies under it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Reserved {
    /// The name.
    pub suffix: &'static str,
    /// What it is, to complete "which is …".
    pub purpose: &'static str,
    /// Where that is written.
    pub origin: &'static str,
}

/// Reserved for whom, and by what. Of `arpa` every name: the zone serves the
/// network itself (RFC 3172, section 2.1).
const RESERVED: [Reserved; 12] = [
    entry("alt", "reserved for names outside of DNS", "RFC 9476"),
    entry("arpa", "the zone of the network's own names", "RFC 3172"),
    entry("example", "reserved for examples", "RFC 6761"),
    entry("example.com", "reserved for examples", "RFC 6761"),
    entry("example.net", "reserved for examples", "RFC 6761"),
    entry("example.org", "reserved for examples", "RFC 6761"),
    entry("internal", "reserved for private networks", "ICANN, 2024"),
    entry("invalid", "reserved for names that do not work", "RFC 6761"),
    entry("local", "reserved for multicast on one network", "RFC 6762"),
    entry("localhost", "reserved for the machine itself", "RFC 6761"),
    entry("onion", "reserved for an overlay network", "RFC 7686"),
    entry("test", "reserved for tests", "RFC 6761"),
];

const fn entry(suffix: &'static str, purpose: &'static str, origin: &'static str) -> Reserved {
    Reserved { suffix, purpose, origin }
}

/// Under which reserved name a name lies, if under any.
///
/// ```
/// use nomenta_core::name::special::reserved;
///
/// assert_eq!(reserved("press.local").map(|reserved| reserved.suffix), Some("local"));
/// assert_eq!(reserved("notlocal"), None);
/// ```
pub fn reserved(name: &str) -> Option<Reserved> {
    RESERVED.into_iter().find(|reserved| dns::is_within(name, reserved.suffix))
}

impl Reserved {
    /// Why a name under it is not taken.
    pub(super) fn refuse(self, name: &str) -> HostnameError {
        let Self { suffix, purpose, origin } = self;
        HostnameError::SpecialUse { name: name.to_string(), suffix, purpose, origin }
    }
}

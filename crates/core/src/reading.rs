//! One answer, from one server, for one name and type.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

/// The record types that Nomenta asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[allow(missing_docs, reason = "the names are those of the IANA registry")]
pub enum RecordType {
    A,
    Aaaa,
    Cname,
    Txt,
    Caa,
    Ns,
    Soa,
    Mx,
    Https,
    Ds,
}

impl fmt::Display for RecordType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::A => "A",
            Self::Aaaa => "AAAA",
            Self::Cname => "CNAME",
            Self::Txt => "TXT",
            Self::Caa => "CAA",
            Self::Ns => "NS",
            Self::Soa => "SOA",
            Self::Mx => "MX",
            Self::Https => "HTTPS",
            Self::Ds => "DS",
        })
    }
}

/// What a record holds. Names are lower case without the root dot; the strings
/// of a TXT record are joined (RFC 1035, section 3.3.14).
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(tag = "type", content = "value", rename_all = "UPPERCASE")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum RecordData {
    /// IPv4 address.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    A(Ipv4Addr),
    /// IPv6 address.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    Aaaa(Ipv6Addr),
    /// Target of an alias.
    Cname(String),
    /// Text, strings joined.
    Txt(String),
    /// Certification authority authorization (RFC 8659).
    Caa {
        /// The critical bit is 128.
        flags: u8,
        /// `issue`, `issuewild`, `iodef` or another property.
        tag: String,
        /// The property's value.
        value: String,
    },
    /// Name server.
    Ns(String),
    /// Start of authority (RFC 1035, section 3.3.13).
    Soa(Box<Soa>),
    /// Mail exchange (RFC 1035, section 3.3.9).
    Mx {
        /// Lower is tried first.
        preference: u16,
        /// Host that takes the mail.
        exchange: String,
    },
    /// Service binding of a web host (RFC 9460).
    Https {
        /// 0 is an alias.
        priority: u16,
        /// Target; empty for the owner itself.
        target: String,
        /// Addresses given as hints.
        #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
        hints: Vec<IpAddr>,
    },
    /// Delegation signer (RFC 4034, section 5), by its key tag.
    Ds(u16),
    /// A type that Nomenta does not judge.
    Other(String),
}

impl RecordData {
    /// The type's name as zone files write it.
    pub fn type_name(&self) -> &str {
        match self {
            Self::A(_) => "A",
            Self::Aaaa(_) => "AAAA",
            Self::Cname(_) => "CNAME",
            Self::Txt(_) => "TXT",
            Self::Caa { .. } => "CAA",
            Self::Ns(_) => "NS",
            Self::Soa(_) => "SOA",
            Self::Mx { .. } => "MX",
            Self::Https { .. } => "HTTPS",
            Self::Ds(_) => "DS",
            Self::Other(name) => name,
        }
    }
}

impl fmt::Display for RecordData {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::A(address) => write!(f, "{address}"),
            Self::Aaaa(address) => write!(f, "{address}"),
            Self::Cname(name) | Self::Ns(name) => f.write_str(name),
            Self::Txt(text) => write!(f, "\"{text}\""),
            Self::Caa { flags, tag, value } => write!(f, "{flags} {tag} \"{value}\""),
            Self::Soa(soa) => write!(f, "serial {}, minimum {}", soa.serial, soa.minimum),
            Self::Mx { preference, exchange } => write!(f, "{preference} {exchange}"),
            Self::Https { priority, target, hints } => {
                write!(f, "{priority} {}", if target.is_empty() { "." } else { target })?;
                hints.iter().try_for_each(|hint| write!(f, " hint={hint}"))
            }
            Self::Ds(key_tag) => write!(f, "key tag {key_tag}"),
            Self::Other(name) => f.write_str(name),
        }
    }
}

/// Start of authority. Times are in seconds.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Soa {
    /// Primary name server.
    pub primary: String,
    /// Mailbox of the person in charge, written as a name.
    pub contact: String,
    /// Zone serial.
    pub serial: u32,
    /// How often secondaries ask.
    pub refresh: u32,
    /// How soon they ask again when nobody answered.
    pub retry: u32,
    /// When they give up.
    pub expire: u32,
    /// How long an absence may be cached (RFC 2308, section 4).
    pub minimum: u32,
}

/// A record as it was read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Record {
    /// Owner name.
    pub owner: String,
    /// Seconds left, as this server told.
    pub ttl: u32,
    /// Type and value.
    pub data: RecordData,
}

/// Response code (RFC 1035, section 4.1.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[allow(missing_docs, reason = "the names are those of the IANA registry")]
pub enum Rcode {
    NoError,
    NxDomain,
    ServFail,
    Refused,
    Other(u16),
}

/// Who was asked.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Source {
    /// A server of the zone itself.
    Authority {
        /// Its name in the NS set.
        server: String,
        /// The address that was asked.
        #[cfg_attr(feature = "schema", schema(value_type = String))]
        address: IpAddr,
    },
    /// A recursive resolver.
    Vantage {
        /// Its configured name.
        name: String,
    },
}

impl Source {
    /// Whether this is a server of the zone itself.
    pub fn is_authority(&self) -> bool {
        matches!(self, Self::Authority { .. })
    }
}

impl fmt::Display for Source {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Authority { server, address } => write!(f, "{server} ({address})"),
            Self::Vantage { name } => f.write_str(name),
        }
    }
}

/// What came of a question.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "outcome", rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Outcome {
    /// A well-formed reply arrived.
    Answer {
        /// Its response code.
        rcode: Rcode,
        /// The AA bit.
        authoritative: bool,
        /// The answer section.
        records: Vec<Record>,
    },
    /// No reply within all tries.
    Silence,
    /// The egress guard does not let a packet go to this address.
    Guarded,
    /// This machine has no way to such an address, as with IPv6 on an IPv4-only
    /// one. It says nothing about the server.
    NoRoute,
    /// Replies arrived that cannot be read.
    Garbled {
        /// What is wrong with them.
        reason: String,
    },
}

/// One question and what came of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Reading {
    /// Who was asked.
    pub source: Source,
    /// The name asked for.
    pub name: String,
    /// The type asked for.
    pub rtype: RecordType,
    /// What came of it.
    #[serde(flatten)]
    pub outcome: Outcome,
    /// Round-trip in milliseconds, of the try that was answered.
    pub rtt_ms: u32,
    /// How many seconds more this absence may be cached (RFC 2308, section 5).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub negative_ttl: Option<u32>,
    /// Extended errors (RFC 8914).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub extended: Vec<ExtendedError>,
    /// After SERVFAIL: what came when DNSSEC checking was switched off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unchecked: Option<Rcode>,
}

/// An extended DNS error (RFC 8914, section 2).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ExtendedError {
    /// Its number in the IANA registry.
    pub code: u16,
    /// What the server adds in words.
    pub text: String,
}

impl fmt::Display for ExtendedError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.text.as_str() {
            "" => write!(f, "extended error {}", self.code),
            text => write!(f, "extended error {} ({text})", self.code),
        }
    }
}

impl Reading {
    /// A reading without extras.
    pub fn new(source: Source, name: String, rtype: RecordType, outcome: Outcome, rtt_ms: u32) -> Self {
        let (negative_ttl, extended, unchecked) = (None, Vec::new(), None);
        Self { source, name, rtype, outcome, rtt_ms, negative_ttl, extended, unchecked }
    }

    /// Whether this is from a server of the zone that is no authority for it:
    /// it refuses, fails, or answers without authority (RFC 1912, section 2.8).
    pub fn is_lame(&self) -> bool {
        let lame = match &self.outcome {
            Outcome::Answer { rcode: Rcode::NoError | Rcode::NxDomain, authoritative, .. } => !authoritative,
            Outcome::Answer { .. } => true,
            _ => false,
        };
        lame && self.source.is_authority()
    }

    /// Whether the answer says that the name does not exist at all.
    pub fn is_nxdomain(&self) -> bool {
        matches!(self.outcome, Outcome::Answer { rcode: Rcode::NxDomain, .. })
    }

    /// The response code, where there was a response.
    pub fn rcode(&self) -> Option<Rcode> {
        match &self.outcome {
            Outcome::Answer { rcode, .. } => Some(*rcode),
            _ => None,
        }
    }

    /// The records of a usable answer: positive, or a plain "not there".
    pub fn answer(&self) -> Option<&[Record]> {
        match &self.outcome {
            Outcome::Answer { rcode: Rcode::NoError | Rcode::NxDomain, records, .. } => Some(records),
            _ => None,
        }
    }

    /// Why there is no usable answer, in a few words.
    pub fn failure(&self) -> Option<String> {
        match &self.outcome {
            Outcome::Answer { rcode: Rcode::NoError | Rcode::NxDomain, .. } => None,
            Outcome::Answer { rcode: Rcode::ServFail, .. } => Some("answers SERVFAIL".into()),
            Outcome::Answer { rcode: Rcode::Refused, .. } => Some("refuses to answer".into()),
            Outcome::Answer { rcode, .. } => Some(format!("answers {rcode:?}")),
            Outcome::Silence => Some("does not answer".into()),
            Outcome::Guarded => Some("has an address that may not be asked".into()),
            Outcome::NoRoute => Some("cannot be reached from here".into()),
            Outcome::Garbled { reason } => Some(format!("answers unreadably: {reason}")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reading(outcome: Outcome) -> Reading {
        let source = Source::Vantage { name: "north".into() };
        Reading::new(source, "onswick.example".into(), RecordType::A, outcome, 3)
    }

    fn answered(rcode: Rcode) -> Reading {
        reading(Outcome::Answer { rcode, authoritative: true, records: Vec::new() })
    }

    #[test]
    fn absence_is_an_answer_and_trouble_is_not() {
        for rcode in [Rcode::NoError, Rcode::NxDomain] {
            assert_eq!(answered(rcode).answer(), Some(&[][..]));
            assert_eq!(answered(rcode).failure(), None);
        }
        for (outcome, words) in [
            (answered(Rcode::ServFail).outcome, "answers SERVFAIL"),
            (answered(Rcode::Refused).outcome, "refuses to answer"),
            (answered(Rcode::Other(4)).outcome, "answers Other(4)"),
            (Outcome::Silence, "does not answer"),
            (Outcome::Guarded, "has an address that may not be asked"),
            (Outcome::Garbled { reason: "too short".into() }, "answers unreadably: too short"),
        ] {
            assert_eq!(reading(outcome.clone()).answer(), None);
            assert_eq!(reading(outcome).failure().as_deref(), Some(words));
        }
    }

    #[test]
    fn values_are_shown_as_zone_files_write_them() {
        let caa = RecordData::Caa { flags: 128, tag: "issue".into(), value: "ca.example".into() };
        for (data, kind, shown) in [
            (RecordData::A([192, 0, 2, 7].into()), "A", "192.0.2.7"),
            (RecordData::Aaaa("2001:DB8:0::7".parse().expect("valid")), "AAAA", "2001:db8::7"),
            (RecordData::Cname("a.example".into()), "CNAME", "a.example"),
            (RecordData::Txt("token=x y".into()), "TXT", "\"token=x y\""),
            (caa, "CAA", "128 issue \"ca.example\""),
            (RecordData::Ns("ns1.example".into()), "NS", "ns1.example"),
            (
                RecordData::Soa(Soa { serial: 7, minimum: 60, ..Soa::default() }.into()),
                "SOA",
                "serial 7, minimum 60",
            ),
            (RecordData::Mx { preference: 10, exchange: "mx.example".into() }, "MX", "10 mx.example"),
            (
                RecordData::Https { priority: 1, target: String::new(), hints: vec![[192, 0, 2, 7].into()] },
                "HTTPS",
                "1 . hint=192.0.2.7",
            ),
            (RecordData::Ds(4711), "DS", "key tag 4711"),
            (RecordData::Other("LOC".into()), "LOC", "LOC"),
        ] {
            assert_eq!((data.type_name(), data.to_string().as_str()), (kind, shown));
            let json = serde_json::to_value(&data).expect("writes");
            assert_eq!(serde_json::from_value::<RecordData>(json).expect("reads"), data);
        }
    }
}

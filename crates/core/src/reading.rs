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
    /// Start of authority: serial and negative TTL (RFC 2308, section 4).
    Soa {
        /// Zone serial.
        serial: u32,
        /// How long, in seconds, an absence may be cached.
        minimum: u32,
    },
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
            Self::Soa { .. } => "SOA",
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
            Self::Soa { serial, minimum } => write!(f, "serial {serial}, minimum {minimum}"),
            Self::Other(name) => f.write_str(name),
        }
    }
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
}

impl Reading {
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
            Outcome::Garbled { reason } => Some(format!("answers unreadably: {reason}")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reading(outcome: Outcome) -> Reading {
        let source = Source::Vantage { name: "north".into() };
        Reading { source, name: "onswick.example".into(), rtype: RecordType::A, outcome, rtt_ms: 3 }
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
            (RecordData::Soa { serial: 7, minimum: 60 }, "SOA", "serial 7, minimum 60"),
            (RecordData::Other("LOC".into()), "LOC", "LOC"),
        ] {
            assert_eq!((data.type_name(), data.to_string().as_str()), (kind, shown));
            let json = serde_json::to_value(&data).expect("writes");
            assert_eq!(serde_json::from_value::<RecordData>(json).expect("reads"), data);
        }
    }
}

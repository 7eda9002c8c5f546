//! One answer, from one server, for one name and type.

use std::fmt;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::reading::record::{Record, RecordData, RecordType};

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
        server: DnsName,
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
    pub name: DnsName,
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
    pub fn new(source: Source, name: DnsName, rtype: RecordType, outcome: Outcome, rtt_ms: u32) -> Self {
        Self {
            source,
            name,
            rtype,
            outcome,
            rtt_ms,
            negative_ttl: None,
            extended: Vec::new(),
            unchecked: None,
        }
    }

    /// Whether this is from a server of the zone that is no authority for it:
    /// it refuses, fails, or answers without authority (RFC 1912, section 2.8).
    pub fn is_lame(&self) -> bool {
        if !self.source.is_authority() {
            return false;
        }
        match &self.outcome {
            Outcome::Answer { rcode: Rcode::NoError | Rcode::NxDomain, authoritative, .. } => !authoritative,
            Outcome::Answer { .. } => true,
            _ => false,
        }
    }

    /// Whether the answer leads elsewhere by an alias.
    pub fn is_alias(&self) -> bool {
        self.answer().is_some_and(|records| records.iter().any(|r| matches!(r.data, RecordData::Cname(_))))
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
}

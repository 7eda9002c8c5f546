//! One answer, from one server, for one name and type.

use std::fmt;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::reading::cut::Limit;
use crate::reading::record::{Record, RecordData, RecordType};
use crate::reading::signature::Signature;

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

impl Rcode {
    /// The server does not do what is asked of it (NOTIMP).
    pub const NOT_IMPLEMENTED: Self = Self::Other(4);

    /// The code with this number in the IANA registry.
    pub fn of(number: u16) -> Self {
        match number {
            0 => Self::NoError,
            2 => Self::ServFail,
            3 => Self::NxDomain,
            5 => Self::Refused,
            other => Self::Other(other),
        }
    }

    /// Its number in the IANA registry.
    pub fn number(self) -> u16 {
        match self {
            Self::NoError => 0,
            Self::ServFail => 2,
            Self::NxDomain => 3,
            Self::Refused => 5,
            Self::Other(number) => number,
        }
    }
}

impl fmt::Display for Rcode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoError => f.write_str("NOERROR"),
            Self::ServFail => f.write_str("SERVFAIL"),
            Self::NxDomain => f.write_str("NXDOMAIN"),
            Self::Refused => f.write_str("REFUSED"),
            Self::Other(1) => f.write_str("FORMERR"),
            Self::Other(4) => f.write_str("NOTIMP"),
            Self::Other(16) => f.write_str("BADVERS"),
            Self::Other(number) => write!(f, "response code {number}"),
        }
    }
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
    /// The answer does not fit into a UDP packet, and the server does not give it
    /// by TCP (RFC 7766).
    Short {
        /// What became of the connection.
        reason: String,
    },
    /// The time for the whole survey ran out before the answer came.
    Late,
    /// It was not asked, or what came was not read: the look had used up what it may.
    Unread {
        /// What was used up.
        limit: Limit,
    },
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
    /// How long after the survey had begun a vantage's answer was there, in milliseconds.
    #[serde(default, skip_serializing_if = "is_none_at_all")]
    pub after_ms: u32,
    /// How many seconds more this absence may be cached (RFC 2308, section 5).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub negative_ttl: Option<u32>,
    /// Extended errors (RFC 8914).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub extended: Vec<ExtendedError>,
    /// Whether the server answered only once EDNS was left out (RFC 6891, section
    /// 7).
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub without_edns: bool,
    /// Whether a vantage says that it has checked the answer's signatures (RFC 4035, section
    /// 3.2.3).
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub authentic: bool,
    /// After SERVFAIL: what came when DNSSEC checking was switched off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unchecked: Option<Rcode>,
    /// Signatures in the answer, where a server was asked for them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub signatures: Vec<Signature>,
}

/// Extended errors that say that signatures are refused (RFC 8914, sections 4.7 to 4.13).
const OF_SIGNATURES: [u16; 7] = [6, 7, 8, 9, 10, 11, 12];

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

fn is_none_at_all(time: &u32) -> bool {
    *time == 0
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
            after_ms: 0,
            negative_ttl: None,
            extended: Vec::new(),
            without_edns: false,
            authentic: false,
            unchecked: None,
            signatures: Vec::new(),
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

    /// Whether a resolver gives the answer only when it is not to check any
    /// signatures, or says that they are what it refuses.
    pub fn is_refused_for_its_signatures(&self) -> bool {
        let is_there = matches!(self.unchecked, Some(Rcode::NoError | Rcode::NxDomain));
        let is_told = self.extended.iter().any(|error| OF_SIGNATURES.contains(&error.code));
        (is_there || is_told) && self.rcode() == Some(Rcode::ServFail)
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

    /// Whether what came, or did not come, is the server's doing: not ours, as
    /// where nothing could be sent, or a vantage of ours is silent.
    pub fn is_theirs(&self) -> bool {
        match &self.outcome {
            Outcome::Answer { .. } => true,
            Outcome::Silence | Outcome::Short { .. } | Outcome::Garbled { .. } => self.source.is_authority(),
            Outcome::Guarded | Outcome::NoRoute | Outcome::Late | Outcome::Unread { .. } => false,
        }
    }

    /// Whether whatever came of it came at once: nothing was waited for in vain.
    pub fn is_prompt(&self) -> bool {
        match &self.outcome {
            Outcome::Answer { .. } | Outcome::Guarded | Outcome::NoRoute => true,
            Outcome::Silence
            | Outcome::Short { .. }
            | Outcome::Garbled { .. }
            | Outcome::Late
            | Outcome::Unread { .. } => false,
        }
    }

    /// The CAA records of a usable answer.
    pub fn caa(&self) -> Vec<&Record> {
        let records = self.answer().unwrap_or_default().iter();
        records.filter(|record| matches!(record.data, RecordData::Caa { .. })).collect()
    }

    /// Why there is no usable answer, in a few words.
    pub fn failure(&self) -> Option<String> {
        match &self.outcome {
            Outcome::Answer { rcode: Rcode::NoError | Rcode::NxDomain, .. } => None,
            Outcome::Answer { rcode: Rcode::ServFail, .. } => {
                let extended = self.extended.iter().map(|error| format!(", {error}"));
                Some(format!("answers SERVFAIL{}", extended.collect::<String>()))
            }
            Outcome::Answer { rcode: Rcode::Refused, .. } => Some("refuses to answer".into()),
            Outcome::Answer { rcode, .. } => Some(format!("answers {rcode}")),
            Outcome::Silence => Some("does not answer".into()),
            Outcome::Guarded => Some("has an address that may not be asked".into()),
            Outcome::NoRoute => Some("cannot be reached from here".into()),
            Outcome::Short { reason } => Some(format!("cuts its answer short, and {reason}")),
            Outcome::Late => Some("did not answer before the survey had to end".into()),
            Outcome::Unread { limit } => Some(format!("was not read: the look had used up its {limit}")),
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
            (answered(Rcode::Other(4)).outcome, "answers NOTIMP"),
            (Outcome::Silence, "does not answer"),
            (Outcome::Guarded, "has an address that may not be asked"),
            (Outcome::Garbled { reason: "too short".into() }, "answers unreadably: too short"),
        ] {
            assert_eq!(reading(outcome.clone()).answer(), None);
            assert_eq!(reading(outcome).failure().as_deref(), Some(words));
        }
    }
}

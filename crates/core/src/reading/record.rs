//! Records as they are read, and the types that are asked for.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::reading::octets::Octets;

crate::spelled! {
    /// The record types that Nomenta asks for, by their names in the IANA
    /// registry.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum RecordType: "record type" {
        /// IPv4 address.
        A = "A",
        /// IPv6 address.
        Aaaa = "AAAA",
        /// Alias.
        Cname = "CNAME",
        /// Text.
        Txt = "TXT",
        /// Certification authority authorization.
        Caa = "CAA",
        /// Name server.
        Ns = "NS",
        /// Start of authority.
        Soa = "SOA",
        /// Mail exchange.
        Mx = "MX",
        /// Service binding of a web host.
        Https = "HTTPS",
        /// Delegation signer.
        Ds = "DS",
        /// Key of a signed zone.
        Dnskey = "DNSKEY",
    }
}

impl RecordType {
    /// Its number in the IANA registry.
    pub const fn number(self) -> u16 {
        match self {
            Self::A => 1,
            Self::Ns => 2,
            Self::Cname => 5,
            Self::Soa => 6,
            Self::Mx => 15,
            Self::Txt => 16,
            Self::Aaaa => 28,
            Self::Ds => 43,
            Self::Dnskey => 48,
            Self::Https => 65,
            Self::Caa => 257,
        }
    }
}

/// A TTL as it counts, in seconds: one with its highest bit set is none (RFC 2181,
/// section 8).
pub fn ttl(told: u32) -> u32 {
    if told > i32::MAX.cast_unsigned() { 0 } else { told }
}

/// What a record holds. The strings of a TXT record are joined (RFC 1035,
/// section 3.3.14).
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
    Cname(DnsName),
    /// Where all names below the owner lead (RFC 6672).
    Dname(DnsName),
    /// Text, strings joined.
    Txt(Octets),
    /// Certification authority authorization (RFC 8659).
    Caa {
        /// The critical bit is 128.
        flags: u8,
        /// `issue`, `issuewild`, `iodef` or another property.
        tag: Octets,
        /// The property's value.
        value: Octets,
    },
    /// Name server.
    Ns(DnsName),
    /// Start of authority (RFC 1035, section 3.3.13).
    Soa(Box<Soa>),
    /// Mail exchange (RFC 1035, section 3.3.9).
    Mx {
        /// Lower is tried first.
        preference: u16,
        /// Host that takes the mail.
        exchange: DnsName,
    },
    /// Service binding of a web host (RFC 9460).
    Https {
        /// 0 is an alias.
        priority: u16,
        /// Target; the root for the owner itself.
        target: DnsName,
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
            Self::Other(name) => name,
            Self::Dname(_) => "DNAME",
            known => known.rtype().map_or("", RecordType::as_str),
        }
    }

    /// Type and value, as zone files write them.
    pub fn typed(&self) -> String {
        format!("{} {self}", self.type_name())
    }

    /// The type; `None` for one that Nomenta does not judge.
    pub fn rtype(&self) -> Option<RecordType> {
        Some(match self {
            Self::A(_) => RecordType::A,
            Self::Aaaa(_) => RecordType::Aaaa,
            Self::Cname(_) => RecordType::Cname,
            Self::Txt(_) => RecordType::Txt,
            Self::Caa { .. } => RecordType::Caa,
            Self::Ns(_) => RecordType::Ns,
            Self::Soa(_) => RecordType::Soa,
            Self::Mx { .. } => RecordType::Mx,
            Self::Https { .. } => RecordType::Https,
            Self::Ds(_) => RecordType::Ds,
            Self::Dname(_) | Self::Other(_) => return None,
        })
    }

    /// The name that it leads to, where that is all it holds.
    pub fn name(&self) -> Option<&DnsName> {
        match self {
            Self::Cname(name) | Self::Dname(name) | Self::Ns(name) => Some(name),
            _ => None,
        }
    }
}

impl fmt::Display for RecordData {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::A(address) => write!(f, "{address}"),
            Self::Aaaa(address) => write!(f, "{address}"),
            Self::Cname(name) | Self::Dname(name) | Self::Ns(name) => name.fmt(f),
            Self::Txt(text) => write!(f, "\"{text}\""),
            Self::Caa { flags, tag, value } => write!(f, "{flags} {tag} \"{value}\""),
            Self::Soa(soa) => write!(f, "serial {}, minimum {}", soa.serial, soa.minimum),
            Self::Mx { preference, exchange } => write!(f, "{preference} {exchange}"),
            Self::Https { priority, target, hints } => {
                write!(f, "{priority} {target}")?;
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
    pub primary: DnsName,
    /// Mailbox of the person in charge, written as a name.
    pub contact: DnsName,
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
    pub owner: DnsName,
    /// Seconds left, as this server told.
    pub ttl: u32,
    /// Type and value.
    pub data: RecordData,
}

impl fmt::Display for Record {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.owner, self.data.typed())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
                RecordData::Https {
                    priority: 1,
                    target: DnsName::root(),
                    hints: vec![[192, 0, 2, 7].into()],
                },
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

//! Values in the form that fits every type: `\# length hexadecimal` (RFC 3597,
//! section 5).

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use data_encoding::HEXLOWER_PERMISSIVE;

use super::fault::Fault;
use super::lines::Token;
use super::types::Kind;
use crate::name::dns::DnsName;
use crate::reading::octets::Octets;
use crate::reading::record::{RecordData, RecordType, Soa};

/// What begins such a value.
pub(super) const MARK: &str = "\\#";
/// Keys of the address hints (RFC 9460, section 14.3.2).
const HINTS: [(u16, usize); 2] = [(4, 4), (6, 16)];

/// Reads the value behind the mark, as the type has it where it is looked into.
pub(super) fn data(kind: Kind, tokens: &[Token<'_>]) -> Result<RecordData, Fault> {
    let octets = octets(tokens).ok_or_else(|| Fault::Generic(kind.name()))?;
    let mut wire = Wire { rest: &octets };

    let data = wire.data(kind).filter(|_| wire.rest.is_empty());
    data.ok_or_else(|| Fault::Generic(kind.name()))
}

/// As many octets as the length says, in however many words.
fn octets(tokens: &[Token<'_>]) -> Option<Vec<u8>> {
    let [length, words @ ..] = tokens else { return None };
    if tokens.iter().any(|token| token.quoted) {
        return None;
    }

    let digits: String = words.iter().map(|token| token.raw).collect();
    let octets = HEXLOWER_PERMISSIVE.decode(digits.as_bytes()).ok()?;
    let length: u16 = length.raw.parse().ok()?;
    (octets.len() == usize::from(length)).then_some(octets)
}

/// A value as it goes over the wire.
struct Wire<'a> {
    rest: &'a [u8],
}

impl<'a> Wire<'a> {
    fn data(&mut self, kind: Kind) -> Option<RecordData> {
        let known = match kind {
            Kind::Known(known) => known,
            Kind::Dname => return self.name().map(RecordData::Dname),
            Kind::Other(_) | Kind::Unnamed(_) => {
                self.rest = &[];
                return Some(RecordData::Other(kind.name()));
            }
        };

        Some(match known {
            RecordType::A => RecordData::A(Ipv4Addr::from(self.array::<4>()?)),
            RecordType::Aaaa => RecordData::Aaaa(Ipv6Addr::from(self.array::<16>()?)),
            RecordType::Cname => RecordData::Cname(self.name()?),
            RecordType::Ns => RecordData::Ns(self.name()?),
            RecordType::Mx => RecordData::Mx { preference: self.short()?, exchange: self.name()? },
            RecordType::Txt => RecordData::Txt(self.strings()?),
            RecordType::Caa => self.caa()?,
            RecordType::Soa => RecordData::Soa(Box::new(self.soa()?)),
            RecordType::Https => self.https()?,
            RecordType::Ds => {
                let tag = self.short()?;
                // Algorithm, digest type, and a digest.
                self.take(3)?;
                self.rest = &[];
                RecordData::Ds(tag)
            }
            RecordType::Dnskey => {
                self.rest = &[];
                RecordData::Other(known.to_string())
            }
        })
    }

    fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.rest.split_at_checked(count)?;
        self.rest = rest;
        Some(taken)
    }

    fn array<const N: usize>(&mut self) -> Option<[u8; N]> {
        self.take(N)?.try_into().ok()
    }

    fn short(&mut self) -> Option<u16> {
        self.array().map(u16::from_be_bytes)
    }

    fn long(&mut self) -> Option<u32> {
        self.array().map(u32::from_be_bytes)
    }

    fn all(&mut self) -> &'a [u8] {
        std::mem::take(&mut self.rest)
    }

    /// A string with its length before it (RFC 1035, section 3.3).
    fn string(&mut self) -> Option<&'a [u8]> {
        let [length] = self.array()?;
        self.take(length.into())
    }

    /// One string or more.
    fn strings(&mut self) -> Option<Octets> {
        let mut joined = self.string()?.to_vec();
        while !self.rest.is_empty() {
            joined.extend(self.string()?);
        }
        Some(joined.into())
    }

    /// A name, which is never compressed here (RFC 3597, section 4).
    fn name(&mut self) -> Option<DnsName> {
        let mut labels = Vec::new();
        let mut octets = 0;
        loop {
            let label = self.string()?;
            octets += label.len() + 1;
            if label.is_empty() {
                break;
            }
            labels.push(label);
        }
        let is_name = labels.iter().all(|label| label.len() <= 63) && octets <= 255;
        is_name.then(|| DnsName::from_labels(labels))
    }

    fn caa(&mut self) -> Option<RecordData> {
        let [flags] = self.array()?;
        let tag = self.string()?.to_ascii_lowercase();
        let is_tag = !tag.is_empty() && tag.iter().all(u8::is_ascii_alphanumeric);
        is_tag.then(|| RecordData::Caa { flags, tag: tag.into(), value: self.all().to_vec().into() })
    }

    fn soa(&mut self) -> Option<Soa> {
        Some(Soa {
            primary: self.name()?,
            contact: self.name()?,
            serial: self.long()?,
            refresh: self.long()?,
            retry: self.long()?,
            expire: self.long()?,
            minimum: self.long()?,
        })
    }

    fn https(&mut self) -> Option<RecordData> {
        let priority = self.short()?;
        let target = self.name()?;
        let mut hints = Vec::new();

        while !self.rest.is_empty() {
            let (key, length) = (self.short()?, self.short()?);
            let value = self.take(length.into())?;
            let Some((_, width)) = HINTS.iter().find(|(own, _)| *own == key) else { continue };
            if value.is_empty() || value.len() % width != 0 {
                return None;
            }
            hints.extend(value.chunks(*width).filter_map(address));
        }
        Some(RecordData::Https { priority, target, hints })
    }
}

fn address(octets: &[u8]) -> Option<IpAddr> {
    let v4 = <[u8; 4]>::try_from(octets).map(IpAddr::from);
    v4.or_else(|_| <[u8; 16]>::try_from(octets).map(IpAddr::from)).ok()
}

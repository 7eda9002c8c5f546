//! Records of a message, each read by itself: one that nobody asked for and that
//! cannot be read spoils nothing.

use std::net::IpAddr;

use hickory_proto::ProtoError;
use hickory_proto::rr::rdata::SOA;
use hickory_proto::rr::rdata::svcb::SvcParamValue;
use hickory_proto::rr::{Name, RData, RecordType as WireType};
use hickory_proto::serialize::binary::{BinDecodable, BinDecoder, BinEncodable, Restrict};
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::answer::ExtendedError;
use nomenta_core::reading::record::{Record, RecordData, Soa, ttl};

use crate::signing::{self, TrustRecord};

/// A record before its value is read.
pub(crate) struct Frame<'a> {
    owner: Name,
    pub rtype: WireType,
    class: u16,
    pub ttl: u32,
    pub rdata: &'a [u8],
    /// The value again, where a name in it may refer to names before it.
    value: BinDecoder<'a>,
}

/// The Internet, of the classes that there are (RFC 1035, section 3.2.4).
const IN: u16 = 1;

impl<'a> Frame<'a> {
    pub(crate) fn read(decoder: &mut BinDecoder<'a>) -> Result<Self, ProtoError> {
        let owner = Name::read(decoder)?;
        let rtype = WireType::from(decoder.read_u16()?.unverified(/* any number is a type */));
        let class = decoder.read_u16()?.unverified(/* compared below */);
        let ttl = decoder.read_u32()?.unverified(/* any number is a TTL */);
        let length = decoder.read_u16()?.unverified(/* checked by the read of the slice */);

        let value = decoder.clone(u16::try_from(decoder.index()).unwrap_or(u16::MAX));
        let rdata = decoder.read_slice(length.into())?.unverified(/* octets */);
        Ok(Self { owner, rtype, class, ttl, rdata, value })
    }

    /// The record, if it is of the Internet. One of a type that resolvers look
    /// into must be readable.
    pub(crate) fn record(&self) -> Result<Option<Record>, ProtoError> {
        if self.class != IN {
            return Ok(None);
        }
        Ok(Some(Record { owner: text(&self.owner), ttl: ttl(self.ttl), data: self.data()? }))
    }

    fn data(&self) -> Result<RecordData, ProtoError> {
        match self.rtype {
            WireType::CAA => return Ok(caa(self.rdata).unwrap_or_else(|| self.other())),
            DNAME => return Ok(RecordData::Dname(text(&Name::read(&mut self.value())?))),
            _ => {}
        }

        match self.rdata() {
            Ok(rdata) => Ok(data(&rdata)),
            Err(error) if CHECKED.contains(&self.rtype) => Err(error),
            Err(_) => Ok(self.other()),
        }
    }

    /// A reader at the value.
    fn value(&self) -> BinDecoder<'a> {
        self.value.clone(u16::try_from(self.value.index()).unwrap_or(u16::MAX))
    }

    fn rdata(&self) -> Result<RData, ProtoError> {
        let length = Restrict::new(u16::try_from(self.rdata.len()).unwrap_or(u16::MAX));
        RData::read(&mut self.value(), self.rtype, length)
    }

    /// The octets of the value with every name in it written out.
    pub(crate) fn written_out(&self) -> Result<Vec<u8>, ProtoError> {
        if !NAMED.contains(&self.rtype) {
            return Ok(self.rdata.to_vec());
        }
        self.rdata()?.to_bytes()
    }

    fn other(&self) -> RecordData {
        RecordData::Other(self.rtype.to_string())
    }

    /// Whether it is the signature of other records.
    pub(crate) fn is_signature(&self) -> bool {
        u16::from(self.rtype) == signing::RRSIG
    }

    /// What it says about the chain of trust.
    pub(crate) fn trust(&self) -> Option<TrustRecord> {
        signing::read(self.rtype.into(), self.rdata)
    }
}

/// Types whose values resolvers look into, so that one that cannot be read makes
/// the whole message useless to them.
const CHECKED: [WireType; 7] =
    [WireType::A, WireType::AAAA, WireType::CNAME, WireType::MX, WireType::NS, WireType::SOA, WireType::TXT];

/// Types whose values may refer to names earlier in the message (RFC 3597, section 4).
const NAMED: [WireType; 4] = [WireType::CNAME, WireType::MX, WireType::NS, WireType::SOA];

/// Redirects whole subtrees (RFC 6672).
const DNAME: WireType = WireType::Unknown(39);

/// The one form that names are kept in.
pub(crate) fn text(name: &Name) -> DnsName {
    DnsName::from_labels(name.iter())
}

fn data(rdata: &RData) -> RecordData {
    match rdata {
        RData::A(a) => RecordData::A(a.0),
        RData::AAAA(a) => RecordData::Aaaa(a.0),
        RData::CNAME(name) => RecordData::Cname(text(&name.0)),
        RData::NS(name) => RecordData::Ns(text(&name.0)),
        RData::SOA(soa) => RecordData::Soa(authority(soa).into()),
        RData::MX(mx) => RecordData::Mx { preference: mx.preference(), exchange: text(mx.exchange()) },
        RData::HTTPS(https) => RecordData::Https {
            priority: https.svc_priority(),
            target: text(https.target_name()),
            hints: https.svc_params().iter().flat_map(|(_, value)| hints(value)).collect(),
        },
        RData::TXT(txt) => {
            let joined: Vec<u8> = txt.iter().flat_map(|s| s.iter().copied()).collect();
            RecordData::Txt(joined.into())
        }
        other => RecordData::Other(other.record_type().to_string()),
    }
}

/// Flags, a tag after its length, and a value (RFC 8659, section 4.1). Tags are
/// letters and digits, but a zone may hold anything.
fn caa(rdata: &[u8]) -> Option<RecordData> {
    let (flags, rest) = rdata.split_first()?;
    let (length, rest) = rest.split_first()?;
    let (tag, value) = rest.split_at_checked((*length).into())?;
    let tag = tag.to_ascii_lowercase();
    Some(RecordData::Caa { flags: *flags, tag: tag.into(), value: value.to_vec().into() })
}

fn authority(soa: &SOA) -> Soa {
    Soa {
        primary: text(soa.mname()),
        contact: text(soa.rname()),
        serial: soa.serial(),
        // Intervals are signed in the library and unsigned in the RFC.
        refresh: soa.refresh().cast_unsigned(),
        retry: soa.retry().cast_unsigned(),
        expire: soa.expire().cast_unsigned(),
        minimum: soa.minimum(),
    }
}

fn hints(value: &SvcParamValue) -> Vec<IpAddr> {
    match value {
        SvcParamValue::Ipv4Hint(list) => list.0.iter().map(|a| a.0.into()).collect(),
        SvcParamValue::Ipv6Hint(list) => list.0.iter().map(|a| a.0.into()).collect(),
        _ => Vec::new(),
    }
}

/// Number of the option that carries an extended error (RFC 8914, section 2).
const EXTENDED_ERROR: u16 = 15;

/// The extended errors among the options (RFC 6891, section 6.1.2); what is cut
/// short ends the list.
pub(crate) fn extended(mut options: &[u8]) -> Vec<ExtendedError> {
    let mut errors = Vec::new();

    while let Some((option, rest)) = options.split_first_chunk::<4>() {
        let [code, length] = [&option[..2], &option[2..]].map(|b| u16::from_be_bytes([b[0], b[1]]));
        let Some((value, rest)) = rest.split_at_checked(length.into()) else { break };
        if let (EXTENDED_ERROR, Some((code, words))) = (code, value.split_first_chunk::<2>()) {
            let words = String::from_utf8_lossy(words);
            let text = words.trim_end_matches('\0').chars().filter(|c| !c.is_control()).collect();
            errors.push(ExtendedError { code: u16::from_be_bytes(*code), text });
        }
        options = rest;
    }

    errors
}

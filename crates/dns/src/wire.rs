//! DNS messages to and from the types of the core.

use std::net::IpAddr;

use hickory_proto::ProtoError;
use hickory_proto::op::{Edns, Header, Message, MessageType, OpCode, Query, ResponseCode};
use hickory_proto::rr::rdata::SOA;
use hickory_proto::rr::rdata::caa::Property;
use hickory_proto::rr::rdata::opt::EdnsOption;
use hickory_proto::rr::rdata::svcb::SvcParamValue;
use hickory_proto::rr::{Name, RData, Record as WireRecord, RecordType as WireType};
use hickory_proto::serialize::binary::{BinEncodable, BinEncoder};
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::answer::{ExtendedError, Rcode};
use nomenta_core::reading::record::{Record, RecordData, RecordType, Soa};

/// Largest UDP reply asked for, which no link fragments (RFC 9715).
const EDNS_PAYLOAD: u16 = 1232;

/// A decoded reply.
#[derive(Clone, Debug)]
pub(crate) struct Reply {
    pub rcode: Rcode,
    pub authoritative: bool,
    pub truncated: bool,
    pub extended: Vec<ExtendedError>,
    pub answers: Vec<Record>,
    pub authority: Vec<Record>,
    pub additional: Vec<Record>,
}

/// Why bytes are not the reply to a question.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Mismatch {
    /// Somebody else's reply, or a forged one: keep waiting.
    Stranger,
    /// The right id, but nothing that can be read.
    Garbled(String),
}

/// Who is asked, and for how much.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Mode {
    /// A server of the zone: no recursion.
    Authority,
    /// A resolver.
    Vantage,
    /// A resolver, which is to leave DNSSEC unchecked (RFC 4035, section 3.2.2).
    Unchecked,
}

/// Encodes one question, or says why the name cannot be asked for.
pub(crate) fn encode(id: u16, name: &str, rtype: RecordType, mode: Mode) -> Result<Vec<u8>, ProtoError> {
    let name = Name::from_ascii(format!("{name}."))?;
    let mut edns = Edns::new();
    edns.set_max_payload(EDNS_PAYLOAD).set_version(0);

    let mut header = Header::new();
    header
        .set_id(id)
        .set_message_type(MessageType::Query)
        .set_op_code(OpCode::Query)
        .set_recursion_desired(mode != Mode::Authority)
        .set_checking_disabled(mode == Mode::Unchecked)
        .set_query_count(1)
        .set_additional_count(1);

    // Part by part: a whole message keeps books that one question has no use for.
    let mut bytes = Vec::with_capacity(HEADER + name.len() + 16);
    let mut encoder = BinEncoder::new(&mut bytes);
    header
        .emit(&mut encoder)
        .and_then(|()| Query::query(name, wire_type(rtype)).emit(&mut encoder))
        .and_then(|()| WireRecord::from(&edns).emit(&mut encoder))?;
    Ok(bytes)
}

/// Octets of the header (RFC 1035, section 4.1.1).
const HEADER: usize = 12;
/// Response codes of a server that does not want to answer, or cannot.
const SERVFAIL: u8 = 2;
const REFUSED: u8 = 5;

/// Whether `bytes` are a reply to a message that was sent, and whether the
/// server refuses or fails; told from header and question alone.
pub(crate) fn is_reply(bytes: &[u8], sent: &[u8]) -> Result<bool, Mismatch> {
    let Some(header) = bytes.get(..HEADER) else {
        return Err(Mismatch::Garbled("it is shorter than a header".into()));
    };
    let is_response = header[2] & 0x80 != 0;
    if header[..2] != sent[..2] || !is_response {
        return Err(Mismatch::Stranger);
    }

    let rcode = header[3] & 0x0f;
    let questions = u16::from_be_bytes([header[4], header[5]]);
    // Some servers leave the question out of error replies.
    let is_bare = questions == 0 && rcode != 0;
    let asked = &sent[HEADER..question_end(sent)];
    let is_echoed = bytes.get(HEADER..HEADER + asked.len()).is_some_and(|q| q.eq_ignore_ascii_case(asked));
    if is_bare || is_echoed {
        return Ok(matches!(rcode, SERVFAIL | REFUSED));
    }

    // A question of another kind may be somebody else's.
    if questions == 1 {
        return Err(Mismatch::Stranger);
    }
    Err(Mismatch::Garbled("its question cannot be read".into()))
}

/// Where the question of a message that was encoded here ends.
fn question_end(sent: &[u8]) -> usize {
    let mut at = HEADER;

    while let Some(length) = sent.get(at).copied().filter(|length| *length > 0) {
        at += 1 + usize::from(length);
    }

    // The root label, type and class.
    (at + 5).min(sent.len())
}

/// Decodes `bytes` as the reply to the question with this id.
pub(crate) fn decode(bytes: &[u8], id: u16, name: &str, rtype: RecordType) -> Result<Reply, Mismatch> {
    if bytes.get(..2) != Some(&id.to_be_bytes()) {
        return Err(Mismatch::Stranger);
    }
    let message = Message::from_vec(bytes).map_err(|e| Mismatch::Garbled(e.to_string()))?;

    let is_echoed = match message.queries().first() {
        Some(asked) => text(asked.name()) == name && asked.query_type() == wire_type(rtype),
        // Some servers leave the question out of error replies (RFC 9619 forbids more than one).
        None => message.response_code() != ResponseCode::NoError,
    };
    if message.message_type() != MessageType::Response || !is_echoed {
        return Err(Mismatch::Stranger);
    }

    Ok(Reply {
        rcode: rcode(message.response_code()),
        authoritative: message.authoritative(),
        truncated: message.truncated(),
        extended: extended(&message),
        answers: records(message.answers()),
        authority: records(message.name_servers()),
        additional: records(message.additionals()),
    })
}

fn wire_type(rtype: RecordType) -> WireType {
    match rtype {
        RecordType::A => WireType::A,
        RecordType::Aaaa => WireType::AAAA,
        RecordType::Cname => WireType::CNAME,
        RecordType::Txt => WireType::TXT,
        RecordType::Caa => WireType::CAA,
        RecordType::Ns => WireType::NS,
        RecordType::Soa => WireType::SOA,
        RecordType::Mx => WireType::MX,
        RecordType::Https => WireType::HTTPS,
        RecordType::Ds => WireType::DS,
    }
}

fn rcode(code: ResponseCode) -> Rcode {
    match code {
        ResponseCode::NoError => Rcode::NoError,
        ResponseCode::NXDomain => Rcode::NxDomain,
        ResponseCode::ServFail => Rcode::ServFail,
        ResponseCode::Refused => Rcode::Refused,
        other => Rcode::Other(other.into()),
    }
}

fn records(section: &[WireRecord]) -> Vec<Record> {
    section.iter().map(|r| Record { owner: text(r.name()), ttl: r.ttl(), data: data(r.data()) }).collect()
}

/// Lower case, without the root dot, and with the escapes of RFC 1035, section
/// 5.1. Names are most of what is read, so this goes octet by octet.
fn text(name: &Name) -> DnsName {
    let mut text = String::with_capacity(name.len());

    for label in name.iter() {
        if !text.is_empty() {
            text.push('.');
        }
        for octet in label {
            match octet {
                b'.' | b'\\' => text.extend(['\\', char::from(*octet)]),
                0x21..=0x7e => text.push(char::from(octet.to_ascii_lowercase())),
                other => text.push_str(&format!("\\{other:03}")),
            }
        }
    }
    DnsName::new(text)
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
            RecordData::Txt(String::from_utf8_lossy(&joined).into_owned())
        }
        RData::CAA(caa) => RecordData::Caa {
            flags: if caa.issuer_critical() { 128 } else { 0 },
            tag: tag(caa.tag()),
            value: String::from_utf8_lossy(caa.raw_value()).into_owned(),
        },
        other => RecordData::Other(other.record_type().to_string()),
    }
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

fn extended(message: &Message) -> Vec<ExtendedError> {
    let options = message.extensions().iter().flat_map(|edns| edns.options().as_ref());

    options
        .filter_map(|(_, option)| match option {
            EdnsOption::Unknown(EXTENDED_ERROR, bytes) if bytes.len() >= 2 => Some(ExtendedError {
                code: u16::from_be_bytes([bytes[0], bytes[1]]),
                text: String::from_utf8_lossy(&bytes[2..]).trim_end_matches('\0').to_owned(),
            }),
            _ => None,
        })
        .collect()
}

impl Reply {
    /// How long, in seconds, the absence of an answer may be cached: the lesser
    /// of the SOA's own TTL and its minimum (RFC 2308, section 5).
    pub(crate) fn negative_ttl(&self, rtype: RecordType) -> Option<u32> {
        if self.answers.iter().any(|record| record.data.rtype() == Some(rtype)) {
            return None;
        }

        self.authority.iter().find_map(|r| match &r.data {
            RecordData::Soa(soa) => Some(r.ttl.min(soa.minimum)),
            _ => None,
        })
    }
}

fn tag(property: &Property) -> String {
    property.as_str().to_ascii_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;
    use hickory_proto::rr::rdata::{SOA, TXT};

    fn reply(id: u16, name: &str) -> Vec<u8> {
        let name = Name::from_ascii(name).expect("name");
        let mut message = Message::new();
        message.set_id(id).set_message_type(MessageType::Response);
        message.add_query(Query::query(name.clone(), WireType::TXT));
        let txt = TXT::new(vec!["token=".into(), "abc".into()]);
        message.add_answer(WireRecord::from_rdata(name, 60, RData::TXT(txt)));
        message.to_bytes().expect("encodes")
    }

    #[test]
    fn txt_strings_are_joined_and_names_are_folded() {
        let decoded = decode(&reply(7, "A.Onswick.Example."), 7, "a.onswick.example", RecordType::Txt);
        let record = &decoded.expect("matches").answers[0];
        assert_eq!(record.owner, "a.onswick.example");
        assert_eq!(record.data, RecordData::Txt("token=abc".into()));
    }

    #[test]
    fn a_reply_is_known_by_header_and_question_alone() {
        let name = "a.onswick.example";
        let mut sent = encode(7, name, RecordType::Txt, Mode::Authority).expect("encodes");
        let bytes = reply(7, "A.onswick.example.");
        assert_eq!(is_reply(&bytes, &sent), Ok(false), "case does not matter");
        assert_eq!(is_reply(&sent, &sent), Err(Mismatch::Stranger), "a query that comes back");
        let other = encode(7, "b.onswick.example", RecordType::Txt, Mode::Authority).expect("encodes");
        assert_eq!(is_reply(&bytes, &other), Err(Mismatch::Stranger));
        assert!(matches!(is_reply(&bytes[..9], &sent), Err(Mismatch::Garbled(_))));
        assert!(matches!(is_reply(&[&[0, 7][..], &[0xff; 30]].concat(), &sent), Err(Mismatch::Garbled(_))));
        let refusal = [0, 7, 0x80, 5, 0, 0, 0, 0, 0, 0, 0, 0];
        assert_eq!(is_reply(&refusal, &sent), Ok(true));
        sent[1] = 8;
        assert_eq!(is_reply(&bytes, &sent), Err(Mismatch::Stranger));
    }

    #[test]
    fn strangers_are_waited_past_and_garbage_is_named() {
        let bytes = reply(7, "a.onswick.example.");
        for (id, name, rtype) in [
            (8, "a.onswick.example", RecordType::Txt),
            (7, "b.onswick.example", RecordType::Txt),
            (7, "a.onswick.example", RecordType::A),
        ] {
            assert_eq!(decode(&bytes, id, name, rtype).expect_err("stranger"), Mismatch::Stranger);
        }
        let garbled = decode(&bytes[..20], 7, "a.onswick.example", RecordType::Txt);
        assert!(matches!(garbled, Err(Mismatch::Garbled(_))));
    }

    #[test]
    fn a_question_has_edns_1232_and_asks_for_recursion_only_when_told() {
        for (mode, recursion, unchecked) in
            [(Mode::Vantage, 1, 0), (Mode::Authority, 0, 0), (Mode::Unchecked, 1, 0x10)]
        {
            let bytes = encode(0x1234, "_c.onswick.example", RecordType::Txt, mode).expect("encodes");
            assert_eq!((bytes[0], bytes[1], bytes[2] & 1), (0x12, 0x34, recursion));
            assert_eq!(bytes[3] & 0x10, unchecked);
            let message = Message::from_vec(&bytes).expect("decodes");
            assert_eq!(message.max_payload(), EDNS_PAYLOAD);
            assert_eq!(text(message.queries()[0].name()), "_c.onswick.example");
        }
        assert!(encode(1, &"a".repeat(64), RecordType::A, Mode::Authority).is_err());
    }

    #[test]
    fn an_error_without_the_question_counts_and_a_success_without_it_does_not() {
        for (code, want) in [(ResponseCode::ServFail, Some(Rcode::ServFail)), (ResponseCode::NoError, None)] {
            let mut message = Message::new();
            message.set_id(7).set_message_type(MessageType::Response).set_response_code(code);
            let bytes = message.to_bytes().expect("encodes");
            let decoded = decode(&bytes, 7, "a.onswick.example", RecordType::A);
            assert_eq!(decoded.ok().map(|r| r.rcode), want);
        }
    }

    #[test]
    fn extended_errors_and_the_time_of_an_absence_are_kept() {
        let name = Name::from_ascii("a.onswick.example.").expect("name");
        let mut message = Message::new();
        message.set_id(7).set_message_type(MessageType::Response);
        message.add_query(Query::query(name.clone(), WireType::A));
        let mut edns = Edns::new();
        edns.options_mut().insert(EdnsOption::Unknown(15, [&[0, 9][..], b"DNSKEY Missing"].concat()));
        message.set_edns(edns);
        let soa = SOA::new(name.clone(), name.clone(), 7, 1, 1, 1, 30);
        message.add_name_server(WireRecord::from_rdata(name, 60, RData::SOA(soa)));
        let bytes = message.to_bytes().expect("encodes");
        let reply = decode(&bytes, 7, "a.onswick.example", RecordType::A).expect("decodes");
        assert_eq!(reply.extended, [ExtendedError { code: 9, text: "DNSKEY Missing".into() }]);
        assert_eq!(reply.negative_ttl(RecordType::A), Some(30));
    }

    #[test]
    fn a_query_that_comes_back_is_no_reply() {
        let bytes = encode(7, "a.onswick.example", RecordType::A, Mode::Authority).expect("encodes");
        assert!(matches!(decode(&bytes, 7, "a.onswick.example", RecordType::A), Err(Mismatch::Stranger)));
    }
}

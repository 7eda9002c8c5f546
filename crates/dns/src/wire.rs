//! DNS messages to and from the types of the core.

use hickory_proto::op::{Edns, Message, MessageType, OpCode, Query, ResponseCode};
use hickory_proto::rr::rdata::caa::Property;
use hickory_proto::rr::{Name, RData, Record as WireRecord, RecordType as WireType};
use hickory_proto::serialize::binary::BinEncodable;
use nomenta_core::names;
use nomenta_core::reading::{Rcode, Record, RecordData, RecordType};

/// Largest UDP reply asked for, which no link fragments (RFC 9715).
const EDNS_PAYLOAD: u16 = 1232;

/// A decoded reply.
#[derive(Clone, Debug)]
pub(crate) struct Reply {
    pub rcode: Rcode,
    pub authoritative: bool,
    pub truncated: bool,
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

/// Encodes one question, or says why the name cannot be asked for.
pub(crate) fn encode(id: u16, name: &str, rtype: RecordType, recurse: bool) -> Result<Vec<u8>, String> {
    let name = Name::from_ascii(format!("{name}.")).map_err(|e| e.to_string())?;
    let mut message = Message::new();
    let mut edns = Edns::new();
    edns.set_max_payload(EDNS_PAYLOAD).set_version(0);
    message
        .set_id(id)
        .set_message_type(MessageType::Query)
        .set_op_code(OpCode::Query)
        .set_recursion_desired(recurse)
        .add_query(Query::query(name, wire_type(rtype)))
        .set_edns(edns);
    message.to_bytes().map_err(|e| e.to_string())
}

/// Decodes `bytes` as the reply to the question with this id.
pub(crate) fn decode(bytes: &[u8], id: u16, name: &str, rtype: RecordType) -> Result<Reply, Mismatch> {
    if bytes.get(..2) != Some(&id.to_be_bytes()) {
        return Err(Mismatch::Stranger);
    }
    let message = Message::from_vec(bytes).map_err(|e| Mismatch::Garbled(e.to_string()))?;
    let asked = message.queries().first();
    let matches = |q: &Query| text(q.name()) == name && q.query_type() == wire_type(rtype);
    // Some servers leave the question out of error replies (RFC 9619 forbids more than one).
    let echoed = asked.map_or(message.response_code() != ResponseCode::NoError, matches);
    if message.message_type() != MessageType::Response || !echoed {
        return Err(Mismatch::Stranger);
    }
    Ok(Reply {
        rcode: rcode(message.response_code()),
        authoritative: message.authoritative(),
        truncated: message.truncated(),
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

fn text(name: &Name) -> String {
    names::normal(&name.to_ascii())
}

fn data(rdata: &RData) -> RecordData {
    match rdata {
        RData::A(a) => RecordData::A(a.0),
        RData::AAAA(a) => RecordData::Aaaa(a.0),
        RData::CNAME(name) => RecordData::Cname(text(&name.0)),
        RData::NS(name) => RecordData::Ns(text(&name.0)),
        RData::SOA(soa) => RecordData::Soa { serial: soa.serial(), minimum: soa.minimum() },
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

fn tag(property: &Property) -> String {
    property.as_str().to_ascii_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;
    use hickory_proto::rr::rdata::TXT;

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
        for (recurse, bit) in [(true, 1), (false, 0)] {
            let bytes = encode(0x1234, "_c.onswick.example", RecordType::Txt, recurse).expect("encodes");
            assert_eq!((bytes[0], bytes[1], bytes[2] & 1), (0x12, 0x34, bit));
            let message = Message::from_vec(&bytes).expect("decodes");
            assert_eq!(message.max_payload(), EDNS_PAYLOAD);
            assert_eq!(text(message.queries()[0].name()), "_c.onswick.example");
        }
        assert!(encode(1, &"a".repeat(64), RecordType::A, false).is_err());
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
    fn a_query_that_comes_back_is_no_reply() {
        let bytes = encode(7, "a.onswick.example", RecordType::A, false).expect("encodes");
        assert!(matches!(decode(&bytes, 7, "a.onswick.example", RecordType::A), Err(Mismatch::Stranger)));
    }
}

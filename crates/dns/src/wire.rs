//! DNS messages to and from the types of the core.
//!
//! Messages are read as resolvers read them: record by record, so that one that
//! nobody asked for and that cannot be read spoils nothing, and without the
//! habits of any one server.

use hickory_proto::ProtoError;
use hickory_proto::op::{Edns, Header, MessageType, OpCode, Query};
use hickory_proto::rr::{Name, Record as WireRecord, RecordType as WireType};
use hickory_proto::serialize::binary::{BinDecodable, BinDecoder, BinEncodable, BinEncoder};
use nomenta_core::reading::answer::{ExtendedError, Rcode};
use nomenta_core::reading::octets::Octets;
use nomenta_core::reading::record::{Record, RecordData, RecordType};

use crate::frame::{Frame, extended, text};
use crate::signing::TrustRecord;

/// Largest UDP reply asked for, which no link fragments (RFC 9715).
const EDNS_PAYLOAD: u16 = 1232;
/// Largest UDP reply without EDNS (RFC 1035, section 4.2.1), and the least that
/// may be asked for with it.
const SMALL_PAYLOAD: u16 = 512;

/// A decoded reply.
#[derive(Clone, Debug)]
pub(crate) struct Reply {
    pub rcode: Rcode,
    pub authoritative: bool,
    /// Whether a resolver has checked its signatures (RFC 4035, section 3.2.3).
    pub authentic: bool,
    pub truncated: bool,
    pub extended: Vec<ExtendedError>,
    pub answers: Vec<Record>,
    pub authority: Vec<Record>,
    pub additional: Vec<Record>,
    pub trust: Vec<TrustRecord>,
    /// Whether it came only once EDNS was left out.
    pub without_edns: bool,
    /// How large it was.
    pub octets: usize,
    /// Whether it had more records than were read.
    pub is_partial: bool,
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
    /// A server of the zone, for its signatures too (RFC 4035, section 3.2.1).
    Signed,
    /// A resolver.
    Vantage,
    /// A resolver, which is to leave DNSSEC unchecked (RFC 4035, section 3.2.2).
    Unchecked,
}

impl Mode {
    fn is_recursive(self) -> bool {
        matches!(self, Self::Vantage | Self::Unchecked)
    }
}

/// How much of EDNS (RFC 6891) a server can bear.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum Extent {
    /// All of it, and replies of the usual size.
    #[default]
    Usual,
    /// Small replies alone: larger ones do not arrive.
    Small,
    /// None.
    Plain,
}

/// Encodes one question, or says why the name cannot be asked for.
pub(crate) fn encode(
    id: u16,
    name: &str,
    rtype: RecordType,
    mode: Mode,
    extent: Extent,
) -> Result<Vec<u8>, ProtoError> {
    let name = wire_name(name)?;
    let edns = edns(mode, extent);

    let mut header = Header::new();
    header
        .set_id(id)
        .set_message_type(MessageType::Query)
        .set_op_code(OpCode::Query)
        .set_recursion_desired(mode.is_recursive())
        // It asks to be told whether signatures were checked (RFC 6840, section 5.7).
        .set_authentic_data(mode == Mode::Vantage)
        .set_checking_disabled(mode == Mode::Unchecked)
        .set_query_count(1)
        .set_additional_count(edns.is_some().into());

    // Part by part: a whole message keeps books that one question has no use for.
    let mut bytes = Vec::with_capacity(HEADER + name.len() + 16);
    let mut encoder = BinEncoder::new(&mut bytes);
    header.emit(&mut encoder).and_then(|()| Query::query(name, wire_type(rtype)).emit(&mut encoder))?;
    if let Some(edns) = edns {
        WireRecord::from(&edns).emit(&mut encoder)?;
    }

    Ok(bytes)
}

/// A name as messages have it.
pub(crate) fn wire_name(name: &str) -> Result<Name, ProtoError> {
    Name::from_labels(labels(name))
}

/// The octets of each label, whatever they are.
pub(crate) fn labels(name: &str) -> Vec<Vec<u8>> {
    let labels = name.split('.').filter(|label| !label.is_empty());
    labels.map(|label| Octets::unescaped(label).as_bytes().to_vec()).collect()
}

fn edns(mode: Mode, extent: Extent) -> Option<Edns> {
    let payload = match extent {
        Extent::Usual => EDNS_PAYLOAD,
        Extent::Small => SMALL_PAYLOAD,
        Extent::Plain => return None,
    };

    let mut edns = Edns::new();
    edns.set_max_payload(payload).set_version(0).set_dnssec_ok(mode == Mode::Signed);
    Some(edns)
}

/// Octets of the header (RFC 1035, section 4.1.1).
const HEADER: usize = 12;
/// Response codes of a server that does not want to answer, or cannot.
const SERVFAIL: u8 = 2;
const REFUSED: u8 = 5;

/// What is told of a reply from header and question alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Echo {
    /// Whether the server refuses or fails.
    pub is_refusal: bool,
    /// Whether the name came back with its letters as they were sent, or not at all.
    pub keeps_case: bool,
}

/// Writes the letters of a message's name large or small at random, which whoever forges a
/// reply would have to guess as well.
pub(crate) fn mix_case(sent: &mut [u8], mut random: u64) {
    let end = question_end(sent).saturating_sub(4).max(HEADER);
    for octet in sent[HEADER..end].iter_mut().filter(|octet| octet.is_ascii_alphabetic()) {
        *octet = if random & 1 == 0 { octet.to_ascii_lowercase() } else { octet.to_ascii_uppercase() };
        random = random.rotate_right(1);
    }
}

/// Writes them small, for a server that does not keep them.
pub(crate) fn fold_case(sent: &mut [u8]) {
    let end = question_end(sent).saturating_sub(4).max(HEADER);
    sent[HEADER..end].make_ascii_lowercase();
}

/// Whether `bytes` are a reply to a message that was sent; told from header and question
/// alone.
pub(crate) fn is_reply(bytes: &[u8], sent: &[u8]) -> Result<Echo, Mismatch> {
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
    let echoed = bytes.get(HEADER..HEADER + asked.len()).filter(|echoed| echoed.eq_ignore_ascii_case(asked));
    if is_bare || echoed.is_some() {
        let keeps_case = echoed.is_none_or(|echoed| echoed == asked);
        return Ok(Echo { is_refusal: matches!(rcode, SERVFAIL | REFUSED), keeps_case });
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
///
/// At most so many records of each section are kept.
pub(crate) fn decode(
    bytes: &[u8],
    id: u16,
    name: &str,
    rtype: RecordType,
    most: usize,
) -> Result<Reply, Mismatch> {
    if bytes.get(..2) != Some(&id.to_be_bytes()) {
        return Err(Mismatch::Stranger);
    }
    let mut decoder = BinDecoder::new(bytes);
    let header = Header::read(&mut decoder).map_err(|e| Mismatch::Garbled(e.to_string()))?;

    let is_echoed = match question(&mut decoder, &header) {
        Ok(Some(asked)) => text(asked.name()) == name && asked.query_type() == wire_type(rtype),
        // Some servers leave the question out of error replies (RFC 9619 forbids more than one).
        Ok(None) => u16::from(header.response_code()) != 0,
        Err(error) => return Err(Mismatch::Garbled(error.to_string())),
    };
    if header.message_type() != MessageType::Response || !is_echoed {
        return Err(Mismatch::Stranger);
    }

    let mut reply = Reply { octets: bytes.len(), ..Reply::of(&header) };
    // What was cut short is fetched whole, and may end in the middle of a record.
    if !reply.truncated {
        reply.fill(&mut decoder, &header, most).map_err(|error| Mismatch::Garbled(error.to_string()))?;
    }
    Ok(reply)
}

fn question(decoder: &mut BinDecoder<'_>, header: &Header) -> Result<Option<Query>, ProtoError> {
    let mut first = None;
    for _ in 0..header.query_count() {
        let query = Query::read(decoder)?;
        first.get_or_insert(query);
    }
    Ok(first)
}

impl Reply {
    /// What the header alone says.
    fn of(header: &Header) -> Self {
        Self {
            rcode: Rcode::of(header.response_code().into()),
            authoritative: header.authoritative(),
            authentic: header.authentic_data(),
            truncated: header.truncated(),
            extended: Vec::new(),
            answers: Vec::new(),
            authority: Vec::new(),
            additional: Vec::new(),
            trust: Vec::new(),
            without_edns: false,
            octets: 0,
            is_partial: false,
        }
    }

    fn fill(&mut self, decoder: &mut BinDecoder<'_>, header: &Header, most: usize) -> Result<(), ProtoError> {
        for place in 0..usize::from(header.answer_count()) {
            let frame = Frame::read(decoder)?;
            if place < most {
                self.trust.extend(frame.trust());
                self.answers.extend(frame.record()?.filter(|_| !frame.is_signature()));
            }
        }
        for place in 0..usize::from(header.name_server_count()) {
            let frame = Frame::read(decoder)?;
            if place < most {
                // An absence is proved by records that are signed here.
                self.trust.extend(frame.trust());
                self.authority.extend(frame.record()?.filter(|_| !frame.is_signature()));
            }
        }
        for place in 0..usize::from(header.additional_count()) {
            let frame = Frame::read(decoder)?;
            match frame.rtype {
                WireType::OPT => self.extend_by(&frame),
                _ if place < most => self.additional.extend(frame.record()?),
                _ => {}
            }
        }

        let longest = header.answer_count().max(header.name_server_count());
        self.is_partial = usize::from(longest) > most;
        Ok(())
    }

    /// Takes in the pseudo-record of EDNS: the upper bits of the response code
    /// stand in its TTL (RFC 6891, section 6.1.3), and its options may hold
    /// extended errors.
    fn extend_by(&mut self, opt: &Frame<'_>) {
        let [upper, ..] = opt.ttl.to_be_bytes();
        if upper != 0 {
            self.rcode = Rcode::of(u16::from(upper) << 4 | self.rcode.number());
        }
        self.extended = extended(opt.rdata);
    }
}

pub(crate) fn wire_type(rtype: RecordType) -> WireType {
    WireType::from(rtype.number())
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

#[cfg(test)]
mod tests {
    use hickory_proto::op::{Message, ResponseCode};
    use hickory_proto::rr::RData;
    use hickory_proto::rr::rdata::opt::EdnsOption;
    use hickory_proto::rr::rdata::{SOA, TXT};

    use super::*;

    const MOST: usize = 100;

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
        let decoded = decode(&reply(7, "A.Onswick.Example."), 7, "a.onswick.example", RecordType::Txt, MOST);
        let record = &decoded.expect("matches").answers[0];
        assert_eq!(record.owner, "a.onswick.example");
        assert_eq!(record.data, RecordData::Txt("token=abc".into()));
    }

    #[test]
    fn a_reply_is_known_by_header_and_question_alone() {
        let name = "a.onswick.example";
        let mut sent = encode(7, name, RecordType::Txt, Mode::Authority, Extent::Usual).expect("encodes");
        let bytes = reply(7, "A.onswick.example.");
        let told = |is_refusal, keeps_case| Ok(Echo { is_refusal, keeps_case });
        assert_eq!(is_reply(&bytes, &sent), told(false, false), "case is told apart");
        assert_eq!(is_reply(&sent, &sent), Err(Mismatch::Stranger), "a query that comes back");
        let other =
            encode(7, "b.onswick.example", RecordType::Txt, Mode::Authority, Extent::Usual).expect("encodes");
        assert_eq!(is_reply(&bytes, &other), Err(Mismatch::Stranger));
        assert!(matches!(is_reply(&bytes[..9], &sent), Err(Mismatch::Garbled(_))));
        assert!(matches!(is_reply(&[&[0, 7][..], &[0xff; 30]].concat(), &sent), Err(Mismatch::Garbled(_))));
        let refusal = [0, 7, 0x80, 5, 0, 0, 0, 0, 0, 0, 0, 0];
        assert_eq!(is_reply(&refusal, &sent), told(true, true));
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
            assert_eq!(decode(&bytes, id, name, rtype, MOST).expect_err("stranger"), Mismatch::Stranger);
        }
        let garbled = decode(&bytes[..20], 7, "a.onswick.example", RecordType::Txt, MOST);
        assert!(matches!(garbled, Err(Mismatch::Garbled(_))));
    }

    #[test]
    fn a_question_has_edns_1232_and_asks_for_recursion_only_when_told() {
        for (mode, recursion, unchecked) in
            [(Mode::Vantage, 1, 0), (Mode::Authority, 0, 0), (Mode::Unchecked, 1, 0x10)]
        {
            let bytes =
                encode(0x1234, "_c.onswick.example", RecordType::Txt, mode, Extent::Usual).expect("encodes");
            assert_eq!((bytes[0], bytes[1], bytes[2] & 1), (0x12, 0x34, recursion));
            assert_eq!(bytes[3] & 0x10, unchecked);
            let message = Message::from_vec(&bytes).expect("decodes");
            assert_eq!(message.max_payload(), EDNS_PAYLOAD);
            assert_eq!(text(message.queries()[0].name()), "_c.onswick.example");
        }
        let odd =
            encode(1, "token=\\000a\\046b.onswick.example", RecordType::Txt, Mode::Authority, Extent::Plain);
        assert_eq!(odd.expect("encodes")[12..24], *b"\x0atoken=\0a.b\x07");
        assert!(encode(1, &"a".repeat(64), RecordType::A, Mode::Authority, Extent::Usual).is_err());
    }

    #[test]
    fn an_error_without_the_question_counts_and_a_success_without_it_does_not() {
        for (code, want) in [(ResponseCode::ServFail, Some(Rcode::ServFail)), (ResponseCode::NoError, None)] {
            let mut message = Message::new();
            message.set_id(7).set_message_type(MessageType::Response).set_response_code(code);
            let bytes = message.to_bytes().expect("encodes");
            let decoded = decode(&bytes, 7, "a.onswick.example", RecordType::A, MOST);
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
        let reply = decode(&bytes, 7, "a.onswick.example", RecordType::A, MOST).expect("decodes");
        assert_eq!(reply.extended, [ExtendedError { code: 9, text: "DNSKEY Missing".into() }]);
        assert_eq!(reply.negative_ttl(RecordType::A), Some(30));
    }

    #[test]
    fn a_query_that_comes_back_is_no_reply() {
        let bytes =
            encode(7, "a.onswick.example", RecordType::A, Mode::Authority, Extent::Usual).expect("encodes");
        assert!(matches!(
            decode(&bytes, 7, "a.onswick.example", RecordType::A, MOST),
            Err(Mismatch::Stranger)
        ));
    }

    #[test]
    fn letters_are_mixed_and_the_type_is_left_alone() {
        let plain =
            encode(7, "a.onswick.example", RecordType::A, Mode::Authority, Extent::Usual).expect("encodes");
        let mut mixed = plain.clone();
        mix_case(&mut mixed, 0b1010_1010_1010_1010);
        assert_ne!(mixed, plain);
        let end = question_end(&plain);
        assert_eq!(mixed[end - 4..], plain[end - 4..]);
        assert!(mixed.eq_ignore_ascii_case(&plain));
        fold_case(&mut mixed);
        assert_eq!(mixed, plain);
    }
}

//! Dynamic updates (RFC 2136) signed with a key of the zone (RFC 8945), and the exact reading
//! that they depend on.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use hickory_proto::dnssec::rdata::DNSSECRData;
use hickory_proto::dnssec::rdata::tsig::TsigAlgorithm;
use hickory_proto::dnssec::tsig::TSigner;
use hickory_proto::op::{Header, Message, MessageType, MessageVerifier, OpCode, Query, ResponseCode};
use hickory_proto::rr::rdata::{A, AAAA, CNAME, NULL, TXT};
use hickory_proto::rr::{DNSClass, Name, RData, Record as WireRecord, RecordType as WireType};
use hickory_proto::serialize::binary::{BinDecodable, BinDecoder, BinEncodable};
use nomenta_core::name::dns::{self, DnsName};
use nomenta_core::publish::{Algorithm, ReadSet, SetChange, Stored, Update, UpdateKey};
use nomenta_core::reading::record::{RecordData, RecordType};
use thiserror::Error;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::{Instant, timeout_at};

use crate::Surveyor;
use crate::egress::NoConnection;
use crate::frame::Frame;
use crate::wire::{Mode, encode, labels, wire_type};

/// Longest that a server may take for a connection, and for all that is said on it.
const CONNECTING: Duration = Duration::from_secs(5);
const TALKING: Duration = Duration::from_secs(15);
/// How far the clocks may be apart, in seconds (RFC 8945, section 10).
const FUDGE: u16 = 300;
/// Octets of one string of a text (RFC 1035, section 3.3).
const STRING: usize = 255;
/// Most records that are read of one name and type.
const MOST_RECORDS: usize = 500;

/// Why a zone was not read or not updated; nothing of it was changed, unless it says so.
#[derive(Debug, Error)]
pub enum UpdateError {
    /// There is no connection.
    #[error("{server}: {why}")]
    NoConnection {
        /// The address.
        server: SocketAddr,
        /// Why, in words that follow "it".
        why: NoConnection,
    },
    /// It stopped answering.
    #[error("{0} did not answer in time. If it was sent an update, look at the zone before you try again")]
    Late(SocketAddr),
    /// What it says cannot be read.
    #[error("{0} answers with something that cannot be read")]
    Garbled(SocketAddr),
    /// Its answer is not signed with the key.
    #[error(
        "The answer of {0} is not signed with the key: somebody else may have given it. Look at the zone"
    )]
    Unsigned(SocketAddr),
    /// It does not serve the zone.
    #[error("{server} does not serve the zone {zone}. Give the address of the server that takes its updates")]
    NotServed {
        /// The address.
        server: SocketAddr,
        /// The zone.
        zone: DnsName,
    },
    /// It does not know the key's name.
    #[error(
        "The server knows no key of this name, or not with this algorithm. Give the key that was made for it"
    )]
    UnknownKey,
    /// The secret is another one.
    #[error("The key's secret is not the one that the server has. Copy all of it once more")]
    WrongSecret,
    /// The clocks are apart.
    #[error(
        "The clocks of this service and of the server are more than five minutes apart; the server takes no update"
    )]
    Clock,
    /// The key may not do this.
    #[error(
        "The server refuses: this key may not change these records. Ask whoever runs it to let the key update the zone"
    )]
    Refused,
    /// Something the update depends on is otherwise.
    #[error("The zone has changed since it was read, so nothing was written. Look again, and then publish")]
    Changed,
    /// It cannot do it.
    #[error("The server takes no updates ({0}). Publish the list by hand")]
    Failed(String),
}

impl Surveyor {
    /// What a server of a zone holds at some names, to the octet. What a wildcard makes of a name
    /// is no record there (RFC 4592).
    ///
    /// # Errors
    /// [`UpdateError`]; nothing was changed.
    pub async fn read_sets(
        &self,
        server: IpAddr,
        zone: &DnsName,
        questions: &[(DnsName, RecordType)],
    ) -> Result<Vec<ReadSet>, UpdateError> {
        let mut talk = self.talk(server).await?;
        let mut beside: HashMap<(DnsName, RecordType), Vec<Stored>> = HashMap::new();
        let mut sets = Vec::with_capacity(questions.len());

        for (owner, rtype) in questions {
            let mut records = talk.read(zone, owner, *rtype).await?;
            if !records.is_empty() && owner != zone {
                // Whatever answers for a name that nobody publishes is a wildcard.
                let nobody = format!("{:016x}.{}", rand::random::<u64>(), dns::parent(owner));
                let key = (DnsName::new(dns::parent(owner)), *rtype);
                if !beside.contains_key(&key) {
                    let found = talk.read(zone, &DnsName::new(nobody), *rtype).await?;
                    beside.insert(key.clone(), found);
                }
                if beside.get(&key) == Some(&records) {
                    records.clear();
                }
            }
            sets.push(ReadSet { owner: owner.clone(), rtype: *rtype, records });
        }
        Ok(sets)
    }

    /// Has a server make an update, all of it or nothing.
    ///
    /// # Errors
    /// [`UpdateError`].
    pub async fn update(&self, server: IpAddr, update: &Update, key: &UpdateKey) -> Result<(), UpdateError> {
        let mut talk = self.talk(server).await?;
        let garbled = UpdateError::Garbled(talk.server);
        let (message, mut verifier) = message(update, key).map_err(|_| garbled)?;
        let reply = talk.exchange(&message).await?;
        metrics::counter!("nomenta_zone_updates_total").increment(1);
        judge(talk.server, update, &reply, &mut verifier)
    }

    async fn talk(&self, server: IpAddr) -> Result<Talk, UpdateError> {
        let server = SocketAddr::new(server, self.config.authority_port);
        match self.config.egress.connect(server, CONNECTING).await {
            Ok(stream) => Ok(Talk { server, stream, until: Instant::now() + TALKING }),
            Err(why) => Err(UpdateError::NoConnection { server, why }),
        }
    }
}

/// A conversation by TCP: what is long arrives whole, and an update is not sent twice.
struct Talk {
    server: SocketAddr,
    stream: TcpStream,
    until: Instant,
}

impl Talk {
    async fn exchange(&mut self, message: &[u8]) -> Result<Vec<u8>, UpdateError> {
        let server = self.server;
        let length = u16::try_from(message.len()).map_err(|_| UpdateError::Garbled(server))?;
        let talk = async {
            self.stream.write_all(&[&length.to_be_bytes(), message].concat()).await?;
            let length = self.stream.read_u16().await?;
            let mut reply = vec![0; length.into()];
            self.stream.read_exact(&mut reply).await?;
            std::io::Result::Ok(reply)
        };

        let reply = timeout_at(self.until, talk).await.ok().and_then(Result::ok);
        let reply = reply.ok_or(UpdateError::Late(server))?;
        let is_ours = reply.get(..2) == message.get(..2);
        if is_ours { Ok(reply) } else { Err(UpdateError::Garbled(server)) }
    }

    async fn read(
        &mut self,
        zone: &DnsName,
        owner: &DnsName,
        rtype: RecordType,
    ) -> Result<Vec<Stored>, UpdateError> {
        let server = self.server;
        let garbled = |_| UpdateError::Garbled(server);
        let question =
            encode(rand::random(), owner, rtype, Mode::Authority, Default::default()).map_err(garbled)?;
        let reply = self.exchange(&question).await?;

        let mut decoder = BinDecoder::new(&reply);
        let header = Header::read(&mut decoder).map_err(garbled)?;
        let is_answer = matches!(header.response_code(), ResponseCode::NoError | ResponseCode::NXDomain);
        if !is_answer || !header.authoritative() {
            return Err(UpdateError::NotServed { server, zone: zone.clone() });
        }
        for _ in 0..header.query_count() {
            Query::read(&mut decoder).map_err(garbled)?;
        }

        let mut records = Vec::new();
        for _ in 0..header.answer_count() {
            let frame = Frame::read(&mut decoder).map_err(garbled)?;
            let Some(record) = frame.record().map_err(garbled)? else { continue };
            if record.owner != *owner || frame.rtype != wire_type(rtype) {
                continue;
            }
            if records.len() == MOST_RECORDS {
                return Err(UpdateError::Garbled(server));
            }
            let octets = frame.written_out().map_err(garbled)?;
            records.push(Stored { ttl: record.ttl, data: record.data, octets: Some(octets) });
        }
        Ok(records)
    }
}

/// The message of an update, signed, and what the answer is held against.
fn message(
    update: &Update,
    key: &UpdateKey,
) -> Result<(Vec<u8>, Option<MessageVerifier>), hickory_proto::ProtoError> {
    let mut message = Message::new();
    message
        .set_id(rand::random())
        .set_message_type(MessageType::Query)
        .set_op_code(OpCode::Update)
        .add_query(Query::query(name(&update.zone)?, WireType::SOA));

    for set in &update.sets {
        // Prerequisites stand where answers stand, and changes where authority does.
        message.add_answers(depends_on(set)?);
        message.add_name_servers(changes(set)?);
    }

    let algorithm = match key.algorithm {
        Algorithm::HmacSha256 => TsigAlgorithm::HmacSha256,
        Algorithm::HmacSha384 => TsigAlgorithm::HmacSha384,
        Algorithm::HmacSha512 => TsigAlgorithm::HmacSha512,
    };
    let signer = TSigner::new(key.secret.clone(), algorithm, name(&key.name)?, FUDGE)
        .map_err(|error| hickory_proto::ProtoError::from(error.to_string()))?;
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
    let verifier = message.finalize(&signer, u32::try_from(now).unwrap_or(u32::MAX))?;
    Ok((message.to_vec()?, verifier))
}

/// A set is as it was read, or is not there (RFC 2136, sections 2.4.2 and 2.4.3).
fn depends_on(set: &SetChange) -> Result<Vec<WireRecord>, hickory_proto::ProtoError> {
    if set.before.is_empty() {
        let mut none = WireRecord::update0(name(&set.owner)?, 0, wire_type(set.rtype));
        none.set_dns_class(DNSClass::NONE);
        return Ok(vec![none]);
    }
    set.before
        .iter()
        .map(|stored| Ok(WireRecord::from_rdata(name(&set.owner)?, 0, rdata(set, stored)?)))
        .collect()
}

/// What is taken away, then what is added (RFC 2136, sections 2.5.4 and 2.5.1).
fn changes(set: &SetChange) -> Result<Vec<WireRecord>, hickory_proto::ProtoError> {
    let mut list = Vec::new();
    for stored in set.gone() {
        let mut record = WireRecord::from_rdata(name(&set.owner)?, 0, rdata(set, stored)?);
        record.set_dns_class(DNSClass::NONE);
        list.push(record);
    }
    for stored in set.added() {
        list.push(WireRecord::from_rdata(name(&set.owner)?, stored.ttl, rdata(set, stored)?));
    }
    Ok(list)
}

fn name(name: &DnsName) -> Result<Name, hickory_proto::ProtoError> {
    let mut name = Name::from_labels(labels(name))?;
    name.set_fqdn(true);
    Ok(name)
}

fn rdata(set: &SetChange, stored: &Stored) -> Result<RData, hickory_proto::ProtoError> {
    let unknown = |octets| RData::Unknown { code: wire_type(set.rtype), rdata: NULL::with(octets) };
    if let Some(octets) = &stored.octets {
        return Ok(unknown(octets.clone()));
    }

    Ok(match &stored.data {
        RecordData::A(address) => RData::A(A(*address)),
        RecordData::Aaaa(address) => RData::AAAA(AAAA(*address)),
        RecordData::Cname(target) => RData::CNAME(CNAME(name(target)?)),
        RecordData::Txt(text) => RData::TXT(TXT::from_bytes(text.as_bytes().chunks(STRING).collect())),
        RecordData::Caa { flags, tag, value } => {
            let length = u8::try_from(tag.as_bytes().len()).unwrap_or(u8::MAX);
            unknown([&[*flags, length], tag.as_bytes(), value.as_bytes()].concat())
        }
        other => return Err(format!("No {} record is made", other.type_name()).into()),
    })
}

/// What a server's answer comes to.
fn judge(
    server: SocketAddr,
    update: &Update,
    reply: &[u8],
    verifier: &mut Option<MessageVerifier>,
) -> Result<(), UpdateError> {
    let read = Message::from_vec(reply).map_err(|_| UpdateError::Garbled(server))?;
    // Who is told that a key is wrong cannot be told so under it (RFC 8945, section 5.3.2).
    if read.response_code() == ResponseCode::NotAuth {
        return Err(match key_error(&read) {
            Some(BADSIG) => UpdateError::WrongSecret,
            Some(BADKEY) => UpdateError::UnknownKey,
            Some(BADTIME) => UpdateError::Clock,
            _ => UpdateError::NotServed { server, zone: update.zone.clone() },
        });
    }
    let is_signed = verifier.as_mut().is_some_and(|verify| verify(reply).is_ok());

    match read.response_code() {
        ResponseCode::NoError if is_signed => Ok(()),
        ResponseCode::NoError => Err(UpdateError::Unsigned(server)),
        ResponseCode::Refused => Err(UpdateError::Refused),
        ResponseCode::YXDomain | ResponseCode::YXRRSet | ResponseCode::NXRRSet | ResponseCode::NXDomain => {
            Err(UpdateError::Changed)
        }
        ResponseCode::NotZone => Err(UpdateError::NotServed { server, zone: update.zone.clone() }),
        other => Err(UpdateError::Failed(other.to_string())),
    }
}

/// Errors of a key (RFC 8945, section 3).
const BADSIG: u16 = 16;
const BADKEY: u16 = 17;
const BADTIME: u16 = 18;

fn key_error(reply: &Message) -> Option<u16> {
    reply.signature().iter().find_map(|record| match record.data() {
        // Its last two fields but one: the error, and other octets after their length.
        RData::DNSSEC(DNSSECRData::TSIG(tsig)) => {
            let octets = tsig.to_bytes().ok()?;
            let algorithm = tsig.algorithm().to_name().to_bytes().ok()?.len();
            let at = algorithm + 6 + 2 + 2 + tsig.mac().len() + 2;
            octets.get(at..at + 2)?.try_into().ok().map(u16::from_be_bytes)
        }
        _ => None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key() -> UpdateKey {
        UpdateKey::parse("hmac-sha256:onswick-key:bWFkZS11cC1zZWNyZXQtb2YtYS1rZXkh").expect("a key")
    }

    fn stored(data: RecordData) -> Stored {
        Stored { ttl: 300, data, octets: None }
    }

    #[test]
    fn an_update_says_what_it_depends_on_and_what_it_changes_and_is_signed() {
        let owner = DnsName::new("timetable.onswick.example");
        let old = Stored { octets: Some(vec![192, 0, 2, 7]), ..stored(RecordData::A([192, 0, 2, 7].into())) };
        let alias = stored(RecordData::Cname("onswick.edge.quaymark.example".into()));
        let set = |rtype, before: &[Stored], after: &[Stored]| SetChange {
            owner: owner.clone(),
            rtype,
            before: before.to_vec(),
            after: after.to_vec(),
        };
        let update = Update {
            zone: "onswick.example".into(),
            sets: vec![
                set(RecordType::A, std::slice::from_ref(&old), &[]),
                set(RecordType::Cname, &[], std::slice::from_ref(&alias)),
            ],
        };

        let (bytes, verifier) = message(&update, &key()).expect("a message");
        assert!(verifier.is_some());
        let read = Message::from_vec(&bytes).expect("a message");
        assert_eq!(read.op_code(), OpCode::Update);
        assert_eq!(read.signature().len(), 1);
        let shown = |records: &[WireRecord]| {
            let each = records.iter().map(|r| format!("{} {} {}", r.dns_class(), r.record_type(), r.ttl()));
            each.collect::<Vec<_>>()
        };
        assert_eq!(shown(read.answers()), ["IN A 0", "NONE CNAME 0"]);
        assert_eq!(shown(read.name_servers()), ["NONE A 0", "IN CNAME 300"]);
    }
}

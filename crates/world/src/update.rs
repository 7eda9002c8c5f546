//! Messages to the world's name servers: questions, and updates by RFC 2136.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::time::Duration;

use anyhow::{Context, bail};
use hickory_proto::op::{Edns, Message, Query};
use hickory_proto::rr::rdata::svcb::{IpHint, SVCB, SvcParamKey, SvcParamValue};
use hickory_proto::rr::rdata::{A, AAAA, CNAME, HTTPS, MX, NS, NULL, TXT};
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType};
use hickory_proto::serialize::binary::BinEncodable;
use nomenta_core::reading::record::RecordData;
use tokio::net::UdpSocket;
use tokio::time::timeout;

/// How long a server may take before it is asked the same again, and how often
/// it is asked: one that writes to a slow disk takes its time.
const ANSWERING: Duration = Duration::from_secs(2);
const TRIES: usize = 10;
/// Largest answer that is taken, in octets.
const LARGEST: u16 = 4096;

/// One change to a zone (RFC 2136, section 2.5).
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// Add a record.
    Add {
        /// Owner name.
        owner: String,
        /// Seconds.
        ttl: u32,
        /// Type and value.
        data: RecordData,
    },
    /// Delete every record at a name.
    Clear {
        /// Owner name.
        owner: String,
    },
    /// Delete one record.
    Remove {
        /// Owner name.
        owner: String,
        /// Type and value.
        data: RecordData,
    },
}

pub(crate) fn name(text: &str) -> anyhow::Result<Name> {
    Name::from_ascii(format!("{}.", text.trim_end_matches('.')))
        .with_context(|| format!("{text} is no DNS name"))
}

pub(crate) async fn ask(server: SocketAddr, owner: &str, rtype: RecordType) -> anyhow::Result<Message> {
    let mut message = Message::new();
    message.set_id(rand::random()).set_recursion_desired(true).add_query(Query::query(name(owner)?, rtype));
    // Keys in texts are larger than what fits without (RFC 6891).
    message.extensions_mut().get_or_insert_with(Edns::new).set_max_payload(LARGEST);
    exchange(server, &message).await
}

pub(crate) async fn exchange(server: SocketAddr, message: &Message) -> anyhow::Result<Message> {
    let socket = UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0)).await?;
    socket.connect(server).await?;

    let mut buffer = vec![0; 4096];
    for _ in 0..TRIES {
        socket.send(&message.to_bytes()?).await?;
        let Ok(received) = timeout(ANSWERING, socket.recv(&mut buffer)).await else { continue };
        let reply = Message::from_vec(&buffer[..received?])?;
        anyhow::ensure!(reply.id() == message.id(), "{server} answered something else");
        return Ok(reply);
    }

    bail!("{server} does not answer")
}

pub(crate) fn record(change: &Change) -> anyhow::Result<Record> {
    match change {
        Change::Add { owner, ttl, data } => Ok(Record::from_rdata(name(owner)?, *ttl, rdata(data)?)),
        Change::Clear { owner } => {
            let mut record = Record::update0(name(owner)?, 0, RecordType::ANY);
            record.set_dns_class(DNSClass::ANY);
            Ok(record)
        }
        Change::Remove { owner, data } => {
            let mut record = Record::from_rdata(name(owner)?, 0, rdata(data)?);
            record.set_dns_class(DNSClass::NONE);
            Ok(record)
        }
    }
}

fn rdata(data: &RecordData) -> anyhow::Result<RData> {
    Ok(match data {
        RecordData::A(ip) => RData::A(A(*ip)),
        RecordData::Aaaa(ip) => RData::AAAA(AAAA(*ip)),
        RecordData::Cname(target) => RData::CNAME(CNAME(name(target)?)),
        RecordData::Ns(server) => RData::NS(NS(name(server)?)),
        RecordData::Txt(text) => {
            let strings: Vec<_> = text.as_bytes().chunks(255).collect();
            RData::TXT(TXT::from_bytes(if strings.is_empty() { vec![&[][..]] } else { strings }))
        }
        RecordData::Dname(target) => {
            RData::Unknown { code: DNAME, rdata: NULL::with(name(target)?.to_bytes()?) }
        }
        RecordData::Caa { flags, tag, value } => {
            // As it is, so that values can be wrong (RFC 8659, section 4.1).
            let length = u8::try_from(tag.as_bytes().len())?;
            let rdata = [&[*flags, length], tag.as_bytes(), value.as_bytes()].concat();
            RData::Unknown { code: RecordType::CAA, rdata: NULL::with(rdata) }
        }
        RecordData::Mx { preference, exchange } => RData::MX(MX::new(*preference, name(exchange)?)),
        RecordData::Https { priority, target, hints } => {
            RData::HTTPS(HTTPS(service(*priority, target, hints)?))
        }
        RecordData::Ds(key_tag) => {
            RData::Unknown { code: RecordType::DS, rdata: NULL::with(signer(*key_tag)) }
        }
        RecordData::Soa(_) | RecordData::Other(_) => {
            bail!("The world publishes no {} records", data.type_name())
        }
    })
}

/// Redirects whole subtrees (RFC 6672).
const DNAME: RecordType = RecordType::Unknown(39);

fn service(priority: u16, target: &str, hints: &[IpAddr]) -> anyhow::Result<SVCB> {
    let target = if target.is_empty() { Name::root() } else { name(target)? };
    let v4: Vec<_> =
        hints.iter().filter_map(|h| if let IpAddr::V4(a) = h { Some(A(*a)) } else { None }).collect();

    let mut params = Vec::new();
    if !v4.is_empty() {
        params.push((SvcParamKey::Ipv4Hint, SvcParamValue::Ipv4Hint(IpHint(v4))));
    }

    Ok(SVCB::new(priority, target, params))
}

/// A delegation signer that fits no key: ECDSA P-256, SHA-256, all noughts.
fn signer(key_tag: u16) -> Vec<u8> {
    [&key_tag.to_be_bytes()[..], &[13, 2], &[0; 32]].concat()
}

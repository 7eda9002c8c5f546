//! Name servers that misbehave, each at an address of its own. What they know
//! they ask the primary; what they make of it is their own.

use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use hickory_proto::op::{Message, MessageType, ResponseCode};
use hickory_proto::rr::rdata::{CNAME, SOA};
use hickory_proto::rr::{Name, RData, Record, RecordType};
use hickory_proto::serialize::binary::BinEncodable;
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::task::JoinSet;
use tokio::time::{sleep, timeout};

use crate::layout::{FORMER_HOST, PRIMARY, SLACKWATER};
use crate::{Layout, framed};

/// A way to misbehave.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manner {
    /// Refuses every question.
    Lame,
    /// Has never heard of the latest edits: no addresses, aliases and texts,
    /// and an older serial.
    Behind,
    /// Hands out a CNAME for every apex.
    Alias,
    /// Answers rightly, but takes its time.
    Slow,
    /// Answers with noise.
    Garbage,
    /// Answers with another id than was asked with.
    Stranger,
    /// Answers by UDP only that the answer is too long.
    Short,
}

/// Each manner, with its label under the operator's zone and its address.
pub const MANNERS: [(&str, Ipv4Addr, Manner); 7] = [
    ("lame", Ipv4Addr::new(127, 53, 66, 2), Manner::Lame),
    ("behind", Ipv4Addr::new(127, 53, 66, 3), Manner::Behind),
    ("alias", Ipv4Addr::new(127, 53, 66, 4), Manner::Alias),
    ("slow", Ipv4Addr::new(127, 53, 66, 5), Manner::Slow),
    ("garbage", Ipv4Addr::new(127, 53, 66, 6), Manner::Garbage),
    ("stranger", Ipv4Addr::new(127, 53, 66, 7), Manner::Stranger),
    ("short", Ipv4Addr::new(127, 53, 66, 8), Manner::Short),
];

/// How long a slow server thinks.
const THINKING: Duration = Duration::from_millis(150);

/// Name and address of the server with a manner.
pub fn server(manner: Manner) -> (String, Ipv4Addr) {
    let found = MANNERS.iter().find(|(_, _, m)| *m == manner).unwrap_or(&MANNERS[0]);
    (format!("{}.{SLACKWATER}", found.0), found.1)
}

/// The running servers; they end with it.
pub(crate) struct Servers(#[expect(dead_code, reason = "held for its drop")] JoinSet<()>);

pub(crate) async fn start(layout: &Layout) -> anyhow::Result<Servers> {
    let primary = SocketAddr::from((PRIMARY, layout.dns_port()));
    let mut servers = JoinSet::new();
    for (label, address, manner) in MANNERS {
        let address = SocketAddr::from((address, layout.dns_port()));
        let taken = format!("Cannot listen on {address}, for the name server {label}");
        let socket = UdpSocket::bind(address).await.with_context(|| taken.clone())?;
        let listener = TcpListener::bind(address).await.context(taken)?;
        servers.spawn(by_udp(Arc::new(socket), primary, manner));
        servers.spawn(by_tcp(listener, primary, manner));
    }

    Ok(Servers(servers))
}

async fn by_udp(socket: Arc<UdpSocket>, primary: SocketAddr, manner: Manner) {
    let mut buffer = [0; 4096];
    loop {
        let Ok((length, from)) = socket.recv_from(&mut buffer).await else { continue };
        let question = buffer[..length].to_vec();
        let socket = socket.clone();
        tokio::spawn(async move {
            if let Some(reply) = reply(&question, primary, manner, false).await {
                let _ = socket.send_to(&reply, from).await;
            }
        });
    }
}

async fn by_tcp(listener: TcpListener, primary: SocketAddr, manner: Manner) {
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        tokio::spawn(one_by_tcp(stream, primary, manner));
    }
}

async fn one_by_tcp(mut stream: TcpStream, primary: SocketAddr, manner: Manner) -> Option<()> {
    let question = framed::read(&mut stream).await?;
    let reply = reply(&question, primary, manner, true).await?;
    framed::write(&mut stream, &reply).await
}

async fn reply(question: &[u8], primary: SocketAddr, manner: Manner, tcp: bool) -> Option<Vec<u8>> {
    match manner {
        Manner::Garbage => return Some([&question[..2], &[0xff; 30]].concat()),
        Manner::Lame => {
            let mut message = Message::from_vec(question).ok()?;
            message.set_message_type(MessageType::Response).set_response_code(ResponseCode::Refused);
            return message.to_bytes().ok();
        }
        Manner::Slow => sleep(THINKING).await,
        _ => {}
    }

    let mut message = Message::from_vec(&upstream(question, primary).await?).ok()?;
    match manner {
        Manner::Stranger => drop(message.set_id(message.id().wrapping_add(1))),
        Manner::Short if !tcp => {
            message.set_truncated(true);
            message.take_answers();
        }
        Manner::Behind => fall_behind(&mut message),
        Manner::Alias => alias(&mut message)?,
        _ => {}
    }

    message.to_bytes().ok()
}

async fn upstream(question: &[u8], primary: SocketAddr) -> Option<Vec<u8>> {
    let socket = UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0)).await.ok()?;
    socket.connect(primary).await.ok()?;
    socket.send(question).await.ok()?;

    let mut buffer = vec![0; 4096];
    let length = timeout(Duration::from_secs(2), socket.recv(&mut buffer)).await.ok()?.ok()?;
    buffer.truncate(length);

    Some(buffer)
}

fn fall_behind(message: &mut Message) {
    let kept = message.take_answers().into_iter().filter(|r| {
        !matches!(r.record_type(), RecordType::A | RecordType::AAAA | RecordType::CNAME | RecordType::TXT)
    });

    let kept: Vec<_> = kept.map(older).collect();
    message.insert_answers(kept);
}

fn older(record: Record) -> Record {
    let RData::SOA(soa) = record.data() else { return record };
    let serial = soa.serial().wrapping_sub(1);
    let mname = soa.mname().clone();
    let rname = soa.rname().clone();
    let old = SOA::new(mname, rname, serial, soa.refresh(), soa.retry(), soa.expire(), soa.minimum());

    Record::from_rdata(record.name().clone(), record.ttl(), RData::SOA(old))
}

fn alias(message: &mut Message) -> Option<()> {
    let query = message.queries().first()?;
    let name = query.name().clone();
    let kind = query.query_type();
    if name.num_labels() == 2 && matches!(kind, RecordType::A | RecordType::AAAA) {
        let target = Name::from_ascii(format!("sites.{FORMER_HOST}.")).ok()?;
        message.take_answers();
        message.insert_answers(vec![Record::from_rdata(name, 5, RData::CNAME(CNAME(target)))]);
    }

    Some(())
}

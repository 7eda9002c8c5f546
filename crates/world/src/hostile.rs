//! Name servers that attack whoever asks them, and hosts that are to be hit by way of others.
//! Each serves any zone that is delegated to it, and counts what it is asked.

use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use anyhow::Context;
use hickory_proto::op::{Message, MessageType, ResponseCode};
use hickory_proto::rr::rdata::{A, CNAME, NS, SOA, TXT};
use hickory_proto::rr::{Name, RData, Record, RecordType};
use hickory_proto::serialize::binary::BinEncodable;
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::task::JoinSet;
use tokio::time::sleep;

use crate::framed;

nomenta_core::spelled! {
    /// What a server does to whoever asks.
    pub enum Attack: "attack" {
        /// Sends on, to servers whose addresses it sends on for as well, and so without end.
        Endless = "endless",
        /// Sends on to servers under somebody else's domain, ever other ones.
        Reflected = "reflected",
        /// Sends on to the same zone.
        Circling = "circling",
        /// Has hundreds of servers with addresses.
        Crowded = "crowded",
        /// Has thousands of addresses for every name, all somebody else's.
        Pointing = "pointing",
        /// Has a few addresses for its host, in a network that many others have as well.
        Gathering = "gathering",
        /// Has an alias for every name, each to another one.
        Chained = "chained",
        /// Has as many texts at every name as fit.
        Heavy = "heavy",
        /// Cuts every answer short, and gives it by TCP an octet at a time.
        Trickling = "trickling",
        /// Sends every answer a thousand times.
        Storming = "storming",
        /// Has octets that no text has.
        Odd = "odd",
        /// Answers just before nobody waits any more.
        Late = "late",
        /// Adds what is not its own to give.
        Lying = "lying",
        /// Cuts every answer short, and never ends a connection.
        Holding = "holding",
        /// Has an NS set of names that do not exist, under its own zone.
        Hollow = "hollow",
    }
}

impl Attack {
    /// Where the server that does this answers.
    pub fn address(self) -> Ipv4Addr {
        let place = Self::ALL.iter().position(|one| *one == self).unwrap_or(0);
        Ipv4Addr::new(127, 53, 68, u8::try_from(place + 1).unwrap_or(u8::MAX))
    }
}

/// A domain that others are to be led to, and where its one server answers.
pub const VICTIM: (&str, Ipv4Addr) = ("bystander.test", Ipv4Addr::new(127, 53, 68, 200));
/// First label of the domains that are taken in.
pub const HOST_LABEL: &str = "rides";
/// The network that addresses point into, and how many of them are listened at.
const POINTED_AT: [u8; 2] = [127, 66];
const LISTENED_AT: u8 = 20;
/// Addresses of a host there, where it has a few.
const GATHERED_AT: u32 = 6;
/// How long a late server thinks.
const THINKING: Duration = Duration::from_millis(1_300);
const PAUSE: Duration = Duration::from_millis(700);
const TTL: u32 = 5;

/// What strangers got from whoever was attacked.
#[derive(Debug, Default)]
pub struct Counts {
    asked: [AtomicU64; Attack::ALL.len()],
    victim: AtomicU64,
    visited: AtomicU64,
}

impl Counts {
    /// Questions that the server of an attack got.
    pub fn asked(&self, attack: Attack) -> u64 {
        self.asked[attack as usize].load(Ordering::Relaxed)
    }

    /// Questions that the server of the domain got to which others are led.
    pub fn victim(&self) -> u64 {
        self.victim.load(Ordering::Relaxed)
    }

    /// Connections that the hosts got to which addresses point.
    pub fn visited(&self) -> u64 {
        self.visited.load(Ordering::Relaxed)
    }
}

/// The servers; they end with this.
pub struct Hostile {
    /// What they got.
    pub counts: Arc<Counts>,
    _servers: JoinSet<()>,
}

/// Starts one server for each attack, and what is to be hit.
///
/// # Errors
/// If an address is in use.
pub async fn start(dns_port: u16, http_ports: [u16; 2]) -> anyhow::Result<Hostile> {
    let counts = Arc::new(Counts::default());
    let mut servers = JoinSet::new();

    for attack in Attack::ALL {
        let address = SocketAddr::from((attack.address(), dns_port));
        let taken = format!("Cannot listen on {address}, for the attack {attack}");
        let socket = UdpSocket::bind(address).await.with_context(|| taken.clone())?;
        let listener = TcpListener::bind(address).await.context(taken)?;
        servers.spawn(by_udp(Arc::new(socket), *attack, counts.clone()));
        servers.spawn(by_tcp(listener, *attack, counts.clone()));
    }

    let address = SocketAddr::from((VICTIM.1, dns_port));
    let socket = UdpSocket::bind(address).await.with_context(|| format!("Cannot listen on {address}"))?;
    servers.spawn(bystander(socket, counts.clone()));
    for last in 1..=LISTENED_AT {
        for port in http_ports {
            let at = SocketAddr::from((Ipv4Addr::new(POINTED_AT[0], POINTED_AT[1], 0, last), port));
            let listener = TcpListener::bind(at).await.with_context(|| format!("Cannot listen on {at}"))?;
            servers.spawn(visited(listener, counts.clone()));
        }
    }

    Ok(Hostile { counts, _servers: servers })
}

/// Accepts, and says nothing.
async fn visited(listener: TcpListener, counts: Arc<Counts>) {
    let mut held = Vec::new();
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        counts.visited.fetch_add(1, Ordering::Relaxed);
        held.push(stream);
        held.truncate(200);
    }
}

/// Knows no name, and is asked for many.
async fn bystander(socket: UdpSocket, counts: Arc<Counts>) {
    let mut buffer = [0; 4096];
    loop {
        let Ok((length, from)) = socket.recv_from(&mut buffer).await else { continue };
        counts.victim.fetch_add(1, Ordering::Relaxed);
        let told = Message::from_vec(&buffer[..length]).ok().and_then(|asked| {
            let mut message = answer_to(&asked);
            message.set_response_code(ResponseCode::NXDomain);
            message.add_name_server(soa(&Name::from_ascii(format!("{}.", VICTIM.0)).ok()?)?);
            message.to_bytes().ok()
        });
        if let Some(told) = told {
            let _ = socket.send_to(&told, from).await;
        }
    }
}

async fn by_udp(socket: Arc<UdpSocket>, attack: Attack, counts: Arc<Counts>) {
    let mut buffer = [0; 4096];
    loop {
        let Ok((length, from)) = socket.recv_from(&mut buffer).await else { continue };
        counts.asked[attack as usize].fetch_add(1, Ordering::Relaxed);
        let Some((asked, mut message)) = replied(&buffer[..length], attack) else { continue };
        let socket = socket.clone();
        tokio::spawn(async move {
            let whole = message.to_bytes().ok()?;
            let payload = asked.extensions().as_ref().map_or(512, |edns| usize::from(edns.max_payload()));
            let is_cut = matches!(attack, Attack::Trickling | Attack::Holding) || whole.len() > payload;
            let told = if is_cut {
                message.set_truncated(true);
                message.take_answers();
                message.take_name_servers();
                message.take_additionals();
                message.to_bytes().ok()?
            } else {
                whole
            };

            if attack == Attack::Late {
                sleep(THINKING).await;
            }
            let times = if attack == Attack::Storming { 1_000 } else { 1 };
            for _ in 0..times {
                socket.send_to(&told, from).await.ok()?;
            }
            Some(())
        });
    }
}

async fn by_tcp(listener: TcpListener, attack: Attack, counts: Arc<Counts>) {
    loop {
        let Ok((stream, _)) = listener.accept().await else { continue };
        counts.asked[attack as usize].fetch_add(1, Ordering::Relaxed);
        tokio::spawn(one_by_tcp(stream, attack));
    }
}

async fn one_by_tcp(mut stream: TcpStream, attack: Attack) -> Option<()> {
    let question = framed::read(&mut stream).await?;
    let (_, message) = replied(&question, attack)?;
    let whole = message.to_bytes().ok()?;
    match attack {
        Attack::Holding => sleep(Duration::from_secs(600)).await,
        Attack::Trickling => {
            stream.write_u16(u16::try_from(whole.len()).ok()?).await.ok()?;
            for octet in whole {
                stream.write_u8(octet).await.ok()?;
                sleep(PAUSE).await;
            }
        }
        _ => framed::write(&mut stream, &whole).await?,
    }
    Some(())
}

/// The question, and what is replied to it.
fn replied(question: &[u8], attack: Attack) -> Option<(Message, Message)> {
    let asked = Message::from_vec(question).ok()?;
    let message = reply(&asked, attack)?;
    Some((asked, message))
}

fn answer_to(asked: &Message) -> Message {
    let mut message = Message::new();
    message.set_id(asked.id()).set_message_type(MessageType::Response).set_authoritative(true);
    message.add_queries(asked.queries().to_vec());
    message
}

fn reply(asked: &Message, attack: Attack) -> Option<Message> {
    let query = asked.queries().first()?;
    let (name, rtype) = (query.name().to_lowercase(), query.query_type());
    // Zones are delegated to it at two labels.
    let zone = name.trim_to(2);
    let mut message = answer_to(asked);
    let server = Name::from_ascii("ns1").ok()?.append_domain(&zone).ok()?;
    let host = Name::from_ascii(HOST_LABEL).ok()?.append_domain(&zone).ok()?;

    match attack {
        Attack::Hollow if name != server => return hollow(asked, &zone),
        Attack::Endless | Attack::Reflected | Attack::Circling if name != server => {
            message.set_authoritative(false);
            let owner = if attack == Attack::Circling { &zone } else { &name };
            let above = if attack == Attack::Reflected { format!("{}.", VICTIM.0) } else { zone.to_string() };
            for number in 0..12 {
                let target = Name::from_ascii(format!("n{}-{number}.{above}", rand::random::<u32>())).ok()?;
                message.add_name_server(Record::from_rdata(owner.clone(), TTL, RData::NS(NS(target))));
            }
            return Some(message);
        }
        Attack::Crowded if rtype == RecordType::NS => {
            for number in 0..850_u32 {
                let target = Name::from_ascii(format!("n{number}.{zone}")).ok()?;
                message.add_answer(Record::from_rdata(zone.clone(), TTL, RData::NS(NS(target.clone()))));
                let a = RData::A(A(Ipv4Addr::new(
                    127,
                    67,
                    u8::try_from(number >> 8).ok()?,
                    u8::try_from(number & 255).ok()?,
                )));
                message.add_additional(Record::from_rdata(target, TTL, a));
            }
            return Some(message);
        }
        Attack::Pointing if rtype == RecordType::A => {
            return Some(pointing(message, &name, 3_500));
        }
        // At what was taken in alone: where every name has them they are a wildcard's, and not visited.
        Attack::Gathering if rtype == RecordType::A && name == host => {
            return Some(pointing(message, &name, GATHERED_AT));
        }
        Attack::Chained if name != zone && name != server => {
            let target = Name::from_ascii(format!("c{}.{zone}", rand::random::<u32>())).ok()?;
            message.add_answer(Record::from_rdata(name, TTL, RData::CNAME(CNAME(target))));
            return Some(message);
        }
        Attack::Heavy if rtype == RecordType::TXT || rtype == RecordType::MX => {
            for number in 0..230_u32 {
                let text = TXT::new(vec![format!("{number:0>240}")]);
                message.add_answer(Record::from_rdata(name.clone(), TTL, RData::TXT(text)));
            }
            return Some(message);
        }
        Attack::Odd if rtype == RecordType::TXT => {
            for octets in
                [&[0_u8, b'a', 0][..], &[0xff, 0xfe, 0x80], b"\x1b[31m\r\n\x07", &[0xed, 0xa0, 0x80]]
            {
                let text = TXT::from_bytes(vec![octets]);
                message.add_answer(Record::from_rdata(name.clone(), TTL, RData::TXT(text)));
            }
            return Some(message);
        }
        Attack::Lying => {
            let owner = Name::from_ascii("edge.quaymark.example.").ok()?;
            message.add_answer(Record::from_rdata(
                owner.clone(),
                3600,
                RData::A(A(Ipv4Addr::new(127, 66, 0, 1))),
            ));
            message.add_additional(Record::from_rdata(
                owner,
                3600,
                RData::A(A(Ipv4Addr::new(127, 66, 0, 1))),
            ));
        }
        _ => {}
    }

    plain(&mut message, &name, rtype, &zone, &server, attack)?;
    Some(message)
}

/// With as many addresses of somebody else's for a name.
fn pointing(mut message: Message, name: &Name, addresses: u32) -> Message {
    for number in 1..=addresses {
        let [.., third, last] = number.to_be_bytes();
        let a = A(Ipv4Addr::new(POINTED_AT[0], POINTED_AT[1], third, last));
        message.add_answer(Record::from_rdata(name.clone(), TTL, RData::A(a)));
    }
    message
}

/// What any zone has: its start, its server, and the server's address.
fn plain(
    message: &mut Message,
    name: &Name,
    rtype: RecordType,
    zone: &Name,
    server: &Name,
    attack: Attack,
) -> Option<()> {
    match rtype {
        RecordType::SOA if name == zone => drop(message.add_answer(soa(zone)?)),
        RecordType::NS if name == zone => {
            message.add_answer(Record::from_rdata(zone.clone(), TTL, RData::NS(NS(server.clone()))));
        }
        RecordType::A if name == server => {
            message.add_answer(Record::from_rdata(server.clone(), TTL, RData::A(A(attack.address()))));
        }
        _ => drop(message.add_name_server(soa(zone)?)),
    }
    Some(())
}

/// A zone whose servers are not there.
fn hollow(asked: &Message, zone: &Name) -> Option<Message> {
    let mut message = answer_to(asked);
    let query = asked.queries().first()?;
    if query.query_type() == RecordType::NS && query.name() == zone {
        for number in 0..60 {
            let target = Name::from_ascii(format!("gone{number}.{zone}")).ok()?;
            message.add_answer(Record::from_rdata(zone.clone(), TTL, RData::NS(NS(target))));
        }
    } else if query.query_type() == RecordType::SOA && query.name() == zone {
        message.add_answer(soa(zone)?);
    } else {
        message.set_response_code(ResponseCode::NXDomain);
        message.add_name_server(soa(zone)?);
    }
    Some(message)
}

fn soa(zone: &Name) -> Option<Record> {
    let server = Name::from_ascii("ns1").ok()?.append_domain(zone).ok()?;
    let start = SOA::new(server.clone(), server, 1, 3600, 600, 86_400, TTL);
    Some(Record::from_rdata(zone.clone(), TTL, RData::SOA(start)))
}

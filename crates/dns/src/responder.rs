//! The platform's own challenge zone: answers the CA's questions for TXT
//! records that customers' CNAMEs at `_acme-challenge` lead here (RFC 8555,
//! section 8.4).
//!
//! One zone, no transfers, no signatures. Every name in it exists; those with
//! no challenge have no records.

use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use hickory_proto::op::{Message, MessageType, OpCode, Query, ResponseCode};
use hickory_proto::rr::rdata::{NS, SOA, TXT};
use hickory_proto::rr::{DNSClass, Name, RData, Record, RecordType};
use hickory_proto::serialize::binary::BinEncodable;
use nomenta_core::name::dns::DnsName;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::sync::Semaphore;
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;

use crate::quota::Quota;
use crate::room::{Room, Stay};

/// Largest UDP answer without EDNS (RFC 1035, section 4.2.1).
const MOST_UDP: usize = 512;
/// Challenges come and go within moments: neither they nor their absence are to
/// be kept by any cache.
const TTL: u32 = 0;
/// Of the zone's own records, in seconds.
const ZONE_TTL: u32 = 300;
/// Questions by UDP, and connections by TCP, that there are at once.
const AT_ONCE: usize = 256;
const CONNECTIONS: usize = 512;
/// Connections that one network has; a CA asks over a few.
const OF_ONE: usize = 32;
/// Questions that one connection may put.
const MOST_ASKED: usize = 100;
/// How long a TCP connection may be idle.
const IDLE_LIMIT: Duration = Duration::from_secs(5);
/// Answers by UDP that one network gets in a second. Beyond that every second question is told to
/// come by TCP, which nobody does under a name that is not their own; the others get nothing.
const MOST_ANSWERED: u32 = 200;
const SECOND: Duration = Duration::from_secs(1);
/// Wait where the system gives no connection.
const NO_ROOM: Duration = Duration::from_millis(100);

/// A zone that cannot be served.
#[derive(Debug, thiserror::Error)]
#[error("{0} is no name that a zone or a name server can have")]
pub struct BadName(String);

/// The zone and its name servers.
#[derive(Clone, Debug)]
pub struct ChallengeZone {
    zone: DnsName,
    origin: Name,
    servers: Vec<Name>,
}

impl ChallengeZone {
    /// A zone; its `servers` must be what the zone above delegates it to.
    ///
    /// # Errors
    /// [`BadName`] with the one that cannot be: write it as it is delegated.
    pub fn new(zone: &str, servers: &[String]) -> Result<Self, BadName> {
        let servers = servers.iter().map(|server| wire_name(server)).collect::<Result<Vec<_>, _>>()?;
        Ok(Self { zone: DnsName::new(zone), origin: wire_name(zone)?, servers })
    }

    /// The part of a question's name in front of the zone; `None` outside of it.
    fn host(&self, name: &Name) -> Option<String> {
        let name = DnsName::new(name.to_ascii());
        if name == self.zone {
            return Some(String::new());
        }
        name.strip_suffix(self.zone.as_str())?.strip_suffix('.').map(str::to_owned)
    }

    fn soa(&self) -> Record {
        let primary = self.servers.first().cloned().unwrap_or_else(|| self.origin.clone());
        let soa = SOA::new(primary, self.origin.clone(), 1, 3600, 600, 86_400, TTL);
        Record::from_rdata(self.origin.clone(), TTL, RData::SOA(soa))
    }

    /// The answer to a query; `values` are the challenges at its name.
    fn answer(&self, query: &Message, values: &[String]) -> Message {
        let mut reply = Message::new();
        reply.set_id(query.id()).set_message_type(MessageType::Response).set_op_code(query.op_code());
        reply.set_recursion_desired(query.recursion_desired());

        let Some(question) = query.queries().first().filter(|_| query.op_code() == OpCode::Query) else {
            reply.set_response_code(ResponseCode::NotImp);
            return reply;
        };
        reply.add_query(question.clone());
        let Some(host) = self.host(question.name()).filter(|_| question.query_class() == DNSClass::IN) else {
            reply.set_response_code(ResponseCode::Refused);
            return reply;
        };

        reply.set_authoritative(true);
        reply.add_answers(self.records(question, &host, values));
        if reply.answers().is_empty() {
            reply.add_name_server(self.soa());
        }
        reply
    }

    /// What stands at the name that is asked for.
    fn records(&self, question: &Query, host: &str, values: &[String]) -> Vec<Record> {
        let name = question.name();
        match (question.query_type(), host.is_empty()) {
            (RecordType::TXT, false) => {
                let texts = values.iter().map(|value| RData::TXT(TXT::new(vec![value.clone()])));
                texts.map(|text| Record::from_rdata(name.clone(), TTL, text)).collect()
            }
            (RecordType::NS, true) => {
                let servers = self.servers.iter().map(|server| RData::NS(NS(server.clone())));
                servers.map(|server| Record::from_rdata(name.clone(), ZONE_TTL, server)).collect()
            }
            (RecordType::SOA, true) => vec![self.soa()],
            _ => Vec::new(),
        }
    }

    /// The answer to a question, with the challenges at its name; only for those anybody has to
    /// look anything up.
    async fn reply<F>(&self, query: &Message, look_up: &impl Fn(String) -> F) -> Message
    where
        F: Future<Output = Vec<String>>,
    {
        let texts = query.queries().first().filter(|question| question.query_type() == RecordType::TXT);
        let host = texts.and_then(|question| self.host(question.name())).unwrap_or_default();
        let values = if host.is_empty() { Vec::new() } else { look_up(host).await };
        self.answer(query, &values)
    }
}

/// A question, if it is one.
fn question(bytes: &[u8]) -> Option<Message> {
    Message::from_vec(bytes).ok().filter(|message| message.message_type() == MessageType::Query)
}

fn wire_name(text: &str) -> Result<Name, BadName> {
    let mut name = Name::from_ascii(DnsName::new(text)).map_err(|_| BadName(text.to_owned()))?;
    name.set_fqdn(true);
    Ok(name)
}

/// Sockets that are bound and not yet served.
pub struct Responder {
    udp: UdpSocket,
    tcp: TcpListener,
}

impl Responder {
    /// Listens at `address`, by UDP and TCP.
    ///
    /// # Errors
    /// If the address cannot be had.
    pub async fn bind(address: SocketAddr) -> io::Result<Self> {
        Ok(Self { udp: UdpSocket::bind(address).await?, tcp: TcpListener::bind(address).await? })
    }

    /// Serves until stopped; `look_up` gives the challenges for a customer's
    /// host.
    pub async fn serve<F>(
        self,
        zone: ChallengeZone,
        look_up: impl Fn(String) -> F + Clone + Send + Sync + 'static,
        stop: CancellationToken,
    ) where
        F: Future<Output = Vec<String>> + Send,
    {
        let zone = Arc::new(zone);
        let by_udp = serve_udp(Arc::new(self.udp), zone.clone(), look_up.clone());
        let by_tcp = serve_tcp(self.tcp, zone, look_up);
        tokio::select! {
            () = stop.cancelled() => {}
            () = by_udp => {}
            () = by_tcp => {}
        }
    }
}

async fn serve_udp<F>(
    udp: Arc<UdpSocket>,
    zone: Arc<ChallengeZone>,
    look_up: impl Fn(String) -> F + Clone + Send + Sync + 'static,
) where
    F: Future<Output = Vec<String>> + Send,
{
    let room = Arc::new(Semaphore::new(AT_ONCE));
    let quota = Quota::new(MOST_ANSWERED, SECOND);
    let mut buffer = [0; 4096];
    let mut beyond = 0_u64;

    loop {
        // Under a flood questions wait in the socket, and the rest is lost.
        let Ok(permit) = room.clone().acquire_owned().await else { return };
        let Ok((length, from)) = udp.recv_from(&mut buffer).await else { continue };
        let Some(query) = question(&buffer[..length]) else { continue };
        if !quota.take(from.ip(), Instant::now()) {
            beyond += 1;
            metrics::counter!("nomenta_challenge_questions_beyond_total").increment(1);
            if beyond.is_multiple_of(2)
                && let Ok(bytes) = zone.answer(&query, &[]).truncate().to_bytes()
            {
                let _ = udp.try_send_to(&bytes, from);
            }
            continue;
        }

        let (udp, zone, look_up) = (udp.clone(), zone.clone(), look_up.clone());
        tokio::spawn(async move {
            if let Some(bytes) = within_packet(&zone.reply(&query, &look_up).await) {
                // Whoever asked asks again if it is lost.
                let _ = udp.send_to(&bytes, from).await;
            }
            drop(permit);
        });
    }
}

async fn serve_tcp<F>(
    tcp: TcpListener,
    zone: Arc<ChallengeZone>,
    look_up: impl Fn(String) -> F + Clone + Send + Sync + 'static,
) where
    F: Future<Output = Vec<String>> + Send,
{
    let room = Room::new(CONNECTIONS, OF_ONE);
    loop {
        let Ok((stream, from)) = tcp.accept().await else {
            sleep(NO_ROOM).await;
            continue;
        };
        let (zone, look_up, stay) = (zone.clone(), look_up.clone(), room.enter(from.ip()));
        tokio::spawn(async move {
            // Ends with the connection, or when it has been idle, or when others need its place.
            tokio::select! {
                _ = by_tcp(&zone, stream, &look_up, &stay) => {}
                () = stay.ended() => {}
            }
        });
    }
}

/// The reply as it fits into a packet.
fn within_packet(reply: &Message) -> Option<Vec<u8>> {
    let whole = reply.to_bytes().ok()?;
    if whole.len() <= MOST_UDP { Some(whole) } else { reply.truncate().to_bytes().ok() }
}

async fn by_tcp<F>(
    zone: &ChallengeZone,
    mut stream: TcpStream,
    look_up: &impl Fn(String) -> F,
    stay: &Stay,
) -> io::Result<()>
where
    F: Future<Output = Vec<String>>,
{
    for _ in 0..MOST_ASKED {
        let length = timeout(IDLE_LIMIT, stream.read_u16()).await??;
        let mut bytes = vec![0; length.into()];
        timeout(IDLE_LIMIT, stream.read_exact(&mut bytes)).await??;

        let Some(query) = question(&bytes) else { return Ok(()) };
        stay.asked();
        let bytes = zone.reply(&query, look_up).await.to_bytes().map_err(io::Error::other)?;
        let length = u16::try_from(bytes.len()).map_err(io::Error::other)?;
        timeout(IDLE_LIMIT, stream.write_all(&[&length.to_be_bytes(), &bytes[..]].concat())).await??;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use hickory_proto::op::Query;

    use super::*;

    fn zone() -> ChallengeZone {
        ChallengeZone::new("acme.quaymark.example.", &["ns1.acme.quaymark.example".into()]).expect("a zone")
    }

    fn ask(name: &str, rtype: RecordType, values: &[&str]) -> Message {
        let mut query = Message::new();
        query.set_id(7).add_query(Query::query(Name::from_ascii(name).expect("a name"), rtype));
        zone().answer(&query, &values.iter().map(|v| (*v).to_owned()).collect::<Vec<_>>())
    }

    fn shown(reply: &Message) -> Vec<String> {
        reply.answers().iter().map(|r| r.data().to_string()).collect()
    }

    #[test]
    fn challenges_are_answered_at_their_name_alone() {
        let host = "Lines.onswick.example.acme.quaymark.example.";
        let reply = ask(host, RecordType::TXT, &["one", "two"]);
        assert_eq!((shown(&reply), reply.authoritative()), (vec!["one".into(), "two".into()], true));
        let empty = ask(host, RecordType::A, &["one"]);
        assert_eq!((empty.answers().len(), empty.response_code()), (0, ResponseCode::NoError));
        assert_eq!(empty.name_servers().len(), 1, "an absence carries the SOA (RFC 2308, section 3)");
        assert_eq!(ask("acme.quaymark.example.", RecordType::TXT, &["one"]).answers().len(), 0);
    }

    #[test]
    fn the_zone_speaks_for_itself_and_for_nobody_else() {
        let apex = "acme.quaymark.example.";
        assert_eq!(shown(&ask(apex, RecordType::NS, &[])), ["ns1.acme.quaymark.example."]);
        assert_eq!(ask(apex, RecordType::SOA, &[]).answers().len(), 1);
        for outside in ["quaymark.example.", "xacme.quaymark.example."] {
            assert_eq!(ask(outside, RecordType::TXT, &["one"]).response_code(), ResponseCode::Refused);
        }
    }

    #[tokio::test]
    async fn a_flood_is_told_to_come_by_tcp_and_looks_nothing_up() {
        let responder = Responder::bind("127.0.0.1:0".parse().expect("an address")).await.expect("bound");
        let to = responder.udp.local_addr().expect("an address");
        let stop = CancellationToken::new();
        let asked = Arc::new(std::sync::atomic::AtomicU32::new(0));
        let counted = asked.clone();
        let look_up = move |_| {
            counted.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
            async { vec!["one".to_owned()] }
        };
        let served = tokio::spawn(responder.serve(zone(), look_up, stop.clone()));

        let socket = UdpSocket::bind("127.0.0.1:0").await.expect("bound");
        let mut query = Message::new();
        let name = Name::from_ascii("x.example.acme.quaymark.example.").expect("a name");
        query.set_id(9).add_query(Query::query(name, RecordType::TXT));
        let bytes = query.to_bytes().expect("encoded");
        let mut buffer = [0; 2048];
        let (mut whole, mut cut) = (0, 0);
        for _ in 0..2 * MOST_ANSWERED {
            socket.send_to(&bytes, to).await.expect("sent");
            let Ok(length) = timeout(Duration::from_millis(20), socket.recv(&mut buffer)).await else {
                continue;
            };
            let reply = Message::from_vec(&buffer[..length.expect("received")]).expect("a reply");
            if reply.truncated() { cut += 1 } else { whole += 1 }
        }
        let looked_up = asked.load(std::sync::atomic::Ordering::Relaxed);
        assert!(looked_up >= MOST_ANSWERED && whole <= looked_up, "{whole} of {looked_up}");
        assert!(whole > 0 && (cut > 0 || looked_up > MOST_ANSWERED), "{whole} whole, {cut} cut short");
        stop.cancel();
        served.await.expect("stopped");
    }

    /// Asks by a connection of its own.
    async fn ask_by_tcp(to: SocketAddr, bytes: &[u8]) -> io::Result<Message> {
        let mut stream = TcpStream::connect(to).await?;
        stream.write_u16(u16::try_from(bytes.len()).expect("short")).await?;
        stream.write_all(bytes).await?;
        let mut whole = vec![0; stream.read_u16().await?.into()];
        stream.read_exact(&mut whole).await?;
        Message::from_vec(&whole).map_err(io::Error::other)
    }

    #[tokio::test]
    async fn connections_that_ask_nothing_keep_nobody_out() {
        let responder = Responder::bind("127.0.0.1:0".parse().expect("an address")).await.expect("bound");
        let to = responder.tcp.local_addr().expect("an address");
        let stop = CancellationToken::new();
        let served = tokio::spawn(responder.serve(zone(), |host| async { vec![host] }, stop.clone()));

        let mut query = Message::new();
        let name = Name::from_ascii("x.example.acme.quaymark.example.").expect("a name");
        query.set_id(9).add_query(Query::query(name, RecordType::TXT));
        let bytes = query.to_bytes().expect("encoded");
        let mut slow = Vec::new();
        for _ in 0..2 * OF_ONE {
            let mut stream = TcpStream::connect(to).await.expect("connected");
            stream.write_all(&[0]).await.expect("half a length");
            slow.push(stream);
        }
        let asked = timeout(IDLE_LIMIT / 2, ask_by_tcp(to, &bytes)).await;
        assert_eq!(shown(&asked.expect("in time").expect("answered")), ["x.example"]);
        stop.cancel();
        served.await.expect("stopped");
    }

    #[tokio::test]
    async fn it_answers_by_udp_and_tcp_and_stops() {
        let address = "127.0.0.1:0".parse().expect("an address");
        let responder = Responder::bind(address).await.expect("bound");
        let (udp, tcp) = (responder.udp.local_addr(), responder.tcp.local_addr());
        let stop = CancellationToken::new();
        // Too long for UDP.
        let look_up = |host: String| async move { vec![host, "v".repeat(250), "w".repeat(250)] };
        let served = tokio::spawn(responder.serve(zone(), look_up, stop.clone()));
        let mut query = Message::new();
        let name = Name::from_ascii("x.example.acme.quaymark.example.").expect("a name");
        query.set_id(9).add_query(Query::query(name, RecordType::TXT));
        let bytes = query.to_bytes().expect("encoded");

        let socket = UdpSocket::bind("127.0.0.1:0").await.expect("bound");
        socket.send_to(&bytes, udp.expect("an address")).await.expect("sent");
        let mut buffer = [0; 2048];
        let length = socket.recv(&mut buffer).await.expect("answered");
        let reply = Message::from_vec(&buffer[..length]).expect("a reply");
        assert!(reply.truncated() && length <= MOST_UDP);

        let reply = ask_by_tcp(tcp.expect("an address"), &bytes).await.expect("a reply");
        assert_eq!(shown(&reply)[0], "x.example");
        assert_eq!(reply.answers().len(), 3);
        stop.cancel();
        served.await.expect("stopped");
    }
}

//! One question to one server: UDP with tries, TCP when truncated.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::{Duration, Instant};

use nomenta_core::reading::RecordType;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};
use tokio::sync::Semaphore;
use tokio::time::timeout_at;

use crate::wire::{self, Mismatch, Mode, Reply};

/// Questions on the way at once, over all domains.
const IN_FLIGHT: usize = 512;

/// What came of asking.
#[derive(Clone, Debug)]
pub(crate) enum Got {
    Reply(Reply),
    Silence,
    NoRoute,
    Garbled(String),
}

/// Why a try gave no reply.
enum Lost {
    Silence,
    NoRoute,
    Garbled(String),
}

/// One question for one server.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Ask {
    pub server: SocketAddr,
    pub name: String,
    pub rtype: RecordType,
    pub mode: Mode,
}

/// Asks questions, with bounded parallelism.
pub(crate) struct Exchange {
    timeout: Duration,
    tries: u32,
    permits: Semaphore,
}

impl Exchange {
    pub fn new(timeout: Duration, tries: u32) -> Self {
        Self { timeout, tries, permits: Semaphore::new(IN_FLIGHT) }
    }

    /// Asks `server`; the round-trip is that of the try which was answered.
    pub async fn ask(&self, ask: &Ask) -> (Got, Duration) {
        let _permit = self.permits.acquire().await;
        let mut last = Got::Silence;
        for _ in 0..self.tries {
            let start = Instant::now();
            match self.try_udp(ask).await {
                Ok(reply) if reply.truncated => {
                    let got = self.try_tcp(ask).await;
                    return (got.unwrap_or(Got::Reply(reply)), start.elapsed());
                }
                Ok(reply) => return (Got::Reply(reply), start.elapsed()),
                Err(Lost::Garbled(reason)) => last = Got::Garbled(reason),
                Err(Lost::NoRoute) => return (Got::NoRoute, Duration::ZERO),
                Err(Lost::Silence) => {}
            }
        }
        (last, Duration::ZERO)
    }

    /// One datagram out of a fresh socket, so that id and port are new each
    /// time; the socket is connected, so the kernel drops other senders.
    async fn try_udp(&self, ask: &Ask) -> Result<Reply, Lost> {
        let id = rand::random();
        let bytes = wire::encode(id, &ask.name, ask.rtype, ask.mode).map_err(Lost::Garbled)?;
        let deadline = tokio::time::Instant::now() + self.timeout;
        let socket = UdpSocket::bind(unspecified(ask.server)).await.map_err(lost)?;
        socket.connect(ask.server).await.map_err(lost)?;
        socket.send(&bytes).await.map_err(lost)?;
        let (mut buffer, mut garbled) = (vec![0; 4096], None);
        loop {
            let received = timeout_at(deadline, socket.recv(&mut buffer)).await;
            let Ok(Ok(length)) = received else { return Err(garbled.map_or(Lost::Silence, Lost::Garbled)) };
            match wire::decode(&buffer[..length], id, &ask.name, ask.rtype) {
                Ok(reply) => return Ok(reply),
                Err(Mismatch::Garbled(reason)) => garbled = Some(reason),
                Err(Mismatch::Stranger) => {}
            }
        }
    }

    /// The same over TCP (RFC 7766), with the two-octet length in front.
    async fn try_tcp(&self, ask: &Ask) -> Option<Got> {
        let id = rand::random();
        let bytes = wire::encode(id, &ask.name, ask.rtype, ask.mode).ok()?;
        let deadline = tokio::time::Instant::now() + self.timeout * 2;
        let reply = timeout_at(deadline, tcp_round(ask.server, &bytes)).await.ok()?.ok()?;
        match wire::decode(&reply, id, &ask.name, ask.rtype) {
            Ok(reply) => Some(Got::Reply(reply)),
            Err(Mismatch::Garbled(reason)) => Some(Got::Garbled(reason)),
            Err(Mismatch::Stranger) => None,
        }
    }
}

/// An address family that this machine cannot send to says nothing about the
/// server; anything else is silence.
fn lost(error: io::Error) -> Lost {
    use io::ErrorKind::{AddrNotAvailable, HostUnreachable, NetworkUnreachable, Unsupported};
    match error.kind() {
        AddrNotAvailable | HostUnreachable | NetworkUnreachable | Unsupported => Lost::NoRoute,
        _ => Lost::Silence,
    }
}

async fn tcp_round(server: SocketAddr, bytes: &[u8]) -> io::Result<Vec<u8>> {
    let mut stream = TcpStream::connect(server).await?;
    let length = u16::try_from(bytes.len()).map_err(io::Error::other)?;
    stream.write_all(&[&length.to_be_bytes(), bytes].concat()).await?;
    let length = stream.read_u16().await?;
    let mut reply = vec![0; length.into()];
    stream.read_exact(&mut reply).await?;
    Ok(reply)
}

fn unspecified(server: SocketAddr) -> SocketAddr {
    let any: IpAddr = match server {
        SocketAddr::V4(_) => Ipv4Addr::UNSPECIFIED.into(),
        SocketAddr::V6(_) => Ipv6Addr::UNSPECIFIED.into(),
    };
    (any, 0).into()
}

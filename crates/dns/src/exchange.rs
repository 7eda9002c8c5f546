//! One question to one server: UDP with tries, TCP when truncated.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::{Duration, Instant};

use nomenta_core::reading::{Outcome, RecordType};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};
use tokio::sync::Semaphore;
use tokio::time::timeout_at;

use crate::wire::{self, Mismatch, Reply};

/// Questions on the way at once, over all domains.
const IN_FLIGHT: usize = 512;

/// What came of asking.
#[derive(Clone, Debug)]
pub(crate) enum Got {
    Reply(Reply),
    Silence,
    Garbled(String),
}

/// The same for a reading, with the round-trip.
pub(crate) fn outcome(got: Got) -> Outcome {
    match got {
        Got::Reply(Reply { rcode, authoritative, answers: records, .. }) => {
            Outcome::Answer { rcode, authoritative, records }
        }
        Got::Silence => Outcome::Silence,
        Got::Garbled(reason) => Outcome::Garbled { reason },
    }
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
    pub async fn ask(
        &self,
        server: SocketAddr,
        name: &str,
        rtype: RecordType,
        recurse: bool,
    ) -> (Got, Duration) {
        let _permit = self.permits.acquire().await;
        let mut last = Got::Silence;
        for _ in 0..self.tries {
            let start = Instant::now();
            match self.try_udp(server, name, rtype, recurse).await {
                Ok(reply) if reply.truncated => {
                    let got = self.try_tcp(server, name, rtype, recurse).await;
                    return (got.unwrap_or(Got::Reply(reply)), start.elapsed());
                }
                Ok(reply) => return (Got::Reply(reply), start.elapsed()),
                Err(Some(reason)) => last = Got::Garbled(reason),
                Err(None) => {}
            }
        }
        (last, Duration::ZERO)
    }

    /// One datagram out of a fresh socket, so that id and port are new each
    /// time; the socket is connected, so the kernel drops other senders.
    async fn try_udp(
        &self,
        server: SocketAddr,
        name: &str,
        rtype: RecordType,
        recurse: bool,
    ) -> Result<Reply, Option<String>> {
        let id = rand::random();
        let bytes = wire::encode(id, name, rtype, recurse).map_err(Some)?;
        let deadline = tokio::time::Instant::now() + self.timeout;
        let lost = |_: io::Error| None;
        let socket = UdpSocket::bind(unspecified(server)).await.map_err(lost)?;
        socket.connect(server).await.map_err(lost)?;
        socket.send(&bytes).await.map_err(lost)?;
        let (mut buffer, mut garbled) = (vec![0; 4096], None);
        loop {
            let received = timeout_at(deadline, socket.recv(&mut buffer)).await;
            let Ok(Ok(length)) = received else { return Err(garbled) };
            match wire::decode(&buffer[..length], id, name, rtype) {
                Ok(reply) => return Ok(reply),
                Err(Mismatch::Garbled(reason)) => garbled = Some(reason),
                Err(Mismatch::Stranger) => {}
            }
        }
    }

    /// The same over TCP (RFC 7766), with the two-octet length in front.
    async fn try_tcp(&self, server: SocketAddr, name: &str, rtype: RecordType, recurse: bool) -> Option<Got> {
        let id = rand::random();
        let bytes = wire::encode(id, name, rtype, recurse).ok()?;
        let deadline = tokio::time::Instant::now() + self.timeout * 2;
        let reply = timeout_at(deadline, tcp_round(server, &bytes)).await.ok()?.ok()?;
        match wire::decode(&reply, id, name, rtype) {
            Ok(reply) => Some(Got::Reply(reply)),
            Err(Mismatch::Garbled(reason)) => Some(Got::Garbled(reason)),
            Err(Mismatch::Stranger) => None,
        }
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

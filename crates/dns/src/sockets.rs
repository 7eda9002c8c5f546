//! A few UDP sockets with large buffers, shared by all questions. Each try has
//! a random id on a random one of them (RFC 5452, section 9.2).

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::task::Context;

use rand::Rng;
use socket2::{Domain, Protocol, Socket, Type};
use tokio::net::UdpSocket;
use tokio::time::Instant;

/// Sockets of one address family.
const SOCKETS: usize = 16;
/// Kernel buffer asked for, in octets; the kernel may give less.
const BUFFER: usize = 4 << 20;
/// Largest datagram taken.
const LARGEST: usize = 4096;
/// Ids that a message may have.
const IDS: usize = 1 << 16;
/// No question has this id.
const FREE: u32 = u32::MAX;

/// A try on its way.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Sent {
    pub id: u16,
    pub at: Instant,
    socket: usize,
}

/// A socket, and which question each of its ids belongs to.
struct Slotted {
    socket: UdpSocket,
    slots: Box<[u32]>,
}

/// All sockets; those of a family are opened when it is first sent to.
#[derive(Default)]
pub(crate) struct Sockets {
    open: Vec<Slotted>,
    v4: Vec<usize>,
    v6: Vec<usize>,
    buffer: Vec<u8>,
    /// The socket that is being read.
    reading: usize,
}

impl Sockets {
    /// Sends what `encode` makes of a free id.
    ///
    /// # Errors
    /// What the kernel says; `InvalidInput` if the question cannot be encoded.
    pub fn send(
        &mut self,
        to: SocketAddr,
        key: usize,
        encode: impl FnOnce(u16) -> Result<Vec<u8>, String>,
    ) -> io::Result<Sent> {
        let index = self.pick(to)?;
        let Slotted { socket, slots } = &mut self.open[index];
        let mut random = rand::rng();
        // Far more ids are free than taken, so this ends soon.
        let id = loop {
            let id: u16 = random.random();
            if slots[usize::from(id)] == FREE {
                break id;
            }
        };
        let bytes = encode(id).map_err(|e| io::Error::new(io::ErrorKind::InvalidInput, e))?;
        socket.try_send_to(&bytes, to)?;
        slots[usize::from(id)] = u32::try_from(key).unwrap_or(FREE);
        Ok(Sent { id, at: Instant::now(), socket: index })
    }

    /// Gives an id back.
    pub fn release(&mut self, sent: Sent) {
        self.open[sent.socket].slots[usize::from(sent.id)] = FREE;
    }

    /// Whether a datagram may be had; if not, the task is woken by one.
    pub fn poll_readable(&self, cx: &mut Context<'_>) -> bool {
        // Every socket must have the waker, so none is skipped.
        self.open.iter().fold(false, |any, s| s.socket.poll_recv_ready(cx).is_ready() || any)
    }

    /// The next datagram with an id that is taken: the id, its question, and
    /// who sent it.
    pub fn receive(&mut self) -> Option<(Sent, usize, SocketAddr, &[u8])> {
        self.buffer.resize(LARGEST, 0);
        while self.reading < self.open.len() {
            let Slotted { socket, slots } = &self.open[self.reading];
            match socket.try_recv_from(&mut self.buffer) {
                Ok((length, from)) if length >= 2 => {
                    let id = u16::from_be_bytes([self.buffer[0], self.buffer[1]]);
                    let key = slots[usize::from(id)];
                    if key != FREE {
                        let sent = Sent { id, at: Instant::now(), socket: self.reading };
                        return Some((sent, key as usize, from, &self.buffer[..length]));
                    }
                }
                Ok(_) => {}
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => self.reading += 1,
                // An earlier packet's ICMP error is no reason to stop reading.
                Err(_) => {}
            }
        }
        self.reading = 0;
        None
    }

    fn pick(&mut self, to: SocketAddr) -> io::Result<usize> {
        let family = if to.is_ipv4() { &self.v4 } else { &self.v6 };
        if family.is_empty() {
            self.open_family(to.is_ipv4())?;
        }
        let family = if to.is_ipv4() { &self.v4 } else { &self.v6 };
        Ok(family[rand::rng().random_range(..family.len())])
    }

    fn open_family(&mut self, v4: bool) -> io::Result<()> {
        for _ in 0..SOCKETS {
            let slots = vec![FREE; IDS].into_boxed_slice();
            self.open.push(Slotted { socket: bind(v4)?, slots });
            let family = if v4 { &mut self.v4 } else { &mut self.v6 };
            family.push(self.open.len() - 1);
        }
        Ok(())
    }
}

fn bind(v4: bool) -> io::Result<UdpSocket> {
    let (domain, any): (_, IpAddr) = match v4 {
        true => (Domain::IPV4, Ipv4Addr::UNSPECIFIED.into()),
        false => (Domain::IPV6, Ipv6Addr::UNSPECIFIED.into()),
    };
    let socket = Socket::new(domain, Type::DGRAM, Some(Protocol::UDP))?;
    // As much as the kernel grants is enough.
    let _ = socket.set_recv_buffer_size(BUFFER);
    let _ = socket.set_send_buffer_size(BUFFER);
    socket.set_nonblocking(true)?;
    socket.bind(&SocketAddr::new(any, 0).into())?;
    UdpSocket::from_std(socket.into())
}

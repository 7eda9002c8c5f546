//! Many UDP sockets with large buffers, shared by all questions. Each try has a random id and
//! letters of random case, and leaves from a random socket with those that leave with it
//! (RFC 5452, section 9.2). The kernel is called once for many datagrams.

use std::cell::RefCell;
use std::io::{self, IoSlice, IoSliceMut};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::ops::Range;
use std::os::fd::AsRawFd;
use std::task::Context;

use foldhash::{HashMap, HashMapExt};
use nix::sys::socket::{MsgFlags, MultiHeaders, SockaddrStorage, recvmmsg, sendmmsg};
use rand::Rng;
use socket2::{Domain, Protocol, Socket, Type};
use tokio::io::Interest;
use tokio::net::UdpSocket;
use tokio::time::Instant;

use crate::wire;

/// Sockets of one address family.
const SOCKETS: usize = 128;
/// Kernel buffer asked for, in octets; the kernel may give less.
const BUFFER: usize = 4 << 20;
/// Largest datagram taken.
const LARGEST: usize = 4096;
/// Datagrams in one call to the kernel.
const BURST: usize = 64;

/// A try on its way.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Sent {
    id: u16,
    pub at: Instant,
    socket: usize,
}

/// What a call to the kernel could not send.
#[derive(Debug, Default)]
pub(crate) struct Unsent {
    /// Questions whose datagram has no way out, and why.
    pub failed: Vec<(usize, io::Error)>,
    /// Whether the kernel takes no more for now; the rest is kept.
    pub full: bool,
}

/// A socket, and which question each of its ids belongs to.
struct Slotted {
    socket: UdpSocket,
    slots: HashMap<u16, usize>,
}

/// Datagrams that leave with the next call, all from one socket.
#[derive(Default)]
struct Outbox {
    /// Sockets of the family.
    family: Vec<usize>,
    socket: usize,
    bytes: Vec<u8>,
    staged: Vec<(usize, SocketAddr, Range<usize>)>,
}

/// All sockets; those of a family are opened when it is first sent to.
#[derive(Default)]
pub(crate) struct Sockets {
    open: Vec<Slotted>,
    /// For IPv4 and IPv6.
    outboxes: [Outbox; 2],
    buffer: Vec<u8>,
    /// Length and sender of each datagram in the buffer that is not read yet,
    /// the next one last.
    inbox: Vec<(usize, usize, SocketAddr)>,
    /// Sockets at which a reply is awaited; what comes to the others is nobody's.
    awaited: Vec<usize>,
    /// The socket that is read, and those that are read after it.
    reading: Option<usize>,
    unread: Vec<usize>,
}

type Headers = RefCell<MultiHeaders<SockaddrStorage>>;

thread_local! {
    // The kernel's view of a call, made once. It narrows the room for
    // addresses to the family that it meets.
    static SENDING: Headers = RefCell::new(MultiHeaders::preallocate(BURST, None));
    static RECEIVING: [Headers; 2] = [(); 2].map(|()| RefCell::new(MultiHeaders::preallocate(BURST, None)));
}

impl Sockets {
    /// Readies a message, with a new id, for the next [`flush`](Self::flush).
    ///
    /// # Errors
    /// What the kernel says when a socket cannot be opened.
    pub(crate) fn stage(
        &mut self,
        to: SocketAddr,
        key: usize,
        message: &mut [u8],
        folds_case: bool,
        at: Instant,
    ) -> io::Result<Sent> {
        if self.outbox(to).family.is_empty() {
            self.open_family(to.is_ipv4())?;
        }

        let mut random = rand::rng();
        let outbox = &mut self.outboxes[usize::from(to.is_ipv6())];
        if outbox.staged.is_empty() {
            outbox.socket = outbox.family[random.random_range(..outbox.family.len())];
        }

        let slots = &mut self.open[outbox.socket].slots;
        // Far more ids are free than taken, so this ends soon.
        let id = loop {
            let id: u16 = random.random();
            if !slots.contains_key(&id) {
                break id;
            }
        };
        if slots.is_empty() {
            self.awaited.push(outbox.socket);
        }
        slots.insert(id, key);

        message[..2].copy_from_slice(&id.to_be_bytes());
        if folds_case {
            wire::fold_case(message)
        } else {
            wire::mix_case(message, random.random())
        }
        let start = outbox.bytes.len();
        outbox.bytes.extend_from_slice(message);
        outbox.staged.push((key, to, start..outbox.bytes.len()));
        Ok(Sent { id, at, socket: outbox.socket })
    }

    fn outbox(&self, to: SocketAddr) -> &Outbox {
        &self.outboxes[usize::from(to.is_ipv6())]
    }

    /// Whether a call's worth of messages is ready.
    pub(crate) fn is_due(&self) -> bool {
        self.outboxes.iter().any(|outbox| outbox.staged.len() >= BURST)
    }

    /// Sends what was staged.
    pub(crate) fn flush(&mut self) -> Unsent {
        let mut unsent = Unsent::default();

        for outbox in &mut self.outboxes {
            while !outbox.staged.is_empty() {
                match send(&self.open[outbox.socket].socket, outbox) {
                    Ok(count) => drop(outbox.staged.drain(..count)),
                    Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
                        unsent.full = true;
                        break;
                    }
                    // It is the first one that cannot be sent.
                    Err(error) => unsent.failed.push((outbox.staged.remove(0).0, error)),
                }
            }
            if outbox.staged.is_empty() {
                outbox.bytes.clear();
            }
        }
        unsent
    }

    /// Gives an id back.
    pub(crate) fn release(&mut self, sent: Sent) {
        let slots = &mut self.open[sent.socket].slots;
        slots.remove(&sent.id);
        if slots.is_empty() {
            self.awaited.retain(|socket| *socket != sent.socket);
        }
    }

    /// Whether a datagram may be had; if not, the task is woken by one.
    pub(crate) fn poll_readable(&self, cx: &mut Context<'_>) -> bool {
        // Every socket must have the waker, so none is skipped.
        let sockets = self.awaited.iter().map(|socket| &self.open[*socket].socket);
        sockets.filter(|socket| socket.poll_recv_ready(cx).is_ready()).count() > 0
    }

    /// The next datagram with an id that is taken: its question, and who sent
    /// it.
    pub(crate) fn receive(&mut self) -> Option<(usize, SocketAddr, &[u8])> {
        if self.reading.is_none() {
            self.unread.clone_from(&self.awaited);
            self.reading = self.unread.pop();
        }

        loop {
            let reading = self.reading?;
            while let Some((place, length, from)) = self.inbox.pop() {
                let start = place * LARGEST;
                let Some(&[high, low]) = self.buffer[start..start + length].first_chunk() else { continue };

                let slots = &self.open[reading].slots;
                if let Some(key) = slots.get(&u16::from_be_bytes([high, low])) {
                    return Some((*key, from, &self.buffer[start..start + length]));
                }
            }

            if !self.fill(reading) {
                self.reading = self.unread.pop();
            }
        }
    }

    /// Reads what a socket has, up to a call's worth; `false` if it has nothing.
    fn fill(&mut self, reading: usize) -> bool {
        let Slotted { socket, .. } = &self.open[reading];
        self.buffer.resize(LARGEST * BURST, 0);
        let family = usize::from(self.outboxes[1].family.contains(&reading));

        // An earlier packet's ICMP error is no reason to stop reading.
        let _ =
            socket.try_io(Interest::READABLE, || receive(socket, family, &mut self.buffer, &mut self.inbox));
        // So that the first one is popped first.
        self.inbox.reverse();
        !self.inbox.is_empty()
    }

    fn open_family(&mut self, v4: bool) -> io::Result<()> {
        for _ in 0..SOCKETS {
            self.open.push(Slotted { socket: bind(v4)?, slots: HashMap::new() });
            self.outboxes[usize::from(!v4)].family.push(self.open.len() - 1);
        }
        Ok(())
    }
}

/// Hands one burst of an outbox to the kernel; how many it took.
fn send(socket: &UdpSocket, outbox: &Outbox) -> io::Result<usize> {
    let burst = &outbox.staged[..outbox.staged.len().min(BURST)];
    let slices: Vec<[IoSlice<'_>; 1]> =
        burst.iter().map(|(_, _, range)| [IoSlice::new(&outbox.bytes[range.clone()])]).collect();
    let addresses: Vec<_> = burst.iter().map(|(_, to, _)| Some(SockaddrStorage::from(*to))).collect();

    socket.try_io(Interest::WRITABLE, || {
        SENDING.with_borrow_mut(|headers| {
            let sent =
                sendmmsg(socket.as_raw_fd(), headers, &slices, &addresses, [], MsgFlags::MSG_DONTWAIT)?;
            Ok(sent.count())
        })
    })
}

/// Takes datagrams into `buffer`. Fewer than a call's worth means that no more
/// are there, which is told as the error that makes Tokio wait for the next.
fn receive(
    socket: &UdpSocket,
    family: usize,
    buffer: &mut [u8],
    inbox: &mut Vec<(usize, usize, SocketAddr)>,
) -> io::Result<()> {
    RECEIVING.with(|headers| {
        let mut headers = headers[family].borrow_mut();
        let mut slices: Vec<[IoSliceMut<'_>; 1]> =
            buffer.chunks_exact_mut(LARGEST).map(|chunk| [IoSliceMut::new(chunk)]).collect();

        let flags = MsgFlags::MSG_DONTWAIT;
        let received = recvmmsg(socket.as_raw_fd(), &mut headers, slices.iter_mut(), flags, None)?;
        for (place, message) in received.enumerate() {
            inbox.extend(message.address.and_then(|a| Some((place, message.bytes, address(&a)?))));
        }
        Ok::<_, io::Error>(())
    })?;

    if inbox.len() < BURST { Err(io::ErrorKind::WouldBlock.into()) } else { Ok(()) }
}

fn address(storage: &SockaddrStorage) -> Option<SocketAddr> {
    let v4 = storage.as_sockaddr_in().map(|a| SocketAddr::V4((*a).into()));
    v4.or_else(|| storage.as_sockaddr_in6().map(|a| SocketAddr::V6((*a).into())))
}

fn bind(v4: bool) -> io::Result<UdpSocket> {
    let any = if v4 { IpAddr::from(Ipv4Addr::UNSPECIFIED) } else { Ipv6Addr::UNSPECIFIED.into() };
    let any = SocketAddr::new(any, 0);
    let socket = Socket::new(Domain::for_address(any), Type::DGRAM, Some(Protocol::UDP))?;

    // As much as the kernel grants is enough.
    let _ = socket.set_recv_buffer_size(BUFFER);
    let _ = socket.set_send_buffer_size(BUFFER);

    socket.set_nonblocking(true)?;
    socket.bind(&any.into())?;
    UdpSocket::from_std(socket.into())
}

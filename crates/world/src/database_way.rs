//! A way to a database over the network that can be cut: what is connected then hears nothing
//! more, not even that it is cut, as when a machine in between loses its power.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use anyhow::Context;
use tokio::io::{AsyncReadExt, AsyncWriteExt, copy};
use tokio::net::{TcpListener, TcpStream, UnixStream};
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio::time::sleep;

use crate::Layout;
use crate::postgres::{self, Databases};

/// After what time the server notices that nobody is at the other end, as it is set up to.
const NOTICED: Duration = Duration::from_secs(30);

/// The way; it ends with this.
pub struct DatabaseWay {
    address: SocketAddr,
    cuts: Cuts,
    _listening: JoinSet<()>,
}

/// What cuts connections.
#[derive(Clone)]
struct Cuts {
    /// How often that was done.
    done: watch::Sender<u64>,
    /// What one connection says, one after the other, before it is done the next time.
    awaited: Arc<Mutex<Vec<String>>>,
}

impl DatabaseWay {
    /// Listens at a port for whoever wants to reach a server.
    ///
    /// # Errors
    /// If the port is busy.
    pub async fn to(server: &Databases, port: u16) -> anyhow::Result<Self> {
        Self::start(port, &server.layout).await
    }

    /// Listens at a port for whoever wants to reach the server at a socket.
    pub(crate) async fn start(port: u16, layout: &Layout) -> anyhow::Result<Self> {
        let address = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        let socket = postgres::socket(layout);
        let listener = TcpListener::bind(address).await.with_context(|| format!("{address} is busy"))?;
        let cuts = Cuts { done: watch::Sender::new(0), awaited: Arc::default() };

        let mut listening = JoinSet::new();
        listening.spawn(listen(listener, socket, cuts.clone()));
        Ok(Self { address, cuts, _listening: listening })
    }

    /// The same database by this way.
    pub fn url(&self, name: &str) -> String {
        format!("postgres://nomenta@{}/{name}", self.address)
    }

    /// Cuts what is connected; whoever comes after finds the way as before.
    pub fn cut(&self) {
        self.cuts.cut();
    }

    /// Cuts what is connected as soon as a connection has said all of this, one after the other: the
    /// server gets it, and nobody gets the answer.
    pub fn cut_after(&self, said: &[&str]) {
        *self.cuts.awaited() = said.iter().map(ToString::to_string).collect();
    }

    /// Whether what was awaited has been said.
    pub fn is_cut(&self) -> bool {
        self.cuts.awaited().is_empty()
    }
}

impl Cuts {
    fn cut(&self) {
        self.done.send_modify(|count| *count += 1);
    }

    fn awaited(&self) -> MutexGuard<'_, Vec<String>> {
        self.awaited.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Hears what a connection says, which has said the first `heard` things before.
    fn hear(&self, said: &[u8], heard: &mut usize) {
        let mut awaited = self.awaited();
        let mut rest = said;
        while let Some(next) = awaited.get(*heard)
            && let Some(place) = rest.windows(next.len()).position(|part| part == next.as_bytes())
        {
            rest = &rest[place + next.len()..];
            *heard += 1;
        }
        if awaited.is_empty() {
            *heard = 0;
        } else if *heard == awaited.len() {
            awaited.clear();
            self.cut();
        }
    }
}

async fn listen(listener: TcpListener, socket: PathBuf, cuts: Cuts) {
    let mut connections = JoinSet::new();
    loop {
        let Ok((here, _)) = listener.accept().await else { continue };
        let Ok(there) = UnixStream::connect(&socket).await else { continue };
        connections.spawn(pass(here, there, cuts.clone()));
        while connections.try_join_next().is_some() {}
    }
}

/// Passes on until one end closes; once cut, whoever came is left without a word.
async fn pass(mut here: TcpStream, mut there: UnixStream, cuts: Cuts) {
    let mut done = cuts.done.subscribe();
    let (mut from_here, mut to_here) = here.split();
    let (mut from_there, mut to_there) = there.split();
    let back = async {
        let _ = copy(&mut from_there, &mut to_here).await;
    };
    tokio::select! {
        biased;
        _ = done.changed() => {}
        () = back => return,
        () = forth(&mut from_here, &mut to_there, &cuts) => return,
    }
    sleep(NOTICED).await;
    drop(there);
    std::future::pending::<()>().await;
}

/// Passes on what is said to the server, and hears it.
async fn forth(from: &mut (impl AsyncReadExt + Unpin), to: &mut (impl AsyncWriteExt + Unpin), cuts: &Cuts) {
    let mut heard = 0;
    let mut said = vec![0; 8 << 10];
    while let Ok(length @ 1..) = from.read(&mut said).await {
        let said = &said[..length];
        if to.write_all(said).await.is_err() {
            return;
        }
        cuts.hear(said, &mut heard);
    }
}

//! A way to a database over the network that can be cut: what is connected then hears nothing
//! more, not even that it is cut, as when a machine in between loses its power.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::PathBuf;
use std::time::Duration;

use anyhow::Context;
use tokio::io::copy_bidirectional;
use tokio::net::{TcpListener, TcpStream, UnixStream};
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio::time::sleep;

/// After what time the server notices that nobody is at the other end, as it is set up to.
const NOTICED: Duration = Duration::from_secs(30);

/// The way; it ends with this.
pub struct DatabaseWay {
    address: SocketAddr,
    cuts: watch::Sender<u64>,
    _listening: JoinSet<()>,
}

impl DatabaseWay {
    /// Listens at a port for whoever wants to reach the server at a socket.
    pub(crate) async fn start(port: u16, socket: PathBuf) -> anyhow::Result<Self> {
        let address = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        let listener = TcpListener::bind(address).await.with_context(|| format!("{address} is busy"))?;
        let cuts = watch::Sender::new(0);

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
        self.cuts.send_modify(|count| *count += 1);
    }
}

async fn listen(listener: TcpListener, socket: PathBuf, cuts: watch::Sender<u64>) {
    let mut connections = JoinSet::new();
    loop {
        let Ok((here, _)) = listener.accept().await else { continue };
        let Ok(there) = UnixStream::connect(&socket).await else { continue };
        connections.spawn(pass(here, there, cuts.subscribe()));
        while connections.try_join_next().is_some() {}
    }
}

/// Passes on until one end closes; once cut, whoever came is left without a word.
async fn pass(mut here: TcpStream, mut there: UnixStream, mut cuts: watch::Receiver<u64>) {
    tokio::select! {
        _ = copy_bidirectional(&mut here, &mut there) => return,
        _ = cuts.changed() => {}
    }
    sleep(NOTICED).await;
    drop(there);
    std::future::pending::<()>().await;
}

//! Ending connections to a database that says nothing. Whoever waits at one hears at once that it
//! is broken, and tries again with another.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::os::fd::RawFd;

use nix::sys::socket::{Shutdown, SockaddrStorage, getpeername, shutdown};
use sqlx::postgres::PgConnectOptions;
use tokio::net::lookup_host;

/// Where the system lists what this process has open.
const OPEN_FILES: &str = "/proc/self/fd";

/// Ends all connections of this process to the database. One over a socket of the file system
/// needs that not: there is no network in between that could swallow anything.
pub(crate) async fn cut(options: &PgConnectOptions) {
    let place = (options.get_host().to_owned(), options.get_port());
    let Ok(servers) = lookup_host(place).await else { return };
    let servers: Vec<SocketAddr> = servers.collect();

    let broken = sockets_to(&servers);
    tracing::warn!(connections = broken.len(), "the database says nothing; what waits for it is told so");
    metrics::counter!("nomenta_database_connections_cut_total").increment(broken.len() as u64);
    for socket in broken {
        // Closed meanwhile, perhaps.
        let _ = shutdown(socket, Shutdown::Both);
    }
}

fn sockets_to(servers: &[SocketAddr]) -> Vec<RawFd> {
    let Ok(entries) = fs::read_dir(OPEN_FILES) else { return Vec::new() };
    let numbers = entries.flatten().filter_map(|entry| entry.file_name().to_str()?.parse().ok());
    numbers.filter(|number| peer(*number).is_some_and(|peer| servers.contains(&peer))).collect()
}

/// Where a socket leads to; `None` for whatever else is open.
fn peer(socket: RawFd) -> Option<SocketAddr> {
    let peer = getpeername::<SockaddrStorage>(socket).ok()?;
    if let Some(v4) = peer.as_sockaddr_in() {
        return Some(SocketAddr::new(IpAddr::V4(v4.ip()), v4.port()));
    }
    peer.as_sockaddr_in6().map(|v6| SocketAddr::new(IpAddr::V6(v6.ip()), v6.port()))
}

#[cfg(test)]
mod tests {
    use std::io::Read;
    use std::net::{TcpListener, TcpStream};

    use super::*;

    #[tokio::test]
    async fn what_waits_for_a_silent_server_hears_that_it_is_broken_and_nobody_else_does() {
        let silent = TcpListener::bind("127.0.0.1:0").expect("bound");
        let other = TcpListener::bind("127.0.0.1:0").expect("bound");
        let connect =
            |to: &TcpListener| TcpStream::connect(to.local_addr().expect("bound")).expect("connected");
        let (mut waiting, kept) = (connect(&silent), connect(&other));
        kept.set_nonblocking(true).expect("set");

        let port = silent.local_addr().expect("bound").port();
        cut(&PgConnectOptions::new_without_pgpass().host("127.0.0.1").port(port)).await;

        assert_eq!(waiting.read(&mut [0]).expect("ended"), 0);
        let still = (&kept).read(&mut [0]).expect_err("nothing to read yet");
        assert_eq!(still.kind(), std::io::ErrorKind::WouldBlock);
    }
}

//! Passes packets on from an address of the loopback range to a server that can
//! only listen at 127.0.0.1: some look for their addresses among those of the
//! machine's interfaces.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use tokio::io::copy_bidirectional;
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::task::JoinSet;
use tokio::time::timeout;

/// How long a reply is waited for.
const REPLY_LIMIT: Duration = Duration::from_secs(5);

/// Passes on what comes by UDP and TCP; it ends with the tasks.
///
/// # Errors
/// If the address is in use.
pub(crate) async fn start(
    relays: &mut JoinSet<()>,
    listen: SocketAddr,
    server: SocketAddr,
) -> anyhow::Result<()> {
    let taken = || format!("Cannot listen on {listen}");
    let socket = UdpSocket::bind(listen).await.with_context(taken)?;
    let listener = TcpListener::bind(listen).await.with_context(taken)?;

    relays.spawn(by_udp(Arc::new(socket), server));
    relays.spawn(by_tcp(listener, server));
    Ok(())
}

async fn by_udp(socket: Arc<UdpSocket>, server: SocketAddr) {
    let mut buffer = vec![0; 65_535];
    loop {
        let Ok((length, from)) = socket.recv_from(&mut buffer).await else { continue };
        tokio::spawn(pass(socket.clone(), buffer[..length].to_vec(), from, server));
    }
}

async fn pass(socket: Arc<UdpSocket>, question: Vec<u8>, from: SocketAddr, server: SocketAddr) -> Option<()> {
    let way = UdpSocket::bind(("127.0.0.1", 0)).await.ok()?;
    way.connect(server).await.ok()?;
    way.send(&question).await.ok()?;

    let mut reply = vec![0; 65_535];
    let length = timeout(REPLY_LIMIT, way.recv(&mut reply)).await.ok()?.ok()?;
    socket.send_to(&reply[..length], from).await.ok().map(drop)
}

async fn by_tcp(listener: TcpListener, server: SocketAddr) {
    loop {
        let Ok((mut here, _)) = listener.accept().await else { continue };
        tokio::spawn(async move {
            let mut there = TcpStream::connect(server).await?;
            copy_bidirectional(&mut here, &mut there).await
        });
    }
}

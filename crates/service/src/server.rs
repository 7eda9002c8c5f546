//! Serving connections: only so many at once, and none that says nothing for long.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::ConnectInfo;
use axum::extract::connect_info::IntoMakeServiceWithConnectInfo;
use axum::middleware::AddExtension;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use hyper_util::service::TowerToHyperService;
use ipnet::IpNet;
use socket2::{SockRef, TcpKeepalive};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio::time::{sleep, timeout};
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;
use tower::Service;

use crate::peer::is_trusted;
use crate::problem::Refusal;
use crate::throttle::network;
use crate::turns::Turns;

/// What strangers may take of a service by connecting to it.
#[derive(Clone, Copy, Debug)]
pub struct ServerLimits {
    /// Connections at once; whoever comes then waits for one to end.
    pub connections: usize,
    /// Of these, connections of one source; whoever comes then is told so and shut out.
    pub of_one: usize,
    /// Longest that the head of a request may take, or the wait for the next one.
    pub head: Duration,
    /// Keys that open nothing and that one source may try at once; after that, one in three
    /// seconds.
    pub wrong_keys: u32,
}

impl Default for ServerLimits {
    fn default() -> Self {
        Self { connections: 8_192, of_one: 4_096, head: Duration::from_secs(15), wrong_keys: 20 }
    }
}

/// How long what was sent may stay unacknowledged.
const UNACKNOWLEDGED: Duration = Duration::from_secs(30);
/// How often a silent peer is asked whether it is still there.
const ALIVE: Duration = Duration::from_secs(30);
/// What of an answer the system and the service each keep for a reader who does not take it up,
/// in octets; a head is no longer than that either.
const UNREAD: usize = 64 * 1024;
/// Wait where the system gives no connection: there are too many files open.
const NO_ROOM: Duration = Duration::from_millis(100);
/// How long calls may take to end when the service stops.
const GRACE: Duration = Duration::from_secs(10);

/// Serves until `stop` is cancelled, and then what is under way.
pub(crate) async fn serve(
    listener: TcpListener,
    mut calls: IntoMakeServiceWithConnectInfo<Router, SocketAddr>,
    limits: ServerLimits,
    trusted_proxies: Vec<IpNet>,
    tls: Option<TlsAcceptor>,
    stop: CancellationToken,
) {
    // HTTP/2 is a proxy's to speak: telling the two apart would wait for octets without an end.
    let mut builder = Builder::new(TokioExecutor::new()).http1_only();
    builder.http1().timer(TokioTimer::new()).header_read_timeout(limits.head).max_buf_size(UNREAD);
    let builder = Arc::new(builder);

    let room = Arc::new(Semaphore::new(limits.connections));
    let shares = Turns::new("connections", limits.connections, limits.of_one);
    let crowded = Refusal::crowded().unread();
    let ending = GracefulShutdown::new();
    loop {
        let accepted = stop.run_until_cancelled(async {
            let turn = room.clone().acquire_owned().await.ok()?;
            Some((turn, listener.accept().await))
        });
        let (turn, (stream, peer)) = match accepted.await {
            None | Some(None) => break,
            Some(Some((turn, Ok(accepted)))) => (turn, accepted),
            Some(Some((_, Err(error)))) => {
                tracing::debug!(%error, "no connection was taken");
                sleep(NO_ROOM).await;
                continue;
            }
        };
        metrics::gauge!("nomenta_connections").set((limits.connections - room.available_permits()) as f64);
        watch(&stream);

        // Behind a proxy there are many sources.
        let is_proxy = is_trusted(&trusted_proxies, peer.ip());
        let share = (!is_proxy).then(|| shares.take(network(peer.ip())));
        if let Some(None) = share {
            if tls.is_none() {
                let _ = SockRef::from(&stream).send(&crowded);
            }
            continue;
        }

        // It never fails.
        let Ok(call) = calls.call(peer).await;
        let (builder, watcher, tls) = (builder.clone(), ending.watcher(), tls.clone());
        tokio::spawn(async move {
            match tls {
                None => converse(&builder, watcher, stream, call).await,
                // Whoever takes longer to greet than a head may is not waited for.
                Some(tls) => match timeout(limits.head, tls.accept(stream)).await {
                    Ok(Ok(stream)) => converse(&builder, watcher, stream, call).await,
                    Ok(Err(error)) => tracing::trace!(%error, "a connection did not speak TLS"),
                    Err(_) => tracing::trace!("a connection did not greet in time"),
                },
            }
            drop((turn, share));
        });
    }

    drop(listener);
    if timeout(GRACE, ending.shutdown()).await.is_err() {
        tracing::info!("some calls had not ended");
    }
}

/// What answers calls, and knows where they come from.
type Connected = AddExtension<Router, ConnectInfo<SocketAddr>>;

/// Answers the calls of one connection until it ends.
async fn converse<S>(builder: &Builder<TokioExecutor>, watcher: Watcher, stream: S, call: Connected)
where
    S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
{
    let connection = builder.serve_connection(TokioIo::new(stream), TowerToHyperService::new(call));
    if let Err(error) = watcher.watch(connection.into_owned()).await {
        tracing::trace!(%error, "a connection ended early");
    }
}

/// Has the system notice a peer that is gone, and keep little for one that does not read.
fn watch(stream: &TcpStream) {
    let socket = SockRef::from(stream);
    let alive = TcpKeepalive::new().with_time(ALIVE).with_interval(ALIVE);
    // What cannot be set is not kept to.
    let _ = socket.set_tcp_keepalive(&alive);
    let _ = socket.set_tcp_user_timeout(Some(UNACKNOWLEDGED));
    let _ = socket.set_tcp_notsent_lowat(u32::try_from(UNREAD).unwrap_or(u32::MAX));
    let _ = stream.set_nodelay(true);
}

//! A stand-in for the proxy that a DNS operator puts in front of a site: foreign
//! addresses, a certificate of its own, and every request passed on to the edge.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};

use anyhow::Context;
use axum::Router;
use axum::body::Body;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use reqwest::Client;
use reqwest::redirect::Policy;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use tokio::net::TcpListener;
use tokio_util::sync::{CancellationToken, DropGuard};

use crate::Layout;
use crate::layout::EDGE;
use crate::tls::{self, Authority};

/// Where it listens.
pub const FRONT: Ipv4Addr = Ipv4Addr::new(127, 88, 0, 2);

/// Where hosts are passed on to that do not stand at the usual edge.
pub type Origins = Arc<Mutex<HashMap<String, IpAddr>>>;

#[derive(Clone)]
struct Passing {
    secure: bool,
    port: u16,
    origins: Origins,
}

/// A certificate for whatever name is asked for.
pub(crate) struct Minted {
    authority: Authority,
    /// For whoever comes by the address alone.
    usual: &'static str,
    known: Mutex<HashMap<String, Arc<CertifiedKey>>>,
}

impl Minted {
    pub(crate) fn open(layout: &Layout, usual: &'static str) -> anyhow::Result<Self> {
        Ok(Self { authority: Authority::open(layout)?, usual, known: Mutex::default() })
    }
}

impl std::fmt::Debug for Minted {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Minted")
    }
}

impl ResolvesServerCert for Minted {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let name = hello.server_name().unwrap_or(self.usual).to_owned();
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(key) = known.get(&name) {
            return Some(key.clone());
        }

        let pem = self.authority.issue(std::slice::from_ref(&name), 30).ok()?;
        let key = Arc::new(tls::certified(&pem).ok()?);
        known.insert(name, key.clone());
        Some(key)
    }
}

/// Starts it; it ends with the guard.
pub(crate) async fn start(layout: &Layout, origins: &Origins) -> anyhow::Result<DropGuard> {
    let stop = CancellationToken::new();

    let plain = listen(layout.http_port()).await?;
    let passing = Passing { secure: false, port: layout.http_port(), origins: origins.clone() };
    let served = axum::serve(plain, passing.app());
    let ending = stop.clone();
    tokio::spawn(async move { served.with_graceful_shutdown(ending.cancelled_owned()).await });

    let acceptor = tls::server(Arc::new(Minted::open(layout, "proxy.example")?), &[b"http/1.1"])?;
    let secure = listen(layout.https_port()).await?;
    let passing = Passing { secure: true, port: layout.https_port(), origins: origins.clone() };
    tokio::spawn(tls::serve(secure, acceptor, passing.app(), stop.clone()));

    Ok(stop.drop_guard())
}

async fn listen(port: u16) -> anyhow::Result<TcpListener> {
    let address = SocketAddr::from((FRONT, port));
    TcpListener::bind(address).await.with_context(|| format!("The proxy cannot listen on {address}"))
}

impl Passing {
    fn app(self) -> Router {
        Router::new().fallback(pass).with_state(self)
    }
}

async fn pass(State(passing): State<Passing>, headers: HeaderMap, url: Uri) -> Response {
    let host = headers.get(header::HOST).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let name = host.split(':').next().unwrap_or_default();
    match passed(&passing, name, url.path()).await {
        Ok(response) => response,
        Err(error) => (StatusCode::BAD_GATEWAY, error.to_string()).into_response(),
    }
}

async fn passed(passing: &Passing, host: &str, path: &str) -> anyhow::Result<Response> {
    let known = passing.origins.lock().unwrap_or_else(PoisonError::into_inner).get(host).copied();
    let edge = known.unwrap_or(EDGE[0]);

    // The origin's certificate is for whoever runs the proxy to judge.
    let client = Client::builder()
        .redirect(Policy::none())
        .danger_accept_invalid_certs(true)
        .resolve(host, SocketAddr::new(edge, passing.port))
        .build()?;

    let scheme = if passing.secure { "https" } else { "http" };
    let answer = client.get(format!("{scheme}://{host}:{}{path}", passing.port)).send().await?;

    let mut response = Response::builder().status(answer.status());
    if let Some(location) = answer.headers().get(header::LOCATION) {
        response = response.header(header::LOCATION, location);
    }

    Ok(response.body(Body::from(answer.bytes().await?))?)
}

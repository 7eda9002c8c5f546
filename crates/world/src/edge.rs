//! The stand-in for the platform's edge. Plain HTTP answers challenges by
//! asking the service and redirects everything else; TLS picks the certificate
//! by SNI from the edge feed and serves a small page that names the site.

use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use anyhow::Context;
use axum::Router;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::get;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto;
use hyper_util::service::TowerToHyperService;
use reqwest::Client;
use rustls::ServerConfig;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use serde::Deserialize;
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::{CancellationToken, DropGuard};

/// Where an edge listens and whom it asks.
#[derive(Clone, Debug)]
pub struct EdgeConfig {
    /// Its addresses.
    pub addresses: Vec<IpAddr>,
    /// Port of plain HTTP.
    pub http_port: u16,
    /// Port of HTTPS.
    pub https_port: u16,
    /// Base URL of the service.
    pub service: String,
    /// An `edge` key.
    pub key: String,
}

/// A running edge; dropping it ends it.
pub struct Edge {
    shared: Arc<Shared>,
    _stop: DropGuard,
}

struct Shared {
    config: EdgeConfig,
    client: Client,
    routes: RwLock<HashMap<String, String>>,
    certificates: Certificates,
    holding: watch::Sender<bool>,
}

#[derive(Debug, Default)]
struct Certificates {
    by_host: RwLock<HashMap<String, Arc<CertifiedKey>>>,
    withheld: RwLock<HashSet<String>>,
}

#[derive(Deserialize)]
struct Feed {
    routes: Vec<Route>,
    certificates: Vec<Certificate>,
}

#[derive(Deserialize)]
struct Route {
    host: String,
    site: String,
}

#[derive(Deserialize)]
struct Certificate {
    host: String,
    chain_pem: String,
    key_pem: String,
}

impl Edge {
    /// Starts listening at every address, and following the feed.
    ///
    /// # Errors
    /// If an address cannot be listened on.
    pub async fn start(config: EdgeConfig) -> anyhow::Result<Self> {
        let stop = CancellationToken::new();
        let shared = Arc::new(Shared {
            client: Client::builder().timeout(Duration::from_secs(30)).build()?,
            routes: RwLock::default(),
            certificates: Certificates::default(),
            holding: watch::Sender::new(false),
            config,
        });
        for ip in &shared.config.addresses {
            let plain = listen(*ip, shared.config.http_port).await?;
            let secure = listen(*ip, shared.config.https_port).await?;
            tokio::spawn(serve_plain(plain, shared.clone(), stop.clone()));
            tokio::spawn(serve_secure(secure, shared.clone(), stop.clone()));
        }
        tokio::spawn(stop.clone().run_until_cancelled_owned(follow(shared.clone())));
        Ok(Self { shared, _stop: stop.drop_guard() })
    }

    /// While set, challenges wait for their answer: an order stays open.
    pub fn hold_challenges(&self, hold: bool) {
        self.shared.holding.send_replace(hold);
    }

    /// Does not serve a host's certificate, as an edge out of date would.
    pub fn withhold(&self, host: &str) {
        write(&self.shared.certificates.withheld).insert(host.to_owned());
    }
}

fn write<T>(lock: &RwLock<T>) -> std::sync::RwLockWriteGuard<'_, T> {
    lock.write().unwrap_or_else(PoisonError::into_inner)
}

fn read<T>(lock: &RwLock<T>) -> std::sync::RwLockReadGuard<'_, T> {
    lock.read().unwrap_or_else(PoisonError::into_inner)
}

async fn listen(ip: IpAddr, port: u16) -> anyhow::Result<TcpListener> {
    let address = SocketAddr::new(ip, port);
    TcpListener::bind(address).await.with_context(|| format!("The edge cannot listen on {address}"))
}

async fn serve_plain(listener: TcpListener, shared: Arc<Shared>, stop: CancellationToken) {
    let app = Router::new()
        .route("/.well-known/acme-challenge/{token}", get(challenge))
        .fallback(redirect)
        .with_state(shared);
    let served = axum::serve(listener, app).with_graceful_shutdown(stop.cancelled_owned()).await;
    if let Err(error) = served {
        tracing::warn!(%error, "the edge stopped serving HTTP");
    }
}

async fn challenge(State(shared): State<Arc<Shared>>, Path(token): Path<String>) -> Response {
    // Fails only once the edge itself is gone.
    let _ = shared.holding.subscribe().wait_for(|held| !held || token.starts_with("canary-")).await;
    let EdgeConfig { service, key, .. } = &shared.config;
    let asked =
        shared.client.get(format!("{service}/api/v1/edge/challenges/{token}")).bearer_auth(key).send().await;
    match asked.and_then(reqwest::Response::error_for_status) {
        Ok(answer) => answer.text().await.unwrap_or_default().into_response(),
        Err(_) => StatusCode::NOT_FOUND.into_response(),
    }
}

fn host(headers: &HeaderMap) -> String {
    let host = headers.get(header::HOST).and_then(|v| v.to_str().ok()).unwrap_or_default();
    host.split(':').next().unwrap_or_default().to_ascii_lowercase()
}

async fn redirect(State(shared): State<Arc<Shared>>, headers: HeaderMap) -> Response {
    let host = host(&headers);
    if !read(&shared.routes).contains_key(&host) {
        return (StatusCode::NOT_FOUND, "No site here.\n").into_response();
    }
    Redirect::permanent(&format!("https://{host}:{}/", shared.config.https_port)).into_response()
}

async fn serve_secure(listener: TcpListener, shared: Arc<Shared>, stop: CancellationToken) {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let Ok(builder) = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions()
    else {
        return;
    };
    let resolver = Arc::new(BySni(shared.clone()));
    let acceptor = TlsAcceptor::from(Arc::new(builder.with_no_client_auth().with_cert_resolver(resolver)));
    let app = Router::new().fallback(page).with_state(shared);
    while let Some(Ok((stream, _))) = stop.run_until_cancelled(listener.accept()).await {
        let (acceptor, app) = (acceptor.clone(), app.clone());
        tokio::spawn(async move {
            let Ok(stream) = acceptor.accept(stream).await else { return };
            let service = TowerToHyperService::new(app);
            let _ = auto::Builder::new(TokioExecutor::new())
                .serve_connection(TokioIo::new(stream), service)
                .await;
        });
    }
}

async fn page(State(shared): State<Arc<Shared>>, headers: HeaderMap) -> Html<String> {
    let host = host(&headers);
    let site = read(&shared.routes).get(&host).cloned().unwrap_or_default();
    Html(format!("<!doctype html><title>{site}</title><p>{host} shows the site {site}.</p>\n"))
}

struct BySni(Arc<Shared>);

impl std::fmt::Debug for BySni {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("BySni")
    }
}

impl ResolvesServerCert for BySni {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let (name, certificates) = (hello.server_name()?, &self.0.certificates);
        if read(&certificates.withheld).contains(name) {
            return None;
        }
        read(&certificates.by_host).get(name).cloned()
    }
}

/// Follows the feed by long poll, for ever.
async fn follow(shared: Arc<Shared>) {
    let mut etag = String::new();
    loop {
        match poll(&shared, &etag).await {
            Ok(Some(new)) => etag = new,
            Ok(None) => {}
            Err(error) => {
                tracing::debug!(%error, "the edge feed cannot be read");
                tokio::time::sleep(Duration::from_millis(300)).await;
            }
        }
    }
}

async fn poll(shared: &Shared, etag: &str) -> anyhow::Result<Option<String>> {
    let EdgeConfig { service, key, .. } = &shared.config;
    let request = shared.client.get(format!("{service}/api/v1/edge/feed?wait=20")).bearer_auth(key);
    let response = request.header(header::IF_NONE_MATCH, etag).send().await?.error_for_status()?;
    if response.status() == StatusCode::NOT_MODIFIED {
        return Ok(None);
    }
    let new =
        response.headers().get(header::ETAG).and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
    let feed: Feed = response.json().await?;
    let certified = feed.certificates.iter().map(|c| Ok((c.host.clone(), Arc::new(certify(c)?))));
    let certified = certified.collect::<anyhow::Result<_>>()?;
    *write(&shared.certificates.by_host) = certified;
    *write(&shared.routes) = feed.routes.into_iter().map(|r| (r.host, r.site)).collect();
    Ok(Some(new))
}

fn certify(certificate: &Certificate) -> anyhow::Result<CertifiedKey> {
    let chain =
        CertificateDer::pem_slice_iter(certificate.chain_pem.as_bytes()).collect::<Result<Vec<_>, _>>()?;
    let key = PrivateKeyDer::from_pem_slice(certificate.key_pem.as_bytes())?;
    Ok(CertifiedKey::new(chain, rustls::crypto::ring::sign::any_supported_type(&key)?))
}

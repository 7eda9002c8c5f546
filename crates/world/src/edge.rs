//! The stand-in for the platform's edge. Plain HTTP answers challenges by
//! asking the service and redirects everything else; TLS picks the certificate
//! by SNI from what the edge feed says, and serves a small page that names the
//! site.

use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use anyhow::Context;
use axum::Router;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderName, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::get;
use eventsource_stream::Eventsource;
use futures::StreamExt;
use reqwest::Client;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use serde::Deserialize;
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio::time::{Instant, sleep};
use tokio_util::sync::{CancellationToken, DropGuard};

use crate::tls;

/// How long to wait before the service is asked again that did not answer.
const AGAIN: Duration = Duration::from_millis(200);
/// How long a CA is kept waiting for an answer that is not to be had; a little less than it waits.
const CHALLENGE_PATIENCE: Duration = Duration::from_secs(4);

const ROBOTS: HeaderName = HeaderName::from_static("x-robots-tag");
const ACME_TLS: &[u8] = b"acme-tls/1";

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
    /// The platform's own certificate, for its default hosts.
    pub own: Option<tls::Pem>,
}

/// A running edge; dropping it ends it.
pub struct Edge {
    shared: Arc<Shared>,
    _stop: DropGuard,
}

struct Shared {
    config: EdgeConfig,
    client: Client,
    known: RwLock<Known>,
    own: Option<Arc<CertifiedKey>>,
    withheld: RwLock<HashSet<String>>,
    mistaken: RwLock<HashMap<String, String>>,
    holding: watch::Sender<bool>,
    listed: watch::Sender<bool>,
    /// Number of the latest change that was taken in.
    position: watch::Sender<i64>,
}

/// What the feed has told.
#[derive(Default)]
struct Known {
    routes: HashMap<String, Route>,
    certificates: HashMap<String, Arc<CertifiedKey>>,
    challenges: HashMap<String, Arc<CertifiedKey>>,
}

#[derive(Deserialize)]
struct Feed {
    position: i64,
    routes: Vec<Route>,
    certificates: Vec<Certificate>,
    challenges: Vec<Certificate>,
}

#[derive(Deserialize)]
struct Change {
    host: String,
    route: Option<Route>,
    certificate: Option<Certificate>,
    challenge: Option<Certificate>,
}

#[derive(Clone, Deserialize)]
struct Route {
    host: String,
    site: String,
    entry_path: String,
    redirect_to: Option<String>,
    default_host: String,
    is_staged: bool,
    noindex: bool,
}

#[derive(Deserialize)]
struct Certificate {
    host: String,
    chain_pem: String,
    key_pem: String,
}

impl Known {
    /// The entry for a name: its own, or that of the wildcard above it.
    fn find<'a, T>(map: &'a HashMap<String, T>, host: &str) -> Option<&'a T> {
        map.get(host).or_else(|| map.get(&format!("*.{}", host.split_once('.')?.1)))
    }

    fn take(&mut self, change: Change) -> anyhow::Result<()> {
        let Change { host, route, certificate, challenge } = change;
        put(&mut self.certificates, &host, certificate.map(certify).transpose()?);
        put(&mut self.challenges, &host, challenge.map(certify).transpose()?);
        put(&mut self.routes, &host, route);

        Ok(())
    }
}

fn put<T>(map: &mut HashMap<String, T>, host: &str, value: Option<T>) {
    match value {
        Some(value) => drop(map.insert(host.to_owned(), value)),
        None => drop(map.remove(host)),
    }
}

impl TryFrom<Feed> for Known {
    type Error = anyhow::Error;

    fn try_from(feed: Feed) -> anyhow::Result<Self> {
        Ok(Self {
            routes: feed.routes.into_iter().map(|route| (route.host.clone(), route)).collect(),
            certificates: by_host(feed.certificates)?,
            challenges: by_host(feed.challenges)?,
        })
    }
}

fn by_host(certificates: Vec<Certificate>) -> anyhow::Result<HashMap<String, Arc<CertifiedKey>>> {
    let certified = certificates.into_iter().map(|one| Ok((one.host.clone(), certify(one)?)));
    certified.collect()
}

fn certify(certificate: Certificate) -> anyhow::Result<Arc<CertifiedKey>> {
    let Certificate { chain_pem: chain, key_pem: key, .. } = certificate;
    Ok(Arc::new(tls::certified(&tls::Pem { chain, key })?))
}

impl Edge {
    /// Starts listening at every address, and following the feed.
    ///
    /// # Errors
    /// If an address cannot be listened on.
    pub async fn start(config: EdgeConfig) -> anyhow::Result<Self> {
        let stop = CancellationToken::new();
        let own = config.own.as_ref().map(tls::certified).transpose()?.map(Arc::new);
        let shared = Arc::new(Shared {
            client: Client::builder().build()?,
            known: RwLock::default(),
            own,
            withheld: RwLock::default(),
            mistaken: RwLock::default(),
            holding: watch::Sender::new(false),
            listed: watch::Sender::new(false),
            position: watch::Sender::new(-1),
            config,
        });

        for ip in &shared.config.addresses {
            let plain = listen(*ip, shared.config.http_port).await?;
            let secure = listen(*ip, shared.config.https_port).await?;
            tokio::spawn(serve_plain(plain, shared.clone(), stop.clone()));

            let resolver = Arc::new(BySni(shared.clone()));
            let server = tls::server(resolver, &[b"http/1.1", ACME_TLS])?;
            let app = Router::new().fallback(page).with_state(shared.clone());
            tokio::spawn(tls::serve(secure, server, app, stop.clone()));
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
        write(&self.shared.withheld).insert(host.to_owned());
    }

    /// Serves another host's certificate for a host, or its own again.
    pub fn mistake(&self, host: &str, for_other: &str) {
        write(&self.shared.mistaken).insert(host.to_owned(), for_other.to_owned());
    }

    /// While set, default hosts do not ask search engines to leave them out.
    pub fn list_default_hosts(&self, listed: bool) {
        self.shared.listed.send_replace(listed);
    }

    /// Number of the latest change that was taken in; changes with it.
    pub fn position(&self) -> watch::Receiver<i64> {
        self.shared.position.subscribe()
    }

    /// Whether it has a route for a host.
    pub fn routes(&self, host: &str) -> bool {
        read(&self.shared.known).routes.contains_key(host)
    }

    /// How many routes it has.
    pub fn route_count(&self) -> usize {
        read(&self.shared.known).routes.len()
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

    // The CA comes once: while the service has no records to look in, it is asked again.
    let until = Instant::now() + CHALLENGE_PATIENCE;
    loop {
        match answer_to(&shared, &token).await {
            Ok(answer) if answer.status().is_success() => {
                return answer.text().await.unwrap_or_default().into_response();
            }
            Ok(answer) if !answer.status().is_server_error() => break,
            _ if Instant::now() > until => break,
            _ => sleep(AGAIN).await,
        }
    }
    StatusCode::NOT_FOUND.into_response()
}

async fn answer_to(shared: &Shared, token: &str) -> reqwest::Result<reqwest::Response> {
    let EdgeConfig { service, key, .. } = &shared.config;
    shared.client.get(format!("{service}/api/v1/edge/challenges/{token}")).bearer_auth(key).send().await
}

fn host(headers: &HeaderMap) -> String {
    let host = headers.get(header::HOST).and_then(|v| v.to_str().ok()).unwrap_or_default();
    host.split(':').next().unwrap_or_default().to_ascii_lowercase()
}

impl Shared {
    fn route(&self, host: &str) -> Option<Route> {
        Known::find(&read(&self.known).routes, host).cloned()
    }

    fn secure(&self, host: &str, path: &str) -> Response {
        Redirect::permanent(&format!("https://{host}:{}{path}", self.config.https_port)).into_response()
    }
}

fn nothing() -> Response {
    (StatusCode::NOT_FOUND, "No site here.\n").into_response()
}

async fn redirect(State(shared): State<Arc<Shared>>, headers: HeaderMap) -> Response {
    let host = host(&headers);
    let Some(route) = shared.route(&host) else { return nothing() };
    shared.secure(route.redirect_to.as_deref().unwrap_or(&host), "/")
}

async fn page(State(shared): State<Arc<Shared>>, headers: HeaderMap, url: axum::http::Uri) -> Response {
    let host = host(&headers);
    let Some(route) = shared.route(&host) else { return nothing() };
    if let Some(primary) = &route.redirect_to {
        return shared.secure(primary, url.path());
    }

    if route.is_staged {
        let staged = format!("https://{}:{}{}", route.default_host, shared.config.https_port, url.path());
        return Redirect::temporary(&staged).into_response();
    }

    if url.path() == "/" && route.entry_path != "/" {
        return shared.secure(&host, &route.entry_path);
    }

    let site = &route.site;
    let page = Html(format!("<!doctype html><title>{site}</title><p>{host} shows the site {site}.</p>\n"));
    if route.noindex && !*shared.listed.borrow() {
        return ([(ROBOTS, "noindex")], page).into_response();
    }
    page.into_response()
}

struct BySni(Arc<Shared>);

impl std::fmt::Debug for BySni {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("BySni")
    }
}

impl ResolvesServerCert for BySni {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        let name = hello.server_name()?.to_owned();
        let known = read(&self.0.known);
        if hello.alpn().is_some_and(|mut offered| offered.any(|protocol| protocol == ACME_TLS)) {
            return known.challenges.get(&name).cloned();
        }

        if read(&self.0.withheld).contains(&name) {
            return None;
        }

        if known.routes.get(&name).is_some_and(|route| route.noindex) {
            return self.0.own.clone();
        }

        let name = read(&self.0.mistaken).get(&name).cloned().unwrap_or(name);
        Known::find(&known.certificates, &name).cloned()
    }
}

/// Reads the feed whole, then follows its changes; for ever.
async fn follow(shared: Arc<Shared>) {
    loop {
        let followed = async {
            let after = snapshot(&shared).await?;
            changes(&shared, after).await
        };

        if let Err(error) = followed.await {
            tracing::debug!(%error, "the edge feed cannot be read");
        }
        sleep(AGAIN).await;
    }
}

async fn snapshot(shared: &Shared) -> anyhow::Result<i64> {
    let EdgeConfig { service, key, .. } = &shared.config;
    let asked = shared.client.get(format!("{service}/api/v1/edge/feed")).bearer_auth(key).send();
    let feed: Feed = asked.await?.error_for_status()?.json().await?;

    let position = feed.position;
    *write(&shared.known) = Known::try_from(feed)?;
    shared.position.send_replace(position);

    Ok(position)
}

/// Follows the changes; comes back where it was when the stream breaks, and
/// returns when the feed is to be read whole again.
async fn changes(shared: &Shared, mut after: i64) -> anyhow::Result<()> {
    let EdgeConfig { service, key, .. } = &shared.config;
    loop {
        let url = format!("{service}/api/v1/edge/changes");
        let asked = shared.client.get(url).bearer_auth(key).header("last-event-id", after.to_string()).send();
        let Ok(response) = asked.await.and_then(reqwest::Response::error_for_status) else {
            sleep(AGAIN).await;
            continue;
        };

        let mut events = response.bytes_stream().eventsource();
        while let Some(Ok(event)) = events.next().await {
            if event.event == "reset" {
                return Ok(());
            }

            write(&shared.known).take(serde_json::from_str(&event.data)?)?;
            after = event.id.parse()?;
            shared.position.send_replace(after);
        }

        sleep(AGAIN).await;
    }
}

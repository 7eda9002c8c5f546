//! In front of Pebble, for what the CA of this world cannot do by itself: advice
//! on renewal (RFC 9773), and asking for patience. Everything else is passed on.

use std::collections::HashMap;
use std::convert::Infallible;
use std::fs;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use anyhow::Context;
use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::{Path, State};
use axum::http::{HeaderMap, Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use chrono::{DateTime, Duration, SecondsFormat, Utc};
use data_encoding::BASE64URL_NOPAD;
use futures::{StreamExt, stream};
use reqwest::Client;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio_util::sync::{CancellationToken, DropGuard};

use crate::Layout;
use crate::pebble;
use crate::tls;

/// A running front; dropping it ends it.
pub struct IssuerFront {
    shared: Arc<Shared>,
    port: u16,
    _stop: DropGuard,
}

struct Shared {
    client: Client,
    upstream: String,
    state: Mutex<Told>,
    hanging: watch::Sender<bool>,
    breaking_off: AtomicBool,
}

/// What the test has told it, and what it has seen.
#[derive(Default)]
struct Told {
    windows: HashMap<String, (DateTime<Utc>, DateTime<Utc>)>,
    turning_away: Option<(StatusCode, u64)>,
    turned_away: usize,
    replaced: Vec<String>,
    asked: HashMap<String, usize>,
    under_way: usize,
    most_at_once: usize,
}

#[derive(Debug)]
struct One(Arc<CertifiedKey>);

impl ResolvesServerCert for One {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.0.clone())
    }
}

impl IssuerFront {
    /// Starts it at `port`, in front of the CA whose directory is `upstream`.
    ///
    /// # Errors
    /// If the port is busy.
    pub async fn start(layout: &Layout, port: u16, upstream: &str) -> anyhow::Result<Self> {
        let address = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
        let listener = TcpListener::bind(address).await.with_context(|| format!("{address} is busy"))?;

        let pem = tls::Pem {
            chain: fs::read_to_string(layout.directory_root())?,
            key: fs::read_to_string(layout.state.join("pebble/tls.key"))?,
        };

        let shared = Arc::new(Shared {
            client: pebble::client(&layout.directory_root())?,
            upstream: upstream.trim_end_matches("/dir").to_owned(),
            state: Mutex::default(),
            hanging: watch::Sender::new(false),
            breaking_off: AtomicBool::new(false),
        });

        let app = Router::new()
            .route("/renewal-info/{certificate}", get(renewal_info))
            .fallback(pass)
            .with_state(shared.clone());

        let stop = CancellationToken::new();
        let acceptor = tls::server(Arc::new(One(Arc::new(tls::certified(&pem)?))), &[b"http/1.1"])?;
        tokio::spawn(tls::serve(listener, acceptor, app, stop.clone()));
        Ok(Self { shared, port, _stop: stop.drop_guard() })
    }

    /// URL of the directory.
    pub fn directory(&self) -> String {
        format!("https://127.0.0.1:{}/dir", self.port)
    }

    /// Advises renewal of every certificate that was asked about so far within
    /// a window, from now on.
    pub fn advise(&self, start: DateTime<Utc>, end: DateTime<Utc>) {
        let mut told = self.shared.told();
        let asked: Vec<_> = told.asked.keys().cloned().collect();
        told.windows.extend(asked.into_iter().map(|certificate| (certificate, (start, end))));
    }

    /// Answers orders with 429 and so many seconds of `Retry-After`, or not any
    /// more.
    pub fn throttle(&self, seconds: Option<u64>) {
        self.shared.told().turning_away = seconds.map(|s| (StatusCode::TOO_MANY_REQUESTS, s));
    }

    /// Answers orders with 503, a page for people and so many seconds of
    /// `Retry-After`, or not any more.
    pub fn overload(&self, seconds: Option<u64>) {
        self.shared.told().turning_away = seconds.map(|s| (StatusCode::SERVICE_UNAVAILABLE, s));
    }

    /// Takes calls and answers none of them, or answers again.
    pub fn hang(&self, hanging: bool) {
        self.shared.hanging.send_replace(hanging);
    }

    /// Has calls done, and says no more than half of each answer, as a connection does that is cut;
    /// or says all of it again.
    pub fn break_off(&self, breaking_off: bool) {
        self.shared.breaking_off.store(breaking_off, Ordering::Relaxed);
    }

    /// The most calls that were under way at once.
    pub fn most_at_once(&self) -> usize {
        self.shared.told().most_at_once
    }

    /// How many orders were turned away.
    pub fn turned_away(&self) -> usize {
        self.shared.told().turned_away
    }

    /// Certificates that orders said they replace.
    pub fn replaced(&self) -> Vec<String> {
        self.shared.told().replaced.clone()
    }

    /// How often advice was asked for, over all certificates.
    pub fn asked(&self) -> usize {
        self.shared.told().asked.values().sum()
    }
}

impl Told {
    /// The answer to an order that is not wanted now.
    fn turn_away(&mut self) -> Option<Response> {
        let (status, seconds) = self.turning_away?;
        self.turned_away += 1;
        Some(match status {
            StatusCode::TOO_MANY_REQUESTS => throttled(seconds),
            _ => (status, [(header::RETRY_AFTER, seconds.to_string())], "<h1>Busy</h1>").into_response(),
        })
    }
}

impl Shared {
    fn told(&self) -> std::sync::MutexGuard<'_, Told> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

async fn renewal_info(State(shared): State<Arc<Shared>>, Path(certificate): Path<String>) -> Response {
    let mut told = shared.told();
    let far = Utc::now() + Duration::days(50);
    let (start, end) = told.windows.get(&certificate).copied().unwrap_or((far, far + Duration::days(2)));
    *told.asked.entry(certificate).or_default() += 1;

    let window = [start, end].map(|at| at.to_rfc3339_opts(SecondsFormat::Secs, true));
    let body = json!({ "suggestedWindow": { "start": window[0], "end": window[1] } });

    ([(header::RETRY_AFTER, "1")], axum::Json(body)).into_response()
}

/// A call under way, counted until it is dropped.
struct Call(Arc<Shared>);

impl Call {
    fn enter(shared: &Arc<Shared>) -> Self {
        let mut told = shared.told();
        told.under_way += 1;
        told.most_at_once = told.most_at_once.max(told.under_way);
        Self(shared.clone())
    }
}

impl Drop for Call {
    fn drop(&mut self) {
        self.0.told().under_way -= 1;
    }
}

async fn pass(
    State(shared): State<Arc<Shared>>,
    method: Method,
    url: Uri,
    headers: HeaderMap,
    body: Bytes,
) -> Response {
    let _call = Call::enter(&shared);
    // Fails only if the sender is gone, and it is in `shared`.
    let _ = shared.hanging.subscribe().wait_for(|hanging| !*hanging).await;

    match passed(&shared, method, &url, &headers, body).await {
        Ok(response) if shared.breaking_off.load(Ordering::Relaxed) => broken_off(response).await,
        Ok(response) => response,
        Err(error) => (StatusCode::BAD_GATEWAY, error.to_string()).into_response(),
    }
}

async fn passed(
    shared: &Shared,
    method: Method,
    url: &Uri,
    headers: &HeaderMap,
    body: Bytes,
) -> anyhow::Result<Response> {
    let orders = url.path() == "/order-plz";
    if orders && let Some(answer) = shared.told().turn_away() {
        return Ok(answer);
    }

    let replaces = if orders { replaces(&body) } else { None };

    let mut request = shared.client.request(method, format!("{}{}", shared.upstream, url.path()));
    for name in [header::HOST, header::CONTENT_TYPE, header::USER_AGENT] {
        if let Some(value) = headers.get(&name) {
            request = request.header(name, value);
        }
    }

    let answer = request.body(body).send().await?;
    let mut response = Response::builder().status(answer.status());
    for (name, value) in answer.headers() {
        if !matches!(*name, header::TRANSFER_ENCODING | header::CONTENT_LENGTH | header::CONNECTION) {
            response = response.header(name, value);
        }
    }

    let good = answer.status().is_success();
    let bytes = answer.bytes().await?;

    let mut added = None;
    if url.path() == "/dir" {
        let host = headers.get(header::HOST).and_then(|v| v.to_str().ok()).unwrap_or_default();
        added = Some(("renewalInfo", format!("https://{host}/renewal-info")));
    } else if let Some(certificate) = replaces.filter(|_| good) {
        shared.told().replaced.push(certificate.clone());
        added = Some(("replaces", certificate));
    }

    let Some((field, value)) = added else { return Ok(response.body(Body::from(bytes))?) };

    let mut document: Value = serde_json::from_slice(&bytes)?;
    document[field] = json!(value);
    Ok(response.body(Body::from(document.to_string()))?)
}

/// Half of an answer, and nothing more.
async fn broken_off(response: Response) -> Response {
    let (parts, body) = response.into_parts();
    let whole = axum::body::to_bytes(body, usize::MAX).await.unwrap_or_default();
    let half = Ok::<_, Infallible>(whole.slice(..whole.len() / 2));
    Response::from_parts(parts, Body::from_stream(stream::iter([half]).chain(stream::pending())))
}

/// The certificate that an order says it replaces (RFC 9773, section 5).
fn replaces(body: &[u8]) -> Option<String> {
    let signed: Value = serde_json::from_slice(body).ok()?;
    let payload = BASE64URL_NOPAD.decode(signed["payload"].as_str()?.as_bytes()).ok()?;
    let order: Value = serde_json::from_slice(&payload).ok()?;
    order["replaces"].as_str().map(str::to_owned)
}

fn throttled(seconds: u64) -> Response {
    let problem = json!({
        "type": "urn:ietf:params:acme:error:rateLimited", "status": 429,
        "detail": "Too many orders were placed with this account",
    });

    let headers = [
        (header::RETRY_AFTER, seconds.to_string()),
        (header::CONTENT_TYPE, "application/problem+json".to_owned()),
    ];

    (StatusCode::TOO_MANY_REQUESTS, headers, problem.to_string()).into_response()
}

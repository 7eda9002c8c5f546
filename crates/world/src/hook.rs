//! A system of the platform that is called when something happens, and that may fail, hang up or
//! say nothing.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::Router;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::routing::post;
use serde_json::Value;
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio::time::{sleep, timeout};
use tokio_util::sync::{CancellationToken, DropGuard};

/// Longer than anybody waits.
const SILENCE: Duration = Duration::from_secs(30);

/// How it answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manner {
    /// It takes everything.
    Takes,
    /// It answers 500.
    Fails,
    /// It sends callers elsewhere.
    Redirects,
    /// One in twenty is met by silence, three in twenty by 500; it loses the answer to one that
    /// it took.
    Mixed,
}

/// A call that it took.
#[derive(Clone, Debug)]
pub struct Call {
    /// Headers, by their names in small letters.
    pub headers: HashMap<String, String>,
    /// The body, as it came.
    pub body: String,
}

impl Call {
    /// The event.
    ///
    /// # Panics
    /// If the body is no JSON: callers promise that it is.
    pub fn event(&self) -> Value {
        serde_json::from_str(&self.body).expect("an event")
    }
}

/// The system.
#[derive(Clone)]
pub struct Hook {
    address: SocketAddr,
    calls: Arc<watch::Sender<Vec<Call>>>,
    manner: Arc<Mutex<Manner>>,
}

impl Hook {
    /// Starts it at a free port of `127.0.0.1`; it ends with the guard.
    ///
    /// # Errors
    /// If there is none.
    pub async fn start(manner: Manner) -> anyhow::Result<(Self, DropGuard)> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let hook = Self {
            address: listener.local_addr()?,
            calls: Arc::default(),
            manner: Arc::new(Mutex::new(manner)),
        };
        let app = Router::new().route("/hook", post(called)).with_state(hook.clone());
        let stop = CancellationToken::new();
        let stopped = stop.clone().cancelled_owned();
        tokio::spawn(async move { axum::serve(listener, app).with_graceful_shutdown(stopped).await });
        Ok((hook, stop.drop_guard()))
    }

    /// Where it is called.
    pub fn url(&self) -> String {
        format!("http://{}/hook", self.address)
    }

    /// Answers in this manner from now on.
    pub fn be(&self, manner: Manner) {
        *self.manner.lock().unwrap_or_else(PoisonError::into_inner) = manner;
    }

    /// What it took so far, in order.
    pub fn calls(&self) -> Vec<Call> {
        self.calls.borrow().clone()
    }

    /// Waits until it has taken what is wanted.
    ///
    /// # Errors
    /// If it does not within `within`.
    pub async fn wait(
        &self,
        within: Duration,
        is_wanted: impl Fn(&[Call]) -> bool,
    ) -> anyhow::Result<Vec<Call>> {
        let mut calls = self.calls.subscribe();
        match timeout(within, calls.wait_for(|calls| is_wanted(calls))).await {
            Ok(calls) => Ok(calls?.clone()),
            Err(_) => anyhow::bail!("It has taken {} calls, and not what was wanted", self.calls().len()),
        }
    }
}

async fn called(State(hook): State<Hook>, headers: HeaderMap, body: Bytes) -> Result<StatusCode, StatusCode> {
    let manner = *hook.manner.lock().unwrap_or_else(PoisonError::into_inner);
    let turn: u32 = rand::random_range(0..20);
    match manner {
        Manner::Fails => return Err(StatusCode::INTERNAL_SERVER_ERROR),
        Manner::Redirects => return Err(StatusCode::TEMPORARY_REDIRECT),
        Manner::Mixed if turn == 0 => {
            sleep(SILENCE).await;
            return Err(StatusCode::SERVICE_UNAVAILABLE);
        }
        Manner::Mixed if turn < 4 => return Err(StatusCode::INTERNAL_SERVER_ERROR),
        Manner::Takes | Manner::Mixed => {}
    }

    let text = |value: &axum::http::HeaderValue| value.to_str().unwrap_or_default().to_owned();
    let headers = headers.iter().map(|(name, value)| (name.as_str().to_owned(), text(value))).collect();
    let call = Call { headers, body: String::from_utf8_lossy(&body).into_owned() };
    hook.calls.send_modify(|calls| calls.push(call));
    match manner {
        Manner::Mixed if turn == 4 => Err(StatusCode::BAD_GATEWAY),
        _ => Ok(StatusCode::NO_CONTENT),
    }
}

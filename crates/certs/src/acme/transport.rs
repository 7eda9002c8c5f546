//! How the CA is reached: TLS under a bundle of roots, so many calls at once
//! and no more, each with a limit in time, and an ear for `Retry-After`
//! (RFC 8555, section 6.6).

use std::error::Error as StdError;
use std::future::Future;
use std::path::Path;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use bytes::Bytes;
use chrono::{DateTime, TimeDelta, Utc};
use http_body_util::{BodyExt, Limited};
use hyper::{Request, Response, StatusCode, header};
use hyper_rustls::HttpsConnectorBuilder;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::TokioExecutor;
use instant_acme::{BodyWrapper, BytesResponse, Error, HttpClient};
use rustls::{ClientConfig, RootCertStore};
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;
use thiserror::Error as ThisError;
use tokio::sync::Semaphore;
use tokio::time::timeout;

type Https = hyper_rustls::HttpsConnector<HttpConnector>;
type Sender = Client<Https, BodyWrapper<Bytes>>;

/// Most octets of one answer: a chain of a few certificates takes 10 kB.
const LARGEST_ANSWER: usize = 1 << 20;

/// How much one directory is asked for, and how long it may take.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CallLimits {
    /// Longest time from sending one request to the end of its answer, and
    /// longest wait for a turn before it.
    pub time: Duration,
    /// Requests under way at once from this process.
    pub at_once: usize,
}

impl Default for CallLimits {
    /// What a public CA would be glad of: an order takes about ten calls, each
    /// of which it answers within a second or two.
    fn default() -> Self {
        Self { time: Duration::from_secs(20), at_once: 6 }
    }
}

/// Why there is no answer that says anything about an account or an order.
#[derive(Debug, ThisError)]
pub enum TransportError {
    /// The connection could not be made, or broke.
    #[error("the connection failed: {0}")]
    Connection(#[from] hyper_util::client::legacy::Error),
    /// The answer broke off, or was longer than any answer is.
    #[error("the answer could not be read: {0}")]
    Answer(#[source] Box<dyn StdError + Send + Sync>),
    /// It did not answer in time.
    #[error("it did not answer within {} s", .0.as_secs())]
    TooSlow(Duration),
    /// Other calls took all turns for as long as one may wait for a turn.
    #[error("all calls that may be made at once were under way for {} s", .0.as_secs())]
    NoTurn(Duration),
    /// A proxy in front of the CA answers with a page of its own.
    #[error("it answers {0}")]
    Page(StatusCode),
    /// The bundle of roots cannot be used.
    #[error("the roots in {path}: {cause}")]
    Roots {
        /// The bundle.
        path: String,
        /// What is wrong with it.
        cause: Box<dyn StdError + Send + Sync>,
    },
}

impl From<TransportError> for Error {
    fn from(error: TransportError) -> Self {
        Self::Other(Box::new(error))
    }
}

/// The latest moment before which the CA does not want to be asked again.
#[derive(Clone, Debug, Default)]
pub(super) struct RetryAfter(Arc<Mutex<Option<DateTime<Utc>>>>);

impl RetryAfter {
    /// The moment, if it lies ahead.
    pub(super) fn until(&self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).filter(|until| *until > now)
    }

    fn note<B>(&self, response: &Response<B>) {
        if !matches!(response.status(), StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE) {
            return;
        }

        let value = response.headers().get(header::RETRY_AFTER).and_then(|v| v.to_str().ok());
        if let Some(until) = value.and_then(|v| moment(v, Utc::now())) {
            *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(until);
        }
    }
}

/// Longest that a CA is left alone, whatever it says: it may have meant something else, and
/// whoever asks once a day hears it again.
pub(super) const LONGEST_WAIT: TimeDelta = TimeDelta::days(1);

/// Reads seconds or a date (RFC 9110, section 10.2.3).
fn moment(value: &str, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
    let value = value.trim();
    let latest = now + LONGEST_WAIT;
    if !value.is_empty() && value.bytes().all(|octet| octet.is_ascii_digit()) {
        let seconds = value.parse().ok().and_then(TimeDelta::try_seconds);
        return Some(seconds.map_or(latest, |seconds| now + seconds.min(LONGEST_WAIT)));
    }
    DateTime::parse_from_rfc2822(value).ok().map(|at| at.to_utc().min(latest))
}

/// What all calls to one directory have in common.
#[derive(Clone, Debug)]
pub(super) struct Calls {
    turns: Arc<Semaphore>,
    limits: CallLimits,
    pub retry_after: RetryAfter,
}

impl Calls {
    pub(super) fn new(limits: CallLimits) -> Self {
        let turns = Arc::new(Semaphore::new(limits.at_once.max(1)));
        Self { turns, limits, retry_after: RetryAfter::default() }
    }

    /// Makes one call when it is its turn. The answer is read to its end here,
    /// so that a CA that stops in the middle of one keeps no turn either.
    async fn make(
        self,
        client: Sender,
        request: Request<BodyWrapper<Bytes>>,
    ) -> Result<BytesResponse, Error> {
        let limit = self.limits.time;
        let Ok(turn) = timeout(limit, self.turns.acquire()).await else {
            count("no turn");
            return Err(TransportError::NoTurn(limit).into());
        };

        metrics::gauge!("nomenta_ca_calls_under_way").increment(1.0);
        let answered = timeout(limit, self.answer(&client, request)).await;
        metrics::gauge!("nomenta_ca_calls_under_way").decrement(1.0);
        drop(turn);

        let answered = answered.unwrap_or(Err(TransportError::TooSlow(limit)));
        count(match &answered {
            Ok(_) => "answered",
            Err(TransportError::TooSlow(_)) => "too slow",
            Err(_) => "failed",
        });
        answered.map_err(Error::from)
    }

    async fn answer(
        &self,
        client: &Sender,
        request: Request<BodyWrapper<Bytes>>,
    ) -> Result<BytesResponse, TransportError> {
        let response = client.request(request).await?;
        self.retry_after.note(&response);
        speaks_acme(&response)?;

        let (parts, body) = response.into_parts();
        let body = Limited::new(body, LARGEST_ANSWER).collect().await.map_err(TransportError::Answer)?;
        Ok(BytesResponse { parts, body: Box::new(body.to_bytes()) })
    }
}

fn count(result: &'static str) {
    metrics::counter!("nomenta_ca_calls_total", "result" => result).increment(1);
}

/// A proxy in front of the CA that answers with a page of its own says nothing
/// about an account or an order.
fn speaks_acme<B>(response: &Response<B>) -> Result<(), TransportError> {
    let kind = response.headers().get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok());
    let is_page = !kind.unwrap_or_default().contains("json");

    if response.status().is_server_error() && is_page {
        return Err(TransportError::Page(response.status()));
    }
    Ok(())
}

/// The client that the ACME package sends through.
pub(super) struct Transport {
    client: Sender,
    calls: Calls,
}

impl Transport {
    /// A client that trusts the roots in a PEM bundle.
    pub(super) fn new(bundle: &Path, calls: Calls) -> Result<Self, TransportError> {
        let tls = tls(bundle)
            .map_err(|cause| TransportError::Roots { path: bundle.display().to_string(), cause })?;

        let https = HttpsConnectorBuilder::new().with_tls_config(tls);
        let https = https.https_only().enable_http1().enable_http2().build();
        let client = Client::builder(TokioExecutor::new()).build(https);
        Ok(Self { client, calls })
    }
}

fn tls(bundle: &Path) -> Result<ClientConfig, Box<dyn StdError + Send + Sync>> {
    let mut roots = RootCertStore::empty();
    for root in CertificateDer::pem_file_iter(bundle)? {
        roots.add(root?)?;
    }

    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let tls = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    Ok(tls.with_root_certificates(roots).with_no_client_auth())
}

impl HttpClient for Transport {
    fn request(
        &self,
        request: Request<BodyWrapper<Bytes>>,
    ) -> Pin<Box<dyn Future<Output = Result<BytesResponse, Error>> + Send>> {
        Box::pin(self.calls.clone().make(self.client.clone(), request))
    }
}

/// A moment of the system's clock.
pub(super) fn instant(at: impl Into<SystemTime>) -> DateTime<Utc> {
    at.into().into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn retry_after_is_given_in_seconds_or_as_a_date() {
        let now = DateTime::from_timestamp(1_790_000_000, 0).expect("in range");
        assert_eq!(moment("90", now), Some(now + TimeDelta::seconds(90)));
        assert_eq!(moment("-5", now), None);

        let date = moment("Mon, 21 Sep 2026 14:13:20 GMT", now).expect("a date");
        assert_eq!(date, now);
        assert_eq!(moment("soon", now), None);
        for far in ["99999999", "99999999999999999999999", "Mon, 21 Sep 2099 14:13:20 GMT"] {
            assert_eq!(moment(far, now), Some(now + LONGEST_WAIT), "{far}");
        }
    }
}

//! How the CA is reached: TLS under a bundle of roots, and an ear for
//! `Retry-After` (RFC 8555, section 6.6).

use std::future::Future;
use std::path::Path;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::SystemTime;

use bytes::Bytes;
use chrono::{DateTime, Duration, Utc};
use hyper::{Request, StatusCode, header};
use hyper_rustls::HttpsConnectorBuilder;
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::rt::TokioExecutor;
use instant_acme::{BodyWrapper, BytesResponse, Error, HttpClient};
use rustls::{ClientConfig, RootCertStore};
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;

type Https = hyper_rustls::HttpsConnector<HttpConnector>;

/// The latest moment before which the CA does not want to be asked again.
#[derive(Clone, Debug, Default)]
pub(crate) struct Patience(Arc<Mutex<Option<DateTime<Utc>>>>);

impl Patience {
    /// The moment, if it lies ahead.
    pub fn until(&self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).filter(|until| *until > now)
    }

    fn note(&self, response: &BytesResponse) {
        let throttled =
            matches!(response.parts.status, StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE);
        let value = response.parts.headers.get(header::RETRY_AFTER).and_then(|v| v.to_str().ok());
        if let (true, Some(until)) = (throttled, value.and_then(|v| moment(v, Utc::now()))) {
            *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(until);
        }
    }
}

/// Reads seconds or a date (RFC 9110, section 10.2.3).
fn moment(value: &str, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
    match value.trim().parse::<i64>() {
        Ok(seconds) => now.checked_add_signed(Duration::try_seconds(seconds.max(0))?),
        Err(_) => DateTime::parse_from_rfc2822(value.trim()).ok().map(|at| at.to_utc()),
    }
}

/// The client that the ACME package sends through.
pub(crate) struct Transport {
    client: Client<Https, BodyWrapper<Bytes>>,
    patience: Patience,
}

impl Transport {
    /// A client that trusts the roots in a PEM bundle.
    pub fn new(bundle: &Path, patience: Patience) -> Result<Self, Error> {
        let unreadable =
            |error: String| Error::Other(format!("the roots in {}: {error}", bundle.display()).into());
        let mut roots = RootCertStore::empty();
        for root in CertificateDer::pem_file_iter(bundle).map_err(|e| unreadable(e.to_string()))? {
            let root = root.map_err(|e| unreadable(e.to_string()))?;
            roots.add(root).map_err(|e| unreadable(e.to_string()))?;
        }
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let tls = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| unreadable(e.to_string()))?
            .with_root_certificates(roots)
            .with_no_client_auth();
        let https = HttpsConnectorBuilder::new().with_tls_config(tls);
        let client = Client::builder(TokioExecutor::new())
            .build(https.https_only().enable_http1().enable_http2().build());
        Ok(Self { client, patience })
    }
}

impl HttpClient for Transport {
    fn request(
        &self,
        request: Request<BodyWrapper<Bytes>>,
    ) -> Pin<Box<dyn Future<Output = Result<BytesResponse, Error>> + Send>> {
        let (sent, patience) = (self.client.request(request), self.patience.clone());
        Box::pin(async move {
            let response = BytesResponse::from(sent.await.map_err(|e| Error::Other(Box::new(e)))?);
            patience.note(&response);
            speaks_acme(&response)?;
            Ok(response)
        })
    }
}

/// A proxy in front of the CA that answers with a page of its own says nothing
/// about an account or an order.
fn speaks_acme(response: &BytesResponse) -> Result<(), Error> {
    let BytesResponse { parts, .. } = response;
    let kind = parts.headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    match parts.status.is_server_error() && !kind.contains("json") {
        true => Err(Error::Other(format!("it answers {}", parts.status).into())),
        false => Ok(()),
    }
}

/// A moment of the system's clock.
pub(crate) fn instant(at: impl Into<SystemTime>) -> DateTime<Utc> {
    at.into().into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patience_is_asked_for_in_seconds_or_until_a_date() {
        let now = DateTime::from_timestamp(1_790_000_000, 0).expect("in range");
        assert_eq!(moment("90", now), Some(now + Duration::seconds(90)));
        assert_eq!(moment("-5", now), Some(now));
        let date = moment("Mon, 21 Sep 2026 14:13:20 GMT", now).expect("a date");
        assert_eq!(date, now);
        assert_eq!(moment("soon", now), None);
    }
}

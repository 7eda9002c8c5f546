//! Vantages over TLS (RFC 7858) and HTTPS (RFC 8484).

use std::fs::File;
use std::io::BufReader;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures::future::join_all;
use reqwest::Client;
use rustls::pki_types::ServerName;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use thiserror::Error;
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

use crate::ask::{Answered, Ask, Got};
use crate::exchange::by_stream;
use crate::wire::{self, Mismatch};

/// Largest reply taken by HTTPS, in octets (RFC 8484, section 6).
const LARGEST: usize = 65_535;

/// Why encrypted vantages cannot be read.
#[derive(Debug, Error)]
pub enum SecureError {
    /// The file of roots is not to be had.
    #[error("Cannot read the roots in {path}: {cause}")]
    Roots {
        /// The file.
        path: String,
        /// What went wrong.
        cause: String,
    },
    /// The HTTP client cannot be made.
    #[error("Cannot set up HTTPS for the vantages: {0}")]
    Client(#[from] reqwest::Error),
}

/// Asks over TLS and HTTPS.
pub(crate) struct Secure {
    tls: TlsConnector,
    http: Client,
    time_limit: Duration,
}

impl Secure {
    /// Trusts the roots in a PEM file.
    ///
    /// # Errors
    /// [`SecureError`] if the file cannot be read.
    pub fn new(roots: &Path, time_limit: Duration) -> Result<Self, SecureError> {
        let wrong = |cause: String| SecureError::Roots { path: roots.display().to_string(), cause };
        let file = File::open(roots).map_err(|e| wrong(e.to_string()))?;
        let (mut store, mut builder) = (RootCertStore::empty(), Client::builder());
        for certificate in rustls::pki_types::CertificateDer::pem_reader_iter(BufReader::new(file)) {
            let certificate = certificate.map_err(|e| wrong(e.to_string()))?;
            builder = builder.add_root_certificate(reqwest::Certificate::from_der(&certificate)?);
            store.add(certificate).map_err(|e| wrong(e.to_string()))?;
        }
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|e| wrong(e.to_string()))?
            .with_root_certificates(store)
            .with_no_client_auth();
        let http = builder.tls_built_in_root_certs(false).use_rustls_tls().timeout(time_limit * 2).build()?;
        Ok(Self { tls: TlsConnector::from(Arc::new(config)), http, time_limit })
    }

    /// All questions over one TLS connection.
    pub async fn by_tls(&self, server: SocketAddr, name: &str, asks: &[Ask]) -> Vec<Answered> {
        let start = Instant::now();
        let round = async {
            let name = ServerName::try_from(name.to_owned()).map_err(std::io::Error::other)?;
            let stream = self.tls.connect(name, TcpStream::connect(server).await?).await?;
            by_stream(stream, asks).await
        };
        let answers = match timeout(self.time_limit * 2, round).await {
            Ok(Ok(answers)) => answers,
            Ok(Err(error)) => vec![Some(unsecured(&error)); asks.len()],
            Err(_) => vec![None; asks.len()],
        };
        let rtt = start.elapsed();
        answers.into_iter().map(|got| (got.unwrap_or(Got::Silence), rtt)).collect()
    }

    /// Each question as a request of its own; HTTP/2 shares the connection.
    pub async fn by_https(&self, url: &str, asks: &[Ask]) -> Vec<Answered> {
        join_all(asks.iter().map(|ask| self.post(url, ask))).await
    }

    async fn post(&self, url: &str, ask: &Ask) -> Answered {
        let start = Instant::now();
        // The id is 0, so that answers may be cached (RFC 8484, section 4.1).
        let got = match wire::encode(0, &ask.name, ask.rtype, ask.mode) {
            Ok(message) => self.fetch(url, message, ask).await.unwrap_or_else(|error| failed(&error)),
            Err(reason) => Got::Garbled(reason),
        };
        (got, start.elapsed())
    }

    async fn fetch(&self, url: &str, message: Vec<u8>, ask: &Ask) -> reqwest::Result<Got> {
        const KIND: &str = "application/dns-message";
        let request = self.http.post(url).header("content-type", KIND).header("accept", KIND).body(message);
        let response = request.send().await?.error_for_status()?;
        let bytes = response.bytes().await?;
        if bytes.len() > LARGEST {
            return Ok(Got::Garbled("the answer is too long".into()));
        }
        Ok(match wire::decode(&bytes, 0, &ask.name, ask.rtype) {
            Ok(reply) => Got::Reply(reply),
            Err(Mismatch::Garbled(reason)) => Got::Garbled(reason),
            Err(Mismatch::Stranger) => Got::Garbled("the answer is to another question".into()),
        })
    }
}

/// A certificate that does not hold says more than silence.
fn unsecured(error: &std::io::Error) -> Got {
    match error.get_ref().is_some_and(|e| e.is::<rustls::Error>()) {
        true => Got::Garbled(format!("TLS fails: {error}")),
        false => Got::Silence,
    }
}

fn failed(error: &reqwest::Error) -> Got {
    match error.status() {
        Some(status) => Got::Garbled(format!("HTTP status {}", status.as_u16())),
        None => Got::Silence,
    }
}

//! Vantages over TLS (RFC 7858) and HTTPS (RFC 8484).

use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use futures::future::join_all;
use reqwest::Client;
use rustls::pki_types::pem::{self, PemObject};
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use thiserror::Error;
use tokio::net::TcpStream;
use tokio::sync::Semaphore;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

use crate::ask::{Answered, Ask, Got};
use crate::tcp::by_stream;
use crate::wire::{self, Mismatch};

/// Connections by TLS to one vantage at once: a resolver as it is installed may take no more than ten,
/// and says nothing to those beyond.
const CONNECTIONS: usize = 8;
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
        #[source]
        cause: pem::Error,
    },
    /// A root cannot be used, or no version of TLS.
    #[error("Cannot set up TLS for the vantages: {0}")]
    Tls(#[from] rustls::Error),
    /// The HTTP client cannot be made.
    #[error("Cannot set up HTTPS for the vantages: {0}")]
    Client(#[from] reqwest::Error),
}

fn read(bundle: &Path) -> Result<Vec<CertificateDer<'static>>, pem::Error> {
    CertificateDer::pem_file_iter(bundle)?.collect()
}

fn trusting(certificates: Vec<CertificateDer<'static>>) -> Result<ClientConfig, rustls::Error> {
    let mut roots = RootCertStore::empty();
    for certificate in certificates {
        roots.add(certificate)?;
    }

    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    Ok(config.with_root_certificates(roots).with_no_client_auth())
}

/// Asks over TLS and HTTPS.
pub(crate) struct Secure {
    tls: TlsConnector,
    /// Limits how many connections each vantage has at once.
    turns: Mutex<HashMap<SocketAddr, Arc<Semaphore>>>,
    http: Client,
    time_limit: Duration,
    records: usize,
}

impl Secure {
    /// Trusts the roots in a PEM file; of each section of a reply at most `records` are kept.
    ///
    /// # Errors
    /// [`SecureError`] if the file cannot be read.
    pub(crate) fn new(roots: &Path, time_limit: Duration, records: usize) -> Result<Self, SecureError> {
        let certificates =
            read(roots).map_err(|cause| SecureError::Roots { path: roots.display().to_string(), cause })?;

        let mut http = Client::builder().tls_built_in_root_certs(false).use_rustls_tls();
        for certificate in &certificates {
            http = http.add_root_certificate(reqwest::Certificate::from_der(certificate)?);
        }
        let http = http.timeout(time_limit * 2).build()?;

        let tls = TlsConnector::from(Arc::new(trusting(certificates)?));
        Ok(Self { tls, turns: Mutex::default(), http, time_limit, records })
    }

    fn turns(&self, server: SocketAddr) -> Arc<Semaphore> {
        let mut turns = self.turns.lock().unwrap_or_else(PoisonError::into_inner);
        turns.entry(server).or_insert_with(|| Arc::new(Semaphore::new(CONNECTIONS))).clone()
    }

    /// All questions over one TLS connection. How long it takes to get a turn is not held against the
    /// server.
    pub(crate) async fn by_tls(&self, server: SocketAddr, name: &str, asks: &[Ask]) -> Vec<Answered> {
        let turns = self.turns(server);
        // It is never closed.
        let _turn = turns.acquire().await;
        let start = Instant::now();
        let mut answers = vec![None; asks.len()];
        let round = async {
            let name = ServerName::try_from(name.to_owned()).map_err(std::io::Error::other)?;
            let stream = self.tls.connect(name, TcpStream::connect(server).await?).await?;
            by_stream(stream, asks, self.records, &mut answers).await
        };

        if let Ok(Err(error)) = timeout(self.time_limit * 2, round).await {
            answers.iter_mut().for_each(|got| *got = got.take().or_else(|| Some(unsecured(&error))));
        }

        let rtt = start.elapsed();
        answers.into_iter().map(|got| (got.unwrap_or(Got::Silence), rtt)).collect()
    }

    /// Each question as a request of its own; HTTP/2 shares the connection.
    pub(crate) async fn by_https(&self, url: &str, asks: &[Ask]) -> Vec<Answered> {
        join_all(asks.iter().map(|ask| self.post(url, ask))).await
    }

    async fn post(&self, url: &str, ask: &Ask) -> Answered {
        let start = Instant::now();
        // The id is 0, so that answers may be cached (RFC 8484, section 4.1).
        let got = match wire::encode(0, &ask.name, ask.rtype, ask.mode, ask.extent) {
            Ok(message) => self.fetch(url, message, ask).await.unwrap_or_else(|error| failed(&error)),
            Err(error) => Got::Garbled(error.to_string()),
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

        Ok(match wire::decode(&bytes, 0, &ask.name, ask.rtype, self.records) {
            Ok(reply) => Got::Reply(reply),
            Err(Mismatch::Garbled(reason)) => Got::Garbled(reason),
            Err(Mismatch::Stranger) => Got::Garbled("the answer is to another question".into()),
        })
    }
}

/// A certificate that does not hold says more than silence.
fn unsecured(error: &std::io::Error) -> Got {
    if error.get_ref().is_some_and(|cause| cause.is::<rustls::Error>()) {
        return Got::Garbled(format!("TLS fails: {error}"));
    }
    Got::Silence
}

fn failed(error: &reqwest::Error) -> Got {
    match error.status() {
        Some(status) => Got::Garbled(format!("HTTP status {}", status.as_u16())),
        None => Got::Silence,
    }
}

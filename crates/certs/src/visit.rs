//! Visits to a domain's own addresses: the canary before an order, the probe
//! after it. Every address passes the egress rule first.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use nomenta_core::evidence::{CanaryFetch, Forward, ProbeResult};
use nomenta_core::hostname::Hostname;
use nomenta_dns::Egress;
use rustls::{ClientConfig, RootCertStore};
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, ServerName};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

use crate::seal::Sealer;
use crate::{http, x509};

/// Foreign addresses that are asked where they lead.
const MOST_FORWARDERS: usize = 2;

/// How visits are made.
#[derive(Clone, Debug)]
pub struct VisitorConfig {
    /// Port of plain HTTP; 80 outside of test worlds.
    pub http_port: u16,
    /// Port of HTTPS; 443 outside of test worlds.
    pub https_port: u16,
    /// Longest time for one visit.
    pub patience: Duration,
    /// Which addresses may be visited.
    pub egress: Egress,
}

/// Makes visits.
pub struct Visitor {
    config: VisitorConfig,
    tls: Arc<ClientConfig>,
}

impl Visitor {
    /// A visitor that trusts the roots in the PEM file `roots`.
    ///
    /// # Errors
    /// If the file cannot be read or holds no certificate.
    pub fn new(config: VisitorConfig, roots: &Path) -> io::Result<Self> {
        let mut store = RootCertStore::empty();
        for root in CertificateDer::pem_file_iter(roots).map_err(io::Error::other)? {
            store.add(root.map_err(io::Error::other)?).map_err(io::Error::other)?;
        }
        if store.is_empty() {
            return Err(io::Error::other("it holds no certificate"));
        }
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let tls = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(io::Error::other)?
            .with_root_certificates(store)
            .with_no_client_auth();
        Ok(Self { config, tls: Arc::new(tls) })
    }

    /// Fetches a canary of `host` through each address, on the path that a CA
    /// will use (RFC 8555, section 8.3).
    pub async fn canary(&self, host: &Hostname, addresses: &[IpAddr], sealer: &Sealer) -> Vec<CanaryFetch> {
        let token = format!("canary-{:016x}", rand::random::<u64>());
        let answer = sealer.canary_answer(&token);
        let path = format!("/.well-known/acme-challenge/{token}");
        let mut fetches = Vec::new();
        for address in addresses {
            let failure = self.fetch_canary(host, *address, &path, &answer).await.err();
            fetches.push(CanaryFetch { address: *address, failure });
        }
        fetches
    }

    async fn fetch_canary(
        &self,
        host: &Hostname,
        address: IpAddr,
        path: &str,
        answer: &str,
    ) -> Result<(), String> {
        self.vet(address)?;
        let socket = SocketAddr::new(address, self.config.http_port);
        let page = http::get(socket, host.as_str(), path, self.config.patience).await?;
        match page.status {
            200 if page.body.trim() == answer => Ok(()),
            200 => Err("another host answers there".into()),
            status => Err(format!("it answers with status {status}")),
        }
    }

    /// Where each address sends visitors of `host` on to, if anywhere else.
    pub async fn forwards(&self, host: &Hostname, addresses: &[IpAddr]) -> Vec<Forward> {
        let mut forwards = Vec::new();
        for address in addresses.iter().copied().take(MOST_FORWARDERS) {
            if self.vet(address).is_err() {
                continue;
            }
            let socket = SocketAddr::new(address, self.config.http_port);
            let Ok(page) = http::get(socket, host.as_str(), "/", self.config.patience).await else {
                continue;
            };
            let Some(location) = page.location.filter(|_| (300..400).contains(&page.status)) else {
                continue;
            };
            if host_of(&location).is_some_and(|to| to != host.as_str()) {
                forwards.push(Forward { address, location });
            }
        }
        forwards
    }

    /// Makes a TLS handshake for `host` with each address, verifying chain,
    /// name and dates, and checks that HTTP leads to HTTPS.
    pub async fn probe(&self, host: &Hostname, addresses: &[IpAddr]) -> Vec<ProbeResult> {
        let mut results = Vec::new();
        for address in addresses {
            let served = self.handshake(host, *address).await;
            let redirect_failure = self.redirect(host, *address).await.err();
            let (serial, tls_failure) = match served {
                Ok(serial) => (Some(serial), None),
                Err(failure) => (None, Some(failure)),
            };
            results.push(ProbeResult { address: *address, serial, tls_failure, redirect_failure });
        }
        results
    }

    /// Serial of the certificate that `address` serves for `host`.
    async fn handshake(&self, host: &Hostname, address: IpAddr) -> Result<String, String> {
        self.vet(address)?;
        let name = ServerName::try_from(host.to_string()).map_err(|e| e.to_string())?;
        let connect = async {
            let stream = TcpStream::connect((address, self.config.https_port)).await?;
            TlsConnector::from(self.tls.clone()).connect(name, stream).await
        };
        let stream = timeout(self.config.patience, connect)
            .await
            .map_err(|_| "no answer in time".to_owned())?
            .map_err(|e| e.to_string())?;
        let leaf = stream.get_ref().1.peer_certificates().and_then(|chain| chain.first());
        let leaf = leaf.ok_or("no certificate was sent")?;
        x509::facts_of(leaf).map(|facts| facts.serial).map_err(|e| e.to_string())
    }

    async fn redirect(&self, host: &Hostname, address: IpAddr) -> Result<(), String> {
        self.vet(address)?;
        let socket = SocketAddr::new(address, self.config.http_port);
        let page = http::get(socket, host.as_str(), "/", self.config.patience).await?;
        let target = page.location.unwrap_or_default();
        let to = host_of(&target).filter(|_| target.starts_with("https://"));
        match page.status {
            301 | 302 | 307 | 308 if to == Some(host.as_str()) => Ok(()),
            301 | 302 | 307 | 308 => Err(format!("it leads to {target}")),
            status => Err(format!("it answers with status {status}")),
        }
    }

    fn vet(&self, address: IpAddr) -> Result<(), String> {
        match self.config.egress.permits(address) {
            true => Ok(()),
            false => Err("this address may not be visited".into()),
        }
    }
}

/// The host in an absolute URL.
fn host_of(url: &str) -> Option<&str> {
    let (_, rest) = url.split_once("://")?;
    rest.split(['/', ':', '?', '#']).next()
}

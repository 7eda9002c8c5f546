//! TLS of the service's own: a certificate from files, which is read again when they change.

use std::fmt;
use std::fs;
use std::path::PathBuf;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use anyhow::Context;
use rustls::ServerConfig;
use rustls::crypto::ring;
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use tokio::time::sleep;
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;
use zeroize::Zeroizing;

/// How often the files are looked at.
const EVERY: Duration = Duration::from_secs(5);

/// Where the service's own certificate is.
#[derive(Clone, Debug)]
pub struct TlsFiles {
    /// The chain, its own certificate first, PEM.
    pub chain: PathBuf,
    /// Its private key, PEM.
    pub key: PathBuf,
}

/// What the files hold.
#[derive(PartialEq, Eq)]
struct Held {
    chain: Vec<u8>,
    key: Zeroizing<Vec<u8>>,
}

impl Held {
    fn read(files: &TlsFiles) -> anyhow::Result<Self> {
        let read = |path: &PathBuf| fs::read(path).with_context(|| format!("Cannot read {}", path.display()));
        Ok(Self { chain: read(&files.chain)?, key: Zeroizing::new(read(&files.key)?) })
    }

    fn certified(&self, files: &TlsFiles) -> anyhow::Result<CertifiedKey> {
        let chain: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(&self.chain).collect();
        let chain = chain.with_context(|| format!("{} is no chain in PEM", files.chain.display()))?;
        anyhow::ensure!(!chain.is_empty(), "{} holds no certificate in PEM", files.chain.display());
        let key = PrivateKeyDer::from_pem_slice(&self.key)
            .with_context(|| format!("{} holds no private key in PEM", files.key.display()))?;

        let key = ring::sign::any_supported_type(&key).with_context(|| {
            format!("The key in {} is of a kind that TLS does not use", files.key.display())
        })?;
        let certified = CertifiedKey::new(chain, key);
        certified.keys_match().with_context(|| {
            format!("The key in {} is not that of {}", files.key.display(), files.chain.display())
        })?;
        Ok(certified)
    }
}

/// The certificate of now.
struct Current(RwLock<Arc<CertifiedKey>>);

impl fmt::Debug for Current {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Current").finish_non_exhaustive()
    }
}

impl ResolvesServerCert for Current {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.0.read().unwrap_or_else(PoisonError::into_inner).clone())
    }
}

/// What takes connections by TLS, with the certificate of now, whenever that is.
///
/// # Errors
/// If the files hold no certificate with its key.
pub(crate) fn acceptor(files: TlsFiles, stop: CancellationToken) -> anyhow::Result<TlsAcceptor> {
    let held = Held::read(&files)?;
    let current = Arc::new(Current(RwLock::new(Arc::new(held.certified(&files)?))));
    tokio::spawn(follow(files, held, current.clone(), stop));

    let mut config = ServerConfig::builder_with_provider(Arc::new(ring::default_provider()))
        .with_safe_default_protocol_versions()?
        .with_no_client_auth()
        .with_cert_resolver(current);
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(TlsAcceptor::from(Arc::new(config)))
}

/// Takes what the files hold whenever it is something else, and keeps what it has where that
/// cannot be used.
async fn follow(files: TlsFiles, mut held: Held, current: Arc<Current>, stop: CancellationToken) {
    let mut told = String::new();
    while stop.run_until_cancelled(sleep(EVERY)).await.is_some() {
        let read = Held::read(&files).and_then(|new| {
            let certified = if new == held { None } else { Some(new.certified(&files)?) };
            Ok((new, certified))
        });

        match read {
            Ok((_, None)) => {}
            Ok((new, Some(certified))) => {
                *current.0.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(certified);
                held = new;
                tracing::info!(chain = %files.chain.display(), "another certificate is served from now on");
            }
            Err(error) => {
                let error = format!("{error:#}");
                if error != told {
                    tracing::warn!(error, "the certificate of before is served on");
                }
                told = error;
            }
        }
    }
}

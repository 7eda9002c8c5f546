//! Serving TLS, and the platform's own authority for names of its own.

use std::sync::Arc;

use anyhow::Context;
use axum::Router;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto;
use hyper_util::service::TowerToHyperService;
use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};
use rustls::ServerConfig;
use rustls::server::ResolvesServerCert;
use rustls::sign::CertifiedKey;
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};
use tokio::net::TcpListener;
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;

use crate::Layout;

/// A chain and its key.
#[derive(Clone, Debug)]
pub struct Pem {
    /// Leaf first.
    pub chain: String,
    /// PKCS #8.
    pub key: String,
}

pub(crate) fn certified(pem: &Pem) -> anyhow::Result<CertifiedKey> {
    let chain = CertificateDer::pem_slice_iter(pem.chain.as_bytes()).collect::<Result<Vec<_>, _>>()?;
    let key = PrivateKeyDer::from_pem_slice(pem.key.as_bytes())?;
    Ok(CertifiedKey::new(chain, rustls::crypto::ring::sign::any_supported_type(&key)?))
}

/// A server that picks its certificate by `resolver` and speaks `protocols`.
pub(crate) fn server(
    resolver: Arc<dyn ResolvesServerCert>,
    protocols: &[&[u8]],
) -> anyhow::Result<TlsAcceptor> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    let mut config = builder.with_no_client_auth().with_cert_resolver(resolver);
    config.alpn_protocols = protocols.iter().map(|p| p.to_vec()).collect();

    Ok(TlsAcceptor::from(Arc::new(config)))
}

/// Serves `app` over TLS until stopped.
pub(crate) async fn serve(
    listener: TcpListener,
    acceptor: TlsAcceptor,
    app: Router,
    stop: CancellationToken,
) {
    while let Some(Ok((stream, _))) = stop.run_until_cancelled(listener.accept()).await {
        let acceptor = acceptor.clone();
        let app = app.clone();
        tokio::spawn(async move {
            let Ok(stream) = acceptor.accept(stream).await else { return };
            let service = TowerToHyperService::new(app);
            let _ = auto::Builder::new(TokioExecutor::new())
                .serve_connection(TokioIo::new(stream), service)
                .await;
        });
    }
}

/// An authority of the world's own, for names that the CA has no part in: the
/// platform's default hosts, proxies, and what customers bring.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
}

impl Authority {
    /// The one of this world; made at the first call.
    ///
    /// # Errors
    /// If it cannot be made or read.
    pub fn open(layout: &Layout) -> anyhow::Result<Self> {
        let path = layout.state.join("authority.key");
        let key = match std::fs::read_to_string(&path) {
            Ok(text) => KeyPair::from_pem(&text)?,
            Err(_) => KeyPair::generate()?,
        };

        let mut params = CertificateParams::new(Vec::new())?;
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.distinguished_name.push(DnType::CommonName, "Harbourseal Authority");

        if !path.exists() {
            layout.write("authority.key", &key.serialize_pem())?;
            layout.write("authority.pem", &params.self_signed(&key)?.pem())?;
        }

        Ok(Self { issuer: Issuer::new(params, key) })
    }

    /// A certificate for `names`, good for `days`.
    ///
    /// # Errors
    /// If the system gives no randomness.
    pub fn issue(&self, names: &[String], days: i64) -> anyhow::Result<Pem> {
        let mut params = CertificateParams::new(names.to_vec())?;
        let now = std::time::SystemTime::now();
        let day = std::time::Duration::from_secs(86_400);
        params.not_before = (now - day).into();
        params.not_after = (now + day * u32::try_from(days).context("days")?).into();
        params.distinguished_name.push(DnType::CommonName, names.first().cloned().unwrap_or_default());

        let key = KeyPair::generate()?;
        let certificate = params.signed_by(&key, &self.issuer)?;
        Ok(Pem { chain: certificate.pem(), key: key.serialize_pem() })
    }
}

//! Handshakes that take whatever certificate is sent, and judge it afterwards:
//! so that a wrong one can be named.

use std::io;
use std::path::Path;
use std::sync::Arc;

use nomenta_core::judge::certificate::CertificateFacts;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{Resumption, WebPkiServerVerifier};
use rustls::crypto::{
    CryptoProvider, WebPkiSupportedAlgorithms, verify_tls12_signature, verify_tls13_signature,
};
use rustls::{ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use rustls_pki_types::pem::PemObject;
use rustls_pki_types::{CertificateDer, ServerName, UnixTime};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use crate::failure::Failure;
use crate::x509;

/// The protocol of a challenge by TLS (RFC 8737, section 4).
const ACME_TLS: &[u8] = b"acme-tls/1";

/// Makes handshakes.
pub(crate) struct Handshaker {
    web: Arc<ClientConfig>,
    challenge: Arc<ClientConfig>,
    verifier: Arc<WebPkiServerVerifier>,
    pub roots: Arc<RootCertStore>,
}

/// A connection, and what the certificate on it is worth.
pub(crate) struct Served {
    pub stream: TlsStream<TcpStream>,
    pub facts: CertificateFacts,
    /// Why a browser would not accept it.
    pub fault: Option<String>,
}

impl Handshaker {
    /// A handshaker that trusts the roots in a PEM file.
    pub(crate) fn new(roots: &Path) -> io::Result<Self> {
        let mut store = RootCertStore::empty();
        for root in CertificateDer::pem_file_iter(roots).map_err(io::Error::other)? {
            store.add(root.map_err(io::Error::other)?).map_err(io::Error::other)?;
        }
        if store.is_empty() {
            return Err(io::Error::other("it holds no certificate"));
        }

        let roots = Arc::new(store);
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let verifier = WebPkiServerVerifier::builder_with_provider(roots.clone(), provider.clone());
        let verifier = verifier.build().map_err(io::Error::other)?;

        let web = taking_any(&provider, b"http/1.1", true)?;
        let challenge = taking_any(&provider, ACME_TLS, false)?;
        Ok(Self { web, challenge, verifier, roots })
    }

    /// A handshake for `host`, as a browser makes it, judged afterwards.
    pub(crate) async fn greet(&self, host: &str, stream: TcpStream) -> Result<Served, Failure> {
        let name = ServerName::try_from(host.to_owned())?;
        let connector = TlsConnector::from(self.web.clone());
        let stream = connector.connect(name.clone(), stream).await?;

        let chain = stream.get_ref().1.peer_certificates().unwrap_or_default();
        let (leaf, between) = chain.split_first().ok_or(Failure::NoCertificate)?;
        let facts = x509::facts_of(leaf)?;

        let judged = self.verifier.verify_server_cert(leaf, between, &name, &[], UnixTime::now());
        let fault = judged.err().map(|error| in_words(&error, &facts));
        Ok(Served { stream, facts, fault })
    }

    /// The digest in the certificate that answers a challenge for `host`.
    pub(crate) async fn challenge(&self, host: &str, stream: TcpStream) -> Result<Vec<u8>, Failure> {
        let name = ServerName::try_from(host.to_owned())?;
        let connector = TlsConnector::from(self.challenge.clone());
        let stream = connector.connect(name, stream).await?;

        let session = stream.get_ref().1;
        if session.alpn_protocol() != Some(ACME_TLS) {
            return Err(Failure::NoAcmeTls);
        }
        let leaf = session.peer_certificates().and_then(|chain| chain.first());
        leaf.and_then(|leaf| x509::challenge_digest_of(leaf)).ok_or(Failure::NoChallenge)
    }
}

/// A client that takes any certificate; the handshake's signatures are checked
/// where `signed`.
fn taking_any(
    provider: &Arc<CryptoProvider>,
    protocol: &[u8],
    signed: bool,
) -> io::Result<Arc<ClientConfig>> {
    let verifier = Arc::new(TakesAny { provider: provider.clone(), signed });
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(io::Error::other)?;

    let mut config = builder.dangerous().with_custom_certificate_verifier(verifier).with_no_client_auth();
    config.alpn_protocols = vec![protocol.to_vec()];
    // A resumed session shows the certificate of the one before.
    config.resumption = Resumption::disabled();
    Ok(Arc::new(config))
}

/// A browser's objection, with what makes the certificate known again.
fn in_words(error: &Error, facts: &CertificateFacts) -> String {
    use rustls::CertificateError as Bad;

    let what = match error {
        Error::InvalidCertificate(Bad::Expired | Bad::ExpiredContext { .. }) => {
            format!("the certificate ran out at {}", facts.not_after.format("%Y-%m-%d %H:%M UTC"))
        }
        Error::InvalidCertificate(Bad::NotValidYet | Bad::NotValidYetContext { .. }) => {
            "the certificate is not valid yet".into()
        }
        Error::InvalidCertificate(Bad::NotValidForName | Bad::NotValidForNameContext { .. }) => {
            format!("the certificate is for {}", facts.names.join(", "))
        }
        Error::InvalidCertificate(Bad::UnknownIssuer) => "its issuer is not trusted".into(),
        other => other.to_string(),
    };

    format!("{what} (serial {}, issued by {})", facts.serial, facts.issuer)
}

/// Takes any certificate. The handshake's own signatures are checked, but for
/// challenges: the extension that carries their digest is critical, and the
/// library knows it not (RFC 8737, section 3).
#[derive(Debug)]
struct TakesAny {
    provider: Arc<CryptoProvider>,
    signed: bool,
}

impl TakesAny {
    fn check(
        &self,
        verify: impl FnOnce(&WebPkiSupportedAlgorithms) -> Result<HandshakeSignatureValid, Error>,
    ) -> Result<HandshakeSignatureValid, Error> {
        if !self.signed {
            return Ok(HandshakeSignatureValid::assertion());
        }
        verify(&self.provider.signature_verification_algorithms)
    }
}

impl ServerCertVerifier for TakesAny {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.check(|known| verify_tls12_signature(message, cert, signed, known))
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.check(|known| verify_tls13_signature(message, cert, signed, known))
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

//! The certificate's own key, the request that carries it to the CA, and the
//! certificate that answers a challenge by TLS.

use aws_lc_rs::encoding::AsDer;
use aws_lc_rs::error::Unspecified;
use aws_lc_rs::rsa::{self, KeySize};
use pem::Pem;
use rcgen::{CertificateParams, CustomExtension, DistinguishedName, KeyPair};
use thiserror::Error;

/// What a private key's section of a PEM text is called (RFC 7468, section 10).
pub(crate) const PRIVATE_KEY: &str = "PRIVATE KEY";

nomenta_core::spelled! {
    /// Kinds of key.
    #[derive(Default)]
    pub enum KeyKind: "kind of key" {
        /// ECDSA over P-256.
        #[default]
        Ecdsa = "ecdsa",
        /// RSA with 2048 bits, for visitors with very old software.
        Rsa = "rsa",
    }
}

/// A key that cannot be made, read or used.
#[derive(Debug, Error)]
pub enum KeyError {
    /// It is no private key, or one of an unknown kind.
    #[error("The certificate's key cannot be used: {0}")]
    Unusable(#[from] rcgen::Error),
    /// The system gives no randomness.
    #[error("No RSA key can be made")]
    Rsa(#[from] Unspecified),
}

/// A new key as PKCS #8 PEM (RFC 5958, RFC 7468). An RSA key takes a while:
/// call it where that may block.
///
/// # Errors
/// If the system gives no randomness.
pub fn generate(kind: KeyKind) -> Result<String, KeyError> {
    match kind {
        KeyKind::Ecdsa => Ok(KeyPair::generate()?.serialize_pem()),
        KeyKind::Rsa => {
            let key = rsa::KeyPair::generate(KeySize::Rsa2048)?;
            Ok(pem::encode(&Pem::new(PRIVATE_KEY, key.as_der()?.as_ref())))
        }
    }
}

/// A certificate request for `names` (RFC 2986), DER, with them as its subject
/// alternative names.
///
/// # Errors
/// If `key_pem` is no private key.
pub fn request(key_pem: &str, names: &[String]) -> Result<Vec<u8>, KeyError> {
    let key = KeyPair::from_pem(key_pem)?;

    let mut params = CertificateParams::new(names.to_vec())?;
    params.distinguished_name = DistinguishedName::new();
    Ok(params.serialize_request(&key)?.der().to_vec())
}

/// The certificate with which a server answers a challenge for `name` by TLS,
/// and its key, both PEM (RFC 8737, section 3).
///
/// # Errors
/// If the system gives no randomness.
pub fn answering(name: &str, digest: &[u8; 32]) -> Result<(String, String), KeyError> {
    let key = KeyPair::generate()?;

    let mut params = CertificateParams::new(vec![name.to_owned()])?;
    params.custom_extensions = vec![CustomExtension::new_acme_identifier(digest)];

    let certificate = params.self_signed(&key)?;
    Ok((certificate.pem(), key.serialize_pem()))
}

/// The key's public part, DER (SubjectPublicKeyInfo).
///
/// # Errors
/// If `key_pem` is no private key.
pub fn public(key_pem: &str) -> Result<Vec<u8>, KeyError> {
    use rcgen::PublicKeyData;

    Ok(KeyPair::from_pem(key_pem)?.subject_public_key_info())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_kinds_make_requests() {
        let names = ["onswick.example".to_owned(), "www.onswick.example".to_owned()];
        for kind in [KeyKind::Ecdsa, KeyKind::Rsa] {
            assert_eq!(kind.to_string().parse(), Ok(kind));
            let key = generate(kind).expect("made");
            let csr = request(&key, &names).expect("a request");
            for name in &names {
                assert!(csr.windows(name.len()).any(|w| w == name.as_bytes()), "{kind} {name}");
            }
        }
        assert!("dsa".parse::<KeyKind>().is_err());
        assert!(request("no key", &names).is_err());
    }

    #[test]
    fn the_answering_certificate_carries_the_digest() {
        let (chain, key) = answering("onswick.example", &[7; 32]).expect("made");
        let facts = crate::x509::facts(&chain).expect("readable");
        assert_eq!(facts.names, ["onswick.example"]);
        assert!(crate::x509::challenge_digest(&chain).expect("readable").ends_with(&[7; 32]));
        assert!(public(&key).is_ok());
    }
}

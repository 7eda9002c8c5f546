//! The certificate's own key, and the request that carries it to the CA.

use rcgen::{CertificateParams, DistinguishedName, KeyPair};
use thiserror::Error;

/// A key that cannot be made, read or used.
#[derive(Debug, Error)]
#[error("The certificate's key cannot be used: {0}")]
pub struct KeyError(#[from] rcgen::Error);

/// A new ECDSA P-256 key as PKCS #8 PEM (RFC 5958, RFC 7468).
///
/// # Errors
/// If the system gives no randomness.
pub fn generate() -> Result<String, KeyError> {
    Ok(KeyPair::generate()?.serialize_pem())
}

/// A certificate request for `host` (RFC 2986), DER, the name as its one
/// subject alternative name.
///
/// # Errors
/// If `key_pem` is no private key.
pub fn request(key_pem: &str, host: &str) -> Result<Vec<u8>, KeyError> {
    let key = KeyPair::from_pem(key_pem)?;
    let mut params = CertificateParams::new(vec![host.to_owned()])?;
    params.distinguished_name = DistinguishedName::new();
    Ok(params.serialize_request(&key)?.der().to_vec())
}

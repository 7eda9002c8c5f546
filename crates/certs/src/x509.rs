//! What a certificate says.

use chrono::{DateTime, Utc};
use data_encoding::HEXLOWER;
use nomenta_core::judge::certificate::CertificateFacts;
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;
use thiserror::Error;
use x509_parser::prelude::{FromDer, GeneralName, X509Certificate};
use x509_parser::public_key::PublicKey;

/// id-pe-acmeIdentifier (RFC 8737, section 6.1).
const ACME_IDENTIFIER: &str = "1.3.6.1.5.5.7.1.31";

/// A certificate that cannot be read.
#[derive(Debug, Error)]
pub enum ReadError {
    /// It is no PEM text.
    #[error("The certificate cannot be read: {0}")]
    Pem(#[from] rustls_pki_types::pem::Error),
    /// It is no X.509 certificate.
    #[error("The certificate cannot be read: {0}")]
    Der(#[from] x509_parser::nom::Err<x509_parser::error::X509Error>),
    /// It holds a date that no clock will show.
    #[error("The certificate cannot be read: a date is out of range")]
    Date,
}

/// Facts of the first certificate in a PEM chain.
///
/// # Errors
/// If there is none, or it is not X.509.
pub fn facts(chain_pem: &str) -> Result<CertificateFacts, ReadError> {
    let leaf = CertificateDer::from_pem_slice(chain_pem.as_bytes())?;
    facts_of(&leaf)
}

/// Facts of a certificate in DER.
///
/// # Errors
/// If it is not X.509.
pub fn facts_of(der: &[u8]) -> Result<CertificateFacts, ReadError> {
    let (_, cert) = X509Certificate::from_der(der)?;
    let alternative = cert.subject_alternative_name().ok().flatten();
    let names = alternative.map_or(&[][..], |san| &san.value.general_names);

    let validity = cert.validity();
    Ok(CertificateFacts {
        serial: HEXLOWER.encode(cert.raw_serial()),
        issuer: cert.issuer().to_string(),
        names: names.iter().filter_map(dns_name).collect(),
        not_before: instant(validity.not_before.timestamp())?,
        not_after: instant(validity.not_after.timestamp())?,
    })
}

fn dns_name(name: &GeneralName<'_>) -> Option<String> {
    match name {
        GeneralName::DNSName(name) => Some(name.to_ascii_lowercase()),
        _ => None,
    }
}

/// The digest with which a certificate answers a challenge by TLS, DER (RFC
/// 8737, section 3); `None` if it answers none.
pub fn challenge_digest(chain_pem: &str) -> Option<Vec<u8>> {
    challenge_digest_of(&CertificateDer::from_pem_slice(chain_pem.as_bytes()).ok()?)
}

/// The same of a certificate in DER.
pub fn challenge_digest_of(der: &[u8]) -> Option<Vec<u8>> {
    let (_, cert) = X509Certificate::from_der(der).ok()?;
    let found = cert.extensions().iter().find(|e| e.oid.to_id_string() == ACME_IDENTIFIER);
    found.map(|extension| extension.value.to_vec())
}

/// Kind and size of the certificate's key, such as `RSA 2048`; `None` if it
/// cannot be read.
pub fn key_words(chain_pem: &str) -> Option<String> {
    let der = CertificateDer::from_pem_slice(chain_pem.as_bytes()).ok()?;
    let (_, cert) = X509Certificate::from_der(&der).ok()?;

    Some(match cert.public_key().parsed().ok()? {
        PublicKey::RSA(key) => format!("RSA {}", key.key_size()),
        PublicKey::EC(point) => format!("ECDSA {}", point.key_size()),
        other => format!("{other:?}"),
    })
}

fn instant(seconds: i64) -> Result<DateTime<Utc>, ReadError> {
    DateTime::from_timestamp(seconds, 0).ok_or(ReadError::Date)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_leaf_is_read_and_nonsense_is_refused() {
        let made =
            rcgen::generate_simple_self_signed(vec!["Timetable.onswick.example".into()]).expect("made");
        let facts = facts(&made.cert.pem()).expect("readable");
        assert_eq!(facts.names, ["timetable.onswick.example"]);
        assert!(facts.not_after > facts.not_before);
        assert!(super::facts("no certificate here").is_err());
    }
}

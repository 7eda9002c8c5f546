//! Signatures over what customers' browsers are sent to a DNS operator with: RSA with SHA-256
//! (PKCS #1 v1.5, RFC 8017, section 8.2), as the Domain Connect protocol has it.

use std::sync::Arc;

use aws_lc_rs::encoding::AsDer;
use aws_lc_rs::error::{KeyRejected, Unspecified};
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::KeyPair;
use aws_lc_rs::signature::{KeyPair as _, RSA_PKCS1_SHA256};
use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use pem::PemError;
use thiserror::Error;

use crate::keypair::PRIVATE_KEY;

/// Signs queries with one key.
#[derive(Clone)]
pub struct QuerySigner {
    key: Arc<KeyPair>,
    public: String,
}

/// Why a key signs nothing.
#[derive(Debug, Error)]
pub enum SignerError {
    /// The text is not PEM.
    #[error("This is no PEM text: {0}. {MAKE_ONE}")]
    Pem(#[from] PemError),
    /// It is PEM of something else.
    #[error("This is PEM of a {0}, not of a private key (PKCS #8). {MAKE_ONE}")]
    Other(String),
    /// The key is of another kind, or too short.
    #[error("This is no RSA key of 2048 to 8192 bits: {0}. {MAKE_ONE}")]
    Key(#[from] KeyRejected),
    /// Its public part cannot be written.
    #[error("The public key cannot be written")]
    Public(#[source] Unspecified),
    /// The system gives no randomness.
    #[error("The link cannot be signed just now")]
    Random(#[source] Unspecified),
}

/// What helps whoever has no such key.
const MAKE_ONE: &str = "Make one: openssl genpkey -algorithm RSA -pkeyopt rsa_keygen_bits:2048";

impl std::fmt::Debug for QuerySigner {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("QuerySigner")
    }
}

impl QuerySigner {
    /// With the private key in a PEM text.
    ///
    /// # Errors
    /// [`SignerError`] if it is none.
    pub fn from_pem(text: &str) -> Result<Self, SignerError> {
        let section = pem::parse(text)?;
        if section.tag() != PRIVATE_KEY {
            return Err(SignerError::Other(section.tag().to_owned()));
        }

        let key = KeyPair::from_pkcs8(section.contents())?;
        let public = BASE64.encode(key.public_key().as_der().map_err(SignerError::Public)?.as_ref());
        Ok(Self { key: Arc::new(key), public })
    }

    /// The signature over a text, in base64.
    ///
    /// # Errors
    /// If the system gives no randomness.
    pub fn sign(&self, text: &str) -> Result<String, SignerError> {
        let mut signature = vec![0; self.key.public_modulus_len()];
        let signed = self.key.sign(&RSA_PKCS1_SHA256, &SystemRandom::new(), text.as_bytes(), &mut signature);
        signed.map_err(SignerError::Random)?;
        Ok(BASE64.encode(&signature))
    }

    /// The public key (SubjectPublicKeyInfo, DER) in base64.
    pub fn public_key(&self) -> &str {
        &self.public
    }
}

#[cfg(test)]
mod tests {
    use aws_lc_rs::signature::{RSA_PKCS1_2048_8192_SHA256, UnparsedPublicKey};

    use super::*;
    use crate::keypair::{self, KeyKind};

    #[test]
    fn whoever_has_the_public_key_can_tell_what_was_signed() {
        let pem = keypair::generate(KeyKind::Rsa).expect("a key");
        let signer = QuerySigner::from_pem(&pem).expect("reads");
        let signature = signer.sign("domain=onswick.example").expect("signed");
        let signature = BASE64.decode(signature).expect("base64");
        let public = BASE64.decode(signer.public_key()).expect("base64");
        let public = UnparsedPublicKey::new(&RSA_PKCS1_2048_8192_SHA256, public);
        assert!(public.verify(b"domain=onswick.example", &signature).is_ok());
        assert!(public.verify(b"domain=other.example", &signature).is_err());
    }

    #[test]
    fn what_signs_nothing_is_told_with_what_helps() {
        let curve = keypair::generate(KeyKind::Ecdsa).expect("a key");
        let (chain, _) = keypair::answering("onswick.example", &[7; 32]).expect("a certificate");
        for text in ["nonsense", &curve, &chain] {
            let told = QuerySigner::from_pem(text).expect_err("no RSA key").to_string();
            assert!(told.ends_with(MAKE_ONE), "{told}");
        }
    }
}

//! Signatures over what customers' browsers are sent to a DNS operator with: RSA with SHA-256
//! (PKCS #1 v1.5, RFC 8017, section 8.2), as the Domain Connect protocol has it.

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use rsa::RsaPrivateKey;
use rsa::pkcs1v15::SigningKey;
use rsa::pkcs8::{DecodePrivateKey, EncodePublicKey};
use rsa::sha2::Sha256;
use rsa::signature::{SignatureEncoding, Signer};
use thiserror::Error;

/// Signs queries with one key.
#[derive(Clone)]
pub struct QuerySigner {
    key: SigningKey<Sha256>,
    public: String,
}

/// Why a key signs nothing.
#[derive(Debug, Error)]
pub enum SignerError {
    /// The text is no RSA key in PEM.
    #[error(
        "This is no RSA key in PEM (PKCS #8). Make one: openssl genpkey -algorithm RSA -pkeyopt rsa_keygen_bits:2048"
    )]
    Key(#[from] rsa::pkcs8::Error),
    /// Its public part cannot be written.
    #[error("The public key cannot be written: {0}")]
    Public(#[from] rsa::pkcs8::spki::Error),
}

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
    pub fn from_pem(pem: &str) -> Result<Self, SignerError> {
        let key = RsaPrivateKey::from_pkcs8_pem(pem)?;
        let public = BASE64.encode(key.to_public_key().to_public_key_der()?.as_bytes());
        Ok(Self { key: SigningKey::new(key), public })
    }

    /// The signature over a text, in base64.
    pub fn sign(&self, text: &str) -> String {
        BASE64.encode(self.key.sign(text.as_bytes()).to_bytes())
    }

    /// The public key (SubjectPublicKeyInfo, DER) in base64.
    pub fn public_key(&self) -> &str {
        &self.public
    }
}

#[cfg(test)]
mod tests {
    use rsa::RsaPublicKey;
    use rsa::pkcs1v15::{Signature, VerifyingKey};
    use rsa::pkcs8::DecodePublicKey;
    use rsa::signature::Verifier;

    use super::*;
    use crate::keypair::{self, KeyKind};

    #[test]
    fn whoever_has_the_public_key_can_tell_what_was_signed() {
        let pem = keypair::generate(KeyKind::Rsa).expect("a key");
        let signer = QuerySigner::from_pem(&pem).expect("reads");
        let signature = BASE64.decode(signer.sign("domain=onswick.example")).expect("base64");
        let signature = Signature::try_from(signature.as_slice()).expect("a signature");
        let public = BASE64.decode(signer.public_key()).expect("base64");
        let public = VerifyingKey::<Sha256>::new(RsaPublicKey::from_public_key_der(&public).expect("a key"));
        assert!(public.verify(b"domain=onswick.example", &signature).is_ok());
        assert!(public.verify(b"domain=other.example", &signature).is_err());
        assert!(QuerySigner::from_pem("nonsense").is_err());
    }
}

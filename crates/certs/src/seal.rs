//! Private keys at rest: XChaCha20-Poly1305 under a key from outside the
//! database.

use chacha20poly1305::aead::{Aead, Payload};
use chacha20poly1305::{KeyInit, XChaCha20Poly1305, XNonce};
use sha2::{Digest, Sha256};
use thiserror::Error;

const NONCE: usize = 24;

/// What can go wrong with sealing.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum SealError {
    /// The key is not 64 hexadecimal characters.
    #[error(
        "The sealing key must be 64 hexadecimal characters (256 bits). Make one with: openssl rand -hex 32"
    )]
    BadKey,
    /// The box was made with another key, for something else, or is damaged.
    #[error(
        "A sealed {0} cannot be opened with this sealing key. Start the service with the key that sealed it."
    )]
    WrongKey(&'static str),
}

/// Seals and opens secrets, each bound to what it is for.
#[derive(Clone)]
pub struct Sealer {
    cipher: XChaCha20Poly1305,
    canary_key: [u8; 32],
}

impl Sealer {
    /// Reads the key as it stands in a file or an environment variable.
    ///
    /// # Errors
    /// [`SealError::BadKey`].
    pub fn from_hex(text: &str) -> Result<Self, SealError> {
        let text = text.trim();
        let byte = |i: usize| u8::from_str_radix(text.get(i..i + 2)?, 16).ok();
        let key: Option<Vec<u8>> = (0..text.len()).step_by(2).map(byte).collect();
        let key: [u8; 32] = key.and_then(|k| k.try_into().ok()).ok_or(SealError::BadKey)?;
        let canary_key = Sha256::new().chain_update(b"canary").chain_update(key).finalize().into();
        Ok(Self { cipher: XChaCha20Poly1305::new(&key.into()), canary_key })
    }

    /// Seals `secret`; the nonce comes first.
    pub fn seal(&self, purpose: &'static str, secret: &[u8]) -> Vec<u8> {
        let nonce: [u8; NONCE] = rand::random();
        let payload = Payload { msg: secret, aad: purpose.as_bytes() };
        // Fails only for messages beyond 256 GiB.
        let sealed = self.cipher.encrypt(XNonce::from_slice(&nonce), payload).unwrap_or_default();
        [&nonce[..], &sealed].concat()
    }

    /// Opens what [`seal`](Self::seal) made for the same purpose.
    ///
    /// # Errors
    /// [`SealError::WrongKey`].
    pub fn open(&self, purpose: &'static str, sealed: &[u8]) -> Result<Vec<u8>, SealError> {
        let (nonce, body) = sealed.split_at_checked(NONCE).ok_or(SealError::WrongKey(purpose))?;
        let payload = Payload { msg: body, aad: purpose.as_bytes() };
        self.cipher.decrypt(XNonce::from_slice(nonce), payload).map_err(|_| SealError::WrongKey(purpose))
    }

    /// What the edge must answer to the canary `token`: every service process
    /// with this key knows it, and nobody else can.
    pub fn canary_answer(&self, token: &str) -> String {
        let hash = Sha256::new().chain_update(self.canary_key).chain_update(token).finalize();
        hash.iter().map(|b| format!("{b:02x}")).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sealer(digit: &str) -> Sealer {
        Sealer::from_hex(&digit.repeat(64)).expect("valid key")
    }

    #[test]
    fn a_box_opens_with_its_own_key_and_purpose_alone() {
        let sealed = sealer("a").seal("private key", b"secret");
        assert_eq!(sealer("a").open("private key", &sealed).expect("opens"), b"secret");
        assert!(sealer("b").open("private key", &sealed).is_err());
        assert!(sealer("a").open("account", &sealed).is_err());
        assert!(sealer("a").open("private key", &sealed[..10]).is_err());
        assert_ne!(sealed, sealer("a").seal("private key", b"secret"), "nonces differ");
    }

    #[test]
    fn a_bad_key_is_refused_with_advice() {
        for bad in ["", "abc", "zz", &"a".repeat(62), &"g".repeat(64), &"a".repeat(66)] {
            assert_eq!(Sealer::from_hex(bad).err(), Some(SealError::BadKey), "{bad}");
        }
        assert!(SealError::BadKey.to_string().contains("openssl rand -hex 32"));
    }
}

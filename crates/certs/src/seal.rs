//! Private keys at rest: XChaCha20-Poly1305 under a key from outside the
//! database.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use chacha20poly1305::aead::{Aead, Payload};
use chacha20poly1305::{KeyInit, XChaCha20Poly1305, XNonce};
use data_encoding::{HEXLOWER, HEXLOWER_PERMISSIVE};
use sha2::{Digest, Sha256};
use thiserror::Error;
use zeroize::Zeroizing;

const NONCE: usize = 24;
/// Length of a key's number, in octets.
const ID: usize = 4;

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
        "A sealed {0} cannot be opened with this sealing key. Start the service with the key that sealed it, or \
         give that one as the former key too."
    )]
    WrongKey(&'static str),
    /// The box was made with a key that was not given.
    #[error(
        "A {0} was sealed with another sealing key than this process was started with. Start it with that key, and \
         with this one as the former key."
    )]
    UnknownKey(&'static str),
}

/// Seals and opens secrets, each bound to what it is for. With a former key
/// beside the current one, what that key sealed can be opened too; and that one
/// goes on sealing until [`turn`](Self::turn).
#[derive(Clone)]
pub struct Sealer {
    current: Arc<Keyed>,
    former: Option<Arc<Keyed>>,
    /// Whether the current key seals, however many hold this sealer.
    has_turned: Arc<AtomicBool>,
}

/// One key, and the number by which its boxes are told from others.
struct Keyed {
    id: [u8; ID],
    /// Gone from memory with its last holder, as the other one is.
    cipher: XChaCha20Poly1305,
    canary_key: Zeroizing<[u8; 32]>,
}

impl Keyed {
    fn from_hex(text: &str) -> Result<Self, SealError> {
        let octets = HEXLOWER_PERMISSIVE.decode(text.trim().as_bytes()).map_err(|_| SealError::BadKey)?;
        let octets = Zeroizing::new(octets);
        let key = Zeroizing::new(<[u8; 32]>::try_from(octets.as_slice()).map_err(|_| SealError::BadKey)?);

        let [a, b, c, d, ..] = derived(&key, b"id");
        Ok(Self {
            id: [a, b, c, d],
            cipher: XChaCha20Poly1305::new((&*key).into()),
            canary_key: Zeroizing::new(derived(&key, b"canary")),
        })
    }

    fn hex_id(&self) -> String {
        HEXLOWER.encode(&self.id)
    }

    /// The key's number, the nonce, the box.
    fn seal(&self, purpose: &'static str, secret: &[u8]) -> Vec<u8> {
        let nonce: [u8; NONCE] = rand::random();
        let payload = Payload { msg: secret, aad: purpose.as_bytes() };

        // Fails only for messages beyond 256 GiB.
        let sealed = self.cipher.encrypt(XNonce::from_slice(&nonce), payload).unwrap_or_default();
        [&self.id[..], &nonce[..], &sealed].concat()
    }
}

fn derived(key: &[u8; 32], word: &[u8]) -> [u8; 32] {
    Sha256::new().chain_update(word).chain_update(key).finalize().into()
}

impl Sealer {
    /// Reads the key as it stands in a file or an environment variable.
    ///
    /// # Errors
    /// [`SealError::BadKey`].
    pub fn from_hex(text: &str) -> Result<Self, SealError> {
        let current = Arc::new(Keyed::from_hex(text)?);
        Ok(Self { current, former: None, has_turned: Arc::new(AtomicBool::new(true)) })
    }

    /// The same, able to open what a former key sealed.
    ///
    /// # Errors
    /// [`SealError::BadKey`].
    pub fn after(self, former: &str) -> Result<Self, SealError> {
        let former = Some(Arc::new(Keyed::from_hex(former)?));
        Ok(Self { former, has_turned: Arc::new(AtomicBool::new(false)), ..self })
    }

    /// Seals with the current key from now on: every process can open its boxes.
    pub fn turn(&self) {
        self.has_turned.store(true, Ordering::Release);
    }

    /// Numbers of the keys whose boxes it opens.
    pub fn opens(&self) -> Vec<String> {
        self.keys().map(Keyed::hex_id).collect()
    }

    /// Number of the key that it was given as the current one.
    pub fn current(&self) -> String {
        self.current.hex_id()
    }

    /// Number of the key that seals now.
    pub fn seals_with(&self) -> String {
        self.sealing().hex_id()
    }

    fn keys(&self) -> impl Iterator<Item = &Keyed> {
        std::iter::once(&self.current).chain(&self.former).map(Arc::as_ref)
    }

    fn sealing(&self) -> &Keyed {
        match &self.former {
            Some(former) if !self.has_turned.load(Ordering::Acquire) => former,
            _ => &self.current,
        }
    }

    /// Seals `secret`: the key's number, the nonce, the box.
    pub fn seal(&self, purpose: &'static str, secret: &[u8]) -> Vec<u8> {
        self.sealing().seal(purpose, secret)
    }

    /// The same with the current key, whoever can open it by now.
    pub fn seal_anew(&self, purpose: &'static str, secret: &[u8]) -> Vec<u8> {
        self.current.seal(purpose, secret)
    }

    /// Opens what [`seal`](Self::seal) made for the same purpose.
    ///
    /// # Errors
    /// [`SealError::WrongKey`], or [`SealError::UnknownKey`] where a key is missing here.
    pub fn open(&self, purpose: &'static str, sealed: &[u8]) -> Result<Zeroizing<Vec<u8>>, SealError> {
        let wrong = SealError::WrongKey(purpose);
        let Some((id, rest)) = sealed.split_at_checked(ID) else { return Err(wrong) };
        let Some((nonce, body)) = rest.split_at_checked(NONCE) else { return Err(wrong) };

        let keyed = self.keys().find(|keyed| keyed.id == id).ok_or(SealError::UnknownKey(purpose))?;
        let payload = Payload { msg: body, aad: purpose.as_bytes() };
        keyed.cipher.decrypt(XNonce::from_slice(nonce), payload).map(Zeroizing::new).map_err(|_| wrong)
    }

    /// Seals anew what a former key sealed; `None` if the current one did.
    ///
    /// # Errors
    /// As for [`open`](Self::open).
    pub fn reseal(&self, purpose: &'static str, sealed: &[u8]) -> Result<Option<Vec<u8>>, SealError> {
        let secret = self.open(purpose, sealed)?;
        if sealed.starts_with(&self.current.id) {
            return Ok(None);
        }
        Ok(Some(self.seal_anew(purpose, &secret)))
    }

    /// A new token for a canary; its answer is known to every process with the
    /// same key.
    pub fn canary_token(&self) -> String {
        format!("canary-{}-{:016x}", self.sealing().hex_id(), rand::random::<u64>())
    }

    /// What the edge must answer to the canary `token`; `None` if it is of an
    /// unknown key. Nobody else can tell the answer.
    pub fn canary_answer(&self, token: &str) -> Option<String> {
        let (id, _) = token.strip_prefix("canary-")?.split_once('-')?;
        let keyed = self.keys().find(|keyed| keyed.hex_id() == id)?;

        let hash = Sha256::new().chain_update(*keyed.canary_key).chain_update(token).finalize();
        Some(HEXLOWER.encode(&hash))
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
        assert_eq!(sealer("a").open("private key", &sealed).expect("opens").as_slice(), b"secret");
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

    #[test]
    fn a_former_key_opens_and_what_it_sealed_is_sealed_anew_once() {
        let old = sealer("a").seal("private key", b"secret");
        let rotated = sealer("b").after(&"a".repeat(64)).expect("valid key");
        assert_eq!(rotated.open("private key", &old).expect("opens").as_slice(), b"secret");
        let new = rotated.reseal("private key", &old).expect("opens").expect("sealed anew");
        assert_eq!(sealer("b").open("private key", &new).expect("opens").as_slice(), b"secret");
        assert_eq!(rotated.reseal("private key", &new), Ok(None));
        assert_eq!(sealer("c").reseal("private key", &old), Err(SealError::UnknownKey("private key")));
    }

    #[test]
    fn the_former_key_seals_until_all_can_open_what_the_current_one_seals() {
        let rotated = sealer("b").after(&"a".repeat(64)).expect("valid key");
        let held_elsewhere = rotated.clone();
        assert!(sealer("a").open("account", &held_elsewhere.seal("account", b"x")).is_ok());
        assert_eq!((rotated.seals_with(), rotated.current()), (sealer("a").current(), sealer("b").current()));
        rotated.turn();
        assert!(sealer("b").open("account", &held_elsewhere.seal("account", b"x")).is_ok());
    }

    #[test]
    fn a_canary_is_answered_under_the_key_that_it_was_made_with() {
        let token = sealer("a").canary_token();
        let answer = sealer("a").canary_answer(&token);
        assert!(answer.is_some());
        let rotated = sealer("b").after(&"a".repeat(64)).expect("valid key");
        assert_eq!(rotated.canary_answer(&token), answer);
        assert!(sealer("a").canary_answer(&rotated.canary_token()).is_some(), "until it has turned");
        assert_eq!(sealer("b").canary_answer(&token), None);
    }
}

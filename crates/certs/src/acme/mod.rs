//! ACME (RFC 8555): an account at one directory, and orders with it by any of
//! the three methods.

mod error;
mod order;
mod transport;

use std::path::PathBuf;
use std::time::Duration;

use base64::Engine;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use chrono::{DateTime, Utc};
use instant_acme::{
    Account, AccountBuilder, AccountCredentials, CertificateIdentifier, Error, ExternalAccountKey,
    Identifier, NewAccount, NewOrder, Order, RevocationReason as AcmeReason, RevocationRequest,
};
use nomenta_core::judge::certificate::RevocationReason;
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;
use thiserror::Error as ThisError;
use zeroize::Zeroizing;

pub use error::AcmeError;
pub use order::{AcmeOrder, Answer, Outcome};
pub use transport::{CallLimits, TransportError};

use self::transport::{Calls, LONGEST_WAIT, Transport, instant};

/// How often a step is tried anew when the CA rejects its nonce, which it may
/// do at will (RFC 8555, section 6.5).
const NONCE_TRIES: usize = 40;

/// Where to order.
#[derive(Clone, Debug)]
pub struct AcmeConfig {
    /// Directory URL.
    pub directory: String,
    /// PEM bundle of roots that the directory's own TLS certificate leads to.
    pub directory_roots: PathBuf,
    /// Contact for the account, as a `mailto:` URL.
    pub contact: Option<String>,
    /// The account outside of ACME that the new one is bound to.
    pub external_account: Option<ExternalAccount>,
    /// How long the CA may take to validate, and then to issue.
    pub step_limit: Duration,
    /// How much it is asked for at once, and how long one call may take.
    pub calls: CallLimits,
}

/// A binding to an account outside of ACME (RFC 8555, section 7.3.4).
#[derive(Clone)]
pub struct ExternalAccount {
    /// Key identifier that the CA gave.
    pub id: String,
    /// MAC key that the CA gave.
    key: Vec<u8>,
}

/// The MAC key of an external account is not base64url.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ThisError)]
#[error("The key of the external account is not base64url. Copy it as the CA shows it.")]
pub struct ExternalKeyError;

impl std::fmt::Debug for ExternalAccount {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ExternalAccount").field("id", &self.id).finish_non_exhaustive()
    }
}

impl ExternalAccount {
    /// Reads the MAC key as CAs hand it out, padded or not.
    ///
    /// # Errors
    /// [`ExternalKeyError`], if it is not base64url.
    pub fn new(id: String, key: &str) -> Result<Self, ExternalKeyError> {
        let key = BASE64_URL_SAFE_NO_PAD.decode(key.trim().trim_end_matches('='));
        Ok(Self { id, key: key.map_err(|_| ExternalKeyError)? })
    }
}

/// Does a step again as long as nothing but its nonce is wrong. A macro, since
/// the future of a closure that borrows cannot be sent to another thread.
macro_rules! persist {
    ($step:expr) => {{
        let mut tries = 0;
        loop {
            tries += 1;
            let done: Result<_, instant_acme::Error> = $step.await;
            match done.map_err($crate::acme::AcmeError::from) {
                Err($crate::acme::AcmeError::StaleNonce) if tries < $crate::acme::NONCE_TRIES => {}
                other => break other,
            }
        }
    }};
}
use persist;

/// An account at the CA.
#[derive(Clone)]
pub struct Acme {
    account: Account,
    calls: Calls,
    step_limit: Duration,
}

impl Acme {
    /// Opens the account whose credentials [`register`](Self::register) gave.
    ///
    /// # Errors
    /// [`AcmeError::Unreadable`] if these are no such credentials; otherwise
    /// the CA could not be reached, and it may be tried again.
    pub async fn load(config: &AcmeConfig, credentials: &[u8]) -> Result<Self, AcmeError> {
        let credentials: AccountCredentials =
            serde_json::from_slice(credentials).map_err(|e| AcmeError::Unreadable(e.into()))?;

        let calls = Calls::new(config.calls);
        let account = builder(config, &calls)?.from_credentials(credentials).await?;
        Ok(Self { account, calls, step_limit: config.step_limit })
    }

    /// Makes a new account, agreeing to the CA's terms; returns its
    /// credentials, to be sealed and kept.
    ///
    /// # Errors
    /// [`AcmeError::Refused`] if the CA wants no such account; otherwise it
    /// may be tried again.
    pub async fn register(config: &AcmeConfig) -> Result<(Self, Zeroizing<Vec<u8>>), AcmeError> {
        let contact: Vec<&str> = config.contact.as_deref().into_iter().collect();
        let new =
            NewAccount { contact: &contact, terms_of_service_agreed: true, only_return_existing: false };
        let binding = config.external_account.as_ref();
        let binding = binding.map(|outside| ExternalAccountKey::new(outside.id.clone(), &outside.key));

        let calls = Calls::new(config.calls);
        let registered = persist!(async {
            let builder = builder(config, &calls)?;
            builder.create(&new, config.directory.clone(), binding.as_ref()).await
        });
        let (account, credentials) = registered.map_err(|error| error.with(&calls.retry_after))?;

        let credentials = written(&credentials)?;
        Ok((Self { account, calls, step_limit: config.step_limit }, credentials))
    }

    /// The same account with another key (section 7.3.5), and its credentials, to be sealed and
    /// kept: no other key opens it from now on.
    ///
    /// # Errors
    /// [`AcmeError::Refused`] if the CA changes no keys.
    pub async fn rekeyed(mut self) -> Result<(Self, Zeroizing<Vec<u8>>), AcmeError> {
        let changed = persist!(self.account.update_key());
        let credentials = changed.map_err(|error| error.with(&self.calls.retry_after))?;
        Ok((self, written(&credentials)?))
    }

    /// The account's URL, which CAA records may name (RFC 8657, section 3).
    pub fn uri(&self) -> &str {
        self.account.id()
    }

    /// Places an order for some names (section 7.4), in place of the
    /// certificate `replaces` if the CA takes such hints (RFC 9773, section 5).
    ///
    /// # Errors
    /// [`AcmeError::Refused`] if the CA wants no such order.
    pub async fn order(&self, names: &[String], replaces: Option<&str>) -> Result<AcmeOrder, AcmeError> {
        let identifiers: Vec<_> = names.iter().map(|name| Identifier::Dns(name.clone())).collect();

        let leaf = replaces.and_then(|pem| CertificateDer::from_pem_slice(pem.as_bytes()).ok());
        let replaced = leaf.as_ref().and_then(|leaf| CertificateIdentifier::try_from(leaf).ok());
        if let Some(replaced) = replaced {
            let new = NewOrder::new(&identifiers).replaces(replaced);
            match persist!(self.account.new_order(&new)) {
                Ok(order) => return Ok(self.under_way(order)),
                Err(error) if error.is_about_replaces() => {}
                Err(error) => return Err(error.with(&self.calls.retry_after)),
            }
        }

        let new = NewOrder::new(&identifiers);
        let placed = persist!(self.account.new_order(&new));
        placed.map(|order| self.under_way(order)).map_err(|error| error.with(&self.calls.retry_after))
    }

    /// Goes on with an order placed earlier, perhaps by another process.
    ///
    /// # Errors
    /// [`AcmeError::NoOrder`] if the CA no longer has it.
    pub async fn resume(&self, url: &str) -> Result<AcmeOrder, AcmeError> {
        let found = persist!(async {
            match self.account.order(url.to_owned()).await {
                // Some CAs say so with an empty body instead of a problem document.
                Err(Error::Json(_)) => Ok(None),
                other => other.map(Some),
            }
        });

        match found.map_err(|error| error.with(&self.calls.retry_after))? {
            Some(order) => Ok(self.under_way(order)),
            None => Err(AcmeError::NoOrder("its address has nothing to read".into())),
        }
    }

    /// The window in which the CA advises to renew a certificate, and when to
    /// ask again; `None` if it has no advice to give (RFC 9773).
    ///
    /// # Errors
    /// [`AcmeError::Unavailable`]; what was advised before still holds.
    pub async fn advice(&self, chain_pem: &str) -> Result<Option<Advice>, AcmeError> {
        let Ok(leaf) = CertificateDer::from_pem_slice(chain_pem.as_bytes()) else { return Ok(None) };
        let Ok(id) = CertificateIdentifier::try_from(&leaf) else { return Ok(None) };

        match self.account.renewal_info(&id).await {
            Err(Error::Unsupported(_)) => Ok(None),
            Err(other) => Err(other.into()),
            Ok((info, delay)) => Ok(Some(Advice {
                window: (instant(info.suggested_window.start), instant(info.suggested_window.end)),
                again_after: delay.min(LONGEST_WAIT.to_std().unwrap_or(delay)),
            })),
        }
    }

    /// Revokes a certificate (section 7.6); one that is revoked stays so.
    ///
    /// # Errors
    /// [`AcmeError::Refused`] if the CA does not want to.
    pub async fn revoke(&self, chain_pem: &str, reason: RevocationReason) -> Result<(), AcmeError> {
        let leaf = CertificateDer::from_pem_slice(chain_pem.as_bytes());
        let leaf = leaf.map_err(|e| AcmeError::Unreadable(e.into()))?;

        let request = RevocationRequest { certificate: &leaf, reason: Some(acme_reason(reason)) };
        let revoked = persist!(self.account.revoke(&request));
        match revoked.map_err(|error| error.with(&self.calls.retry_after)) {
            Err(AcmeError::Refused { problem, .. }) if problem.short() == "alreadyRevoked" => Ok(()),
            other => other,
        }
    }

    fn under_way(&self, order: Order) -> AcmeOrder {
        AcmeOrder { order, retry_after: self.calls.retry_after.clone(), step_limit: self.step_limit }
    }
}

fn written(credentials: &AccountCredentials) -> Result<Zeroizing<Vec<u8>>, AcmeError> {
    serde_json::to_vec(credentials).map(Zeroizing::new).map_err(|e| AcmeError::Unreadable(e.into()))
}

fn builder(config: &AcmeConfig, calls: &Calls) -> Result<AccountBuilder, Error> {
    let transport = Transport::new(&config.directory_roots, calls.clone())?;
    Ok(Account::builder_with_http(Box::new(transport)))
}

/// When the CA would like a certificate to be renewed (RFC 9773, section 4.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Advice {
    /// Start and end of the window.
    pub window: (DateTime<Utc>, DateTime<Utc>),
    /// When to ask again.
    pub again_after: Duration,
}

fn acme_reason(reason: RevocationReason) -> AcmeReason {
    match reason {
        RevocationReason::Unspecified => AcmeReason::Unspecified,
        RevocationReason::KeyCompromise => AcmeReason::KeyCompromise,
        RevocationReason::Superseded => AcmeReason::Superseded,
        RevocationReason::CessationOfOperation => AcmeReason::CessationOfOperation,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_external_key_is_read_padded_or_not() {
        for key in ["c2VjcmV0LWtleQ", "c2VjcmV0LWtleQ=="] {
            let read = ExternalAccount::new("kid-1".into(), key).expect("reads");
            assert!(!format!("{read:?}").contains("secret"));
        }
        assert_eq!(ExternalAccount::new("kid-1".into(), "a b").expect_err("bad"), ExternalKeyError);
    }
}

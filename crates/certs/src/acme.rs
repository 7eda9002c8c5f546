//! ACME orders (RFC 8555) by any of the three methods.

use std::path::PathBuf;
use std::time::Duration;

use base64::Engine;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use chrono::{DateTime, Utc};
use instant_acme::{
    Account, AccountBuilder, AccountCredentials, AuthorizationStatus, CertificateIdentifier, ChallengeType,
    Error, ExternalAccountKey, Identifier, NewAccount, NewOrder, Order, OrderStatus, RetryPolicy,
    RevocationReason, RevocationRequest,
};
use nomenta_core::certificate::Method;
use nomenta_core::evidence::{Problem, Subproblem};
use rustls_pki_types::CertificateDer;
use rustls_pki_types::pem::PemObject;
use sha2::{Digest, Sha256};
use thiserror::Error;

use crate::transport::{Patience, Transport, instant};

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
    /// How long the CA may take for one step.
    pub patience: Duration,
}

/// A binding to an account outside of ACME (RFC 8555, section 7.3.4).
#[derive(Clone)]
pub struct ExternalAccount {
    /// Key identifier that the CA gave.
    pub id: String,
    /// MAC key that the CA gave.
    key: Vec<u8>,
}

impl std::fmt::Debug for ExternalAccount {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ExternalAccount").field("id", &self.id).finish_non_exhaustive()
    }
}

impl ExternalAccount {
    /// Reads the MAC key as CAs hand it out.
    ///
    /// # Errors
    /// A sentence, if it is not base64url.
    pub fn new(id: String, key: &str) -> Result<Self, String> {
        let key = BASE64_URL_SAFE_NO_PAD.decode(key.trim().trim_end_matches('='));
        let key = key.map_err(|_| {
            "The key of the external account is not base64url. Copy it as the CA shows it.".to_owned()
        });
        Ok(Self { id, key: key? })
    }
}

/// Why an order does not get on.
#[derive(Debug, Error)]
pub enum AcmeError {
    /// The CA said no, and why.
    #[error("The certification authority refused: {}", .problem.detail)]
    Refused {
        /// Its problem document.
        problem: Problem,
        /// Before when it does not want to be asked again.
        retry_after: Option<DateTime<Utc>>,
    },
    /// The CA no longer knows the account.
    #[error("The certification authority no longer knows the account: {0}")]
    NoAccount(String),
    /// The CA no longer knows the order.
    #[error("The certification authority no longer knows the order: {0}")]
    NoOrder(String),
    /// The CA rejected a nonce; nothing has happened.
    #[error("The certification authority rejected a nonce")]
    StaleNonce,
    /// The CA is too busy to answer now (RFC 9110, section 15.6.4). Nothing is
    /// decided yet.
    #[error("The certification authority is busy, and asks to be left alone until {until}: {said}")]
    Busy {
        /// What was seen of it.
        said: String,
        /// Before when it does not want to be asked again.
        until: DateTime<Utc>,
    },
    /// The CA cannot be reached, or takes too long. Nothing is decided yet.
    #[error("The certification authority cannot be reached: {0}")]
    Unavailable(String),
}

impl From<Error> for AcmeError {
    fn from(error: Error) -> Self {
        match error {
            Error::Api(problem) => from_problem(problem),
            other => Self::Unavailable(other.to_string()),
        }
    }
}

fn from_problem(problem: instant_acme::Problem) -> AcmeError {
    let kind = problem.r#type.clone().unwrap_or_default();
    let busy = problem.status.is_some_and(|s| s >= 500);
    let detail = problem.detail.clone().unwrap_or_default();
    match kind.rsplit(':').next().unwrap_or_default() {
        "badNonce" => AcmeError::StaleNonce,
        "accountDoesNotExist" => AcmeError::NoAccount(detail),
        "serverInternal" => AcmeError::Unavailable(detail),
        "rateLimited" => AcmeError::Refused { problem: ours(problem), retry_after: None },
        _ if problem.status == Some(404) => AcmeError::NoOrder(detail),
        _ if busy => AcmeError::Unavailable(detail),
        _ => AcmeError::Refused { problem: ours(problem), retry_after: None },
    }
}

/// The problem document in our own words.
fn ours(problem: instant_acme::Problem) -> Problem {
    let sub = |sub: instant_acme::Subproblem| Subproblem {
        name: sub.identifier.as_ref().map(|i| i.authorized(false).to_string()).unwrap_or_default(),
        kind: sub.r#type.unwrap_or_default(),
        detail: sub.detail.unwrap_or_default(),
    };
    Problem {
        kind: problem.r#type.unwrap_or_default(),
        detail: problem.detail.unwrap_or_default(),
        status: problem.status,
        subproblems: problem.subproblems.into_iter().map(sub).collect(),
    }
}

/// Does a step again as long as nothing but its nonce is wrong. A macro, since
/// the future of a closure that borrows cannot be sent to another thread.
macro_rules! persist {
    ($step:expr) => {{
        let mut tries = 0;
        loop {
            tries += 1;
            let done: Result<_, Error> = $step.await;
            match done.map_err(AcmeError::from) {
                Err(AcmeError::StaleNonce) if tries < NONCE_TRIES => {}
                other => break other,
            }
        }
    }};
}

/// An account at the CA.
#[derive(Clone)]
pub struct Acme {
    account: Account,
    throttle: Patience,
    patience: Duration,
}

impl Acme {
    /// Opens the account whose credentials [`register`](Self::register) gave.
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn load(config: &AcmeConfig, credentials: &[u8]) -> Result<Self, AcmeError> {
        let credentials: AccountCredentials = serde_json::from_slice(credentials).map_err(Error::from)?;
        let throttle = Patience::default();
        let account = builder(config, &throttle)?.from_credentials(credentials).await?;
        Ok(Self { account, throttle, patience: config.patience })
    }

    /// Makes a new account, agreeing to the CA's terms; returns its
    /// credentials, to be sealed and kept.
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn register(config: &AcmeConfig) -> Result<(Self, Vec<u8>), AcmeError> {
        let contact: Vec<&str> = config.contact.as_deref().into_iter().collect();
        let new =
            NewAccount { contact: &contact, terms_of_service_agreed: true, only_return_existing: false };
        let binding = config.external_account.as_ref();
        let binding = binding.map(|outside| ExternalAccountKey::new(outside.id.clone(), &outside.key));
        let throttle = Patience::default();
        let (account, credentials) = persist!(async {
            let builder = builder(config, &throttle)?;
            builder.create(&new, config.directory.clone(), binding.as_ref()).await
        })
        .map_err(|error| throttled(&throttle, error))?;
        let credentials = serde_json::to_vec(&credentials).map_err(Error::from)?;
        Ok((Self { account, throttle, patience: config.patience }, credentials))
    }

    /// The account's URL, which CAA records may name (RFC 8657, section 3).
    pub fn uri(&self) -> &str {
        self.account.id()
    }

    /// Places an order for some names (section 7.4), in place of the
    /// certificate `replaces` if the CA takes such hints (RFC 9773, section 5).
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn order(&self, names: &[String], replaces: Option<&str>) -> Result<AcmeOrder, AcmeError> {
        let identifiers: Vec<_> = names.iter().map(|name| Identifier::Dns(name.clone())).collect();
        let chain = replaces.and_then(|pem| CertificateDer::from_pem_slice(pem.as_bytes()).ok());
        if let Some(id) = chain.as_ref().and_then(|leaf| CertificateIdentifier::try_from(leaf).ok()) {
            let new = NewOrder::new(&identifiers).replaces(id);
            match persist!(self.account.new_order(&new)) {
                Ok(order) => return Ok(self.under_way(order)),
                // A CA that takes no such hints, or has counted this one already.
                Err(AcmeError::Unavailable(said)) if said.contains("ARI") || said.contains("replaces") => {}
                Err(AcmeError::Refused { problem, .. }) if problem.short() == "alreadyReplaced" => {}
                Err(other) => return Err(self.throttled(other)),
            }
        }
        let new = NewOrder::new(&identifiers);
        let placed = persist!(self.account.new_order(&new));
        placed.map(|order| self.under_way(order)).map_err(|error| self.throttled(error))
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
        match found.map_err(|error| self.throttled(error))? {
            Some(order) => Ok(self.under_way(order)),
            None => Err(AcmeError::NoOrder("its address has nothing to read".into())),
        }
    }

    /// The window in which the CA advises to renew a certificate, and when to
    /// ask again; `None` if it has no advice to give (RFC 9773).
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn advice(&self, chain_pem: &str) -> Result<Option<Advice>, AcmeError> {
        let Ok(leaf) = CertificateDer::from_pem_slice(chain_pem.as_bytes()) else { return Ok(None) };
        let Ok(id) = CertificateIdentifier::try_from(&leaf) else { return Ok(None) };
        match self.account.renewal_info(&id).await {
            Err(Error::Unsupported(_)) => Ok(None),
            Err(other) => Err(other.into()),
            Ok((info, delay)) => Ok(Some(Advice {
                window: (instant(info.suggested_window.start), instant(info.suggested_window.end)),
                again_after: delay,
            })),
        }
    }

    /// Revokes a certificate (section 7.6).
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn revoke(&self, chain_pem: &str, reason: Reason) -> Result<(), AcmeError> {
        let leaf = CertificateDer::from_pem_slice(chain_pem.as_bytes());
        let leaf = leaf.map_err(|e| AcmeError::Unavailable(e.to_string()))?;
        let request = RevocationRequest { certificate: &leaf, reason: Some(reason.into()) };
        let revoked = persist!(self.account.revoke(&request));
        match revoked.map_err(|error| self.throttled(error)) {
            Err(AcmeError::Refused { problem, .. }) if problem.short() == "alreadyRevoked" => Ok(()),
            other => other,
        }
    }

    fn under_way(&self, order: Order) -> AcmeOrder {
        AcmeOrder { order, throttle: self.throttle.clone(), patience: self.patience }
    }

    fn throttled(&self, error: AcmeError) -> AcmeError {
        throttled(&self.throttle, error)
    }
}

/// Adds the moment that the CA named.
fn throttled(throttle: &Patience, error: AcmeError) -> AcmeError {
    match (error, throttle.until(Utc::now())) {
        (AcmeError::Refused { problem, .. }, retry_after) if problem.is_throttling() => {
            AcmeError::Refused { problem, retry_after }
        }
        (AcmeError::Unavailable(said), Some(until)) => AcmeError::Busy { said, until },
        (other, _) => other,
    }
}

fn builder(config: &AcmeConfig, throttle: &Patience) -> Result<AccountBuilder, Error> {
    let transport = Transport::new(&config.directory_roots, throttle.clone())?;
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

/// Why a certificate is revoked (RFC 5280, section 5.3.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reason {
    /// No reason is given.
    Unspecified,
    /// Somebody else may have the private key.
    KeyCompromise,
    /// Another certificate has taken its place.
    Superseded,
    /// The domain has left the platform.
    CessationOfOperation,
}

impl From<Reason> for RevocationReason {
    fn from(reason: Reason) -> Self {
        match reason {
            Reason::Unspecified => Self::Unspecified,
            Reason::KeyCompromise => Self::KeyCompromise,
            Reason::Superseded => Self::Superseded,
            Reason::CessationOfOperation => Self::CessationOfOperation,
        }
    }
}

/// What must be answered for one challenge.
#[derive(Clone, Debug)]
pub struct Answer {
    /// The name that is validated, without `*.`.
    pub name: String,
    /// How.
    pub method: Method,
    /// The challenge's token: the last part of the well-known path (section 8.3).
    pub token: String,
    /// The body to answer with by HTTP.
    pub key_authorization: String,
}

impl Answer {
    /// SHA-256 of the key authorization, for TLS (RFC 8737, section 3).
    pub fn digest(&self) -> [u8; 32] {
        Sha256::digest(&self.key_authorization).into()
    }

    /// The TXT record to answer with by DNS (section 8.4).
    pub fn txt(&self) -> String {
        BASE64_URL_SAFE_NO_PAD.encode(self.digest())
    }
}

fn challenge_type(method: Method) -> ChallengeType {
    match method {
        Method::Http => ChallengeType::Http01,
        Method::TlsAlpn => ChallengeType::TlsAlpn01,
        Method::Dns => ChallengeType::Dns01,
    }
}

/// An order under way.
pub struct AcmeOrder {
    order: Order,
    throttle: Patience,
    patience: Duration,
}

impl AcmeOrder {
    /// Where the CA keeps it.
    pub fn url(&self) -> &str {
        self.order.url()
    }

    /// The answers that must be in place before [`finish`](Self::finish).
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn answers(&mut self, method: Method) -> Result<Vec<Answer>, AcmeError> {
        persist!(async {
            let mut answers = Vec::new();
            let mut authorizations = self.order.authorizations();
            while let Some(authorization) = authorizations.next().await {
                let mut authorization = authorization?;
                if authorization.status != AuthorizationStatus::Pending {
                    continue;
                }
                let name = authorization.identifier().identifier.authorized(false).to_string();
                let challenge = authorization
                    .challenge(challenge_type(method))
                    .ok_or_else(|| Error::Other(format!("the CA offers no {method} challenge").into()))?;
                let key_authorization = challenge.key_authorization().as_str().to_owned();
                answers.push(Answer { name, method, token: challenge.token.clone(), key_authorization });
            }
            Ok(answers)
        })
    }

    /// Brings the order to its end, from whatever state it is in; returns the
    /// chain as PEM, leaf first.
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn finish(&mut self, method: Method, csr_der: &[u8]) -> Result<String, AcmeError> {
        let ended = self.conclude(method, csr_der).await;
        ended.map_err(|error| throttled(&self.throttle, error))
    }

    async fn conclude(&mut self, method: Method, csr_der: &[u8]) -> Result<String, AcmeError> {
        let (order, retries) = (&mut self.order, retries(self.patience));
        if order.state().status == OrderStatus::Pending {
            persist!(set_ready(order, method))?;
            match persist!(order.poll_ready(&retries)) {
                Ok(OrderStatus::Invalid) | Err(AcmeError::Refused { .. }) => {
                    return Err(self.refusal().await);
                }
                other => other.map(drop)?,
            }
        }
        if order.state().status == OrderStatus::Ready {
            match persist!(order.finalize_csr(csr_der)) {
                // Somebody else with the same order was first.
                Err(AcmeError::Refused { problem, .. }) if problem.short() == "orderNotReady" => {
                    persist!(async { order.refresh().await.map(drop) })?;
                }
                other => other?,
            }
        }
        if order.state().status == OrderStatus::Invalid {
            return Err(self.refusal().await);
        }
        persist!(order.poll_certificate(&retries))
    }

    /// The CA keeps the reason with the challenge that failed.
    async fn refusal(&mut self) -> AcmeError {
        let found = persist!(async {
            let mut authorizations = self.order.authorizations();
            let mut errors = Vec::new();
            while let Some(authorization) = authorizations.next().await {
                let mut authorization = authorization?;
                let state = authorization.refresh().await?;
                let name = state.identifier().to_string();
                let error = state.challenges.iter().find_map(|c| c.error.clone());
                errors.extend(error.map(|error| (name, ours(error))));
            }
            Ok(errors)
        });
        let errors = found.unwrap_or_default();
        let sub = |(name, p): &(String, Problem)| Subproblem {
            name: name.clone(),
            kind: p.kind.clone(),
            detail: p.detail.clone(),
        };
        let subproblems: Vec<_> = errors.iter().map(sub).collect();
        let problem = match (errors.into_iter().next(), self.order.state().error.clone()) {
            (Some((_, problem)), _) => Problem { subproblems, ..problem },
            (None, Some(problem)) => ours(problem),
            (None, None) => Problem {
                detail: "The order became invalid, and no reason was given".into(),
                ..Problem::default()
            },
        };
        AcmeError::Refused { problem, retry_after: None }
    }
}

async fn set_ready(order: &mut Order, method: Method) -> Result<(), Error> {
    let mut authorizations = order.authorizations();
    while let Some(authorization) = authorizations.next().await {
        let mut authorization = authorization?;
        if authorization.status == AuthorizationStatus::Pending
            && let Some(mut challenge) = authorization.challenge(challenge_type(method))
        {
            challenge.set_ready().await?;
        }
    }
    Ok(())
}

fn retries(patience: Duration) -> RetryPolicy {
    RetryPolicy::new().initial_delay(Duration::from_millis(200)).backoff(1.5).timeout(patience)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_derived_as_each_method_wants_them() {
        let answer = Answer {
            name: "onswick.example".into(),
            method: Method::Dns,
            token: "evaGxfADs6pSRb2LAv9IZf17Dt3juxGJ-PCt92wr-oA".into(),
            key_authorization: "token.thumb".into(),
        };
        assert_eq!(answer.txt().len(), 43, "base64url of 32 octets, unpadded");
        assert_eq!(BASE64_URL_SAFE_NO_PAD.decode(answer.txt()).expect("reads"), answer.digest());
    }

    #[test]
    fn problems_are_told_apart_by_what_to_do_about_them() {
        let problem = |kind: &str, status| {
            let text = format!(
                r#"{{"type": "urn:ietf:params:acme:error:{kind}", "detail": "d", "status": {status},
                    "subproblems": [{{"type": "t", "detail": "e",
                                      "identifier": {{"type": "dns", "value": "onswick.example"}}}}]}}"#
            );
            from_problem(serde_json::from_str(&text).expect("reads"))
        };
        assert!(matches!(problem("badNonce", 400), AcmeError::StaleNonce));
        assert!(matches!(problem("accountDoesNotExist", 400), AcmeError::NoAccount(_)));
        assert!(matches!(problem("serverInternal", 500), AcmeError::Unavailable(_)));
        assert!(matches!(problem("malformed", 404), AcmeError::NoOrder(_)));
        let AcmeError::Refused { problem, .. } = problem("rateLimited", 429) else { panic!("not refused") };
        assert!(problem.is_throttling());
        assert_eq!(problem.subproblems[0].name, "onswick.example");
    }

    #[test]
    fn the_external_key_is_read_padded_or_not() {
        for key in ["c2VjcmV0LWtleQ", "c2VjcmV0LWtleQ=="] {
            let read = ExternalAccount::new("kid-1".into(), key).expect("reads");
            assert!(!format!("{read:?}").contains("secret"));
        }
        assert!(ExternalAccount::new("kid-1".into(), "a b").expect_err("bad").contains("base64url"));
    }
}

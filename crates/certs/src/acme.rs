//! ACME orders over HTTP-01 (RFC 8555).

use std::path::PathBuf;
use std::time::Duration;

use instant_acme::{
    Account, AccountBuilder, AccountCredentials, AuthorizationStatus, ChallengeType, Error, Identifier,
    NewAccount, NewOrder, Order, OrderStatus, RetryPolicy,
};
use nomenta_core::evidence::Problem;
use thiserror::Error;

/// Where to order.
#[derive(Clone, Debug)]
pub struct AcmeConfig {
    /// Directory URL.
    pub directory: String,
    /// Root of the directory's own TLS certificate, where it is no public one.
    pub directory_root: Option<PathBuf>,
    /// Contact for the account, as a `mailto:` URL.
    pub contact: Option<String>,
    /// How long the CA may take for one step.
    pub patience: Duration,
}

/// Why an order does not get on.
#[derive(Debug, Error)]
pub enum AcmeError {
    /// The CA said no, and why.
    #[error("The certification authority refused: {}", .0.detail)]
    Refused(Problem),
    /// The CA no longer knows the account.
    #[error("The certification authority no longer knows the account: {0}")]
    NoAccount(String),
    /// The CA no longer knows the order.
    #[error("The certification authority no longer knows the order: {0}")]
    NoOrder(String),
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
    let short = kind.rsplit(':').next().unwrap_or_default();
    let busy = matches!(short, "badNonce" | "serverInternal") || problem.status.is_some_and(|s| s >= 500);
    let details = problem.subproblems.iter().filter_map(|s| s.detail.clone());
    let detail = problem.detail.iter().cloned().chain(details).collect::<Vec<_>>().join("; ");
    match short {
        "accountDoesNotExist" => AcmeError::NoAccount(detail),
        _ if problem.status == Some(404) => AcmeError::NoOrder(detail),
        _ if busy => AcmeError::Unavailable(detail),
        _ => AcmeError::Refused(Problem { kind, detail, status: problem.status }),
    }
}

/// An account at the CA.
#[derive(Clone)]
pub struct Acme {
    account: Account,
    patience: Duration,
}

impl Acme {
    /// Opens the account whose credentials [`register`](Self::register) gave.
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn load(config: &AcmeConfig, credentials: &[u8]) -> Result<Self, AcmeError> {
        let credentials: AccountCredentials = serde_json::from_slice(credentials).map_err(Error::from)?;
        let account = builder(config)?.from_credentials(credentials).await?;
        Ok(Self { account, patience: config.patience })
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
        let (account, credentials) = builder(config)?.create(&new, config.directory.clone(), None).await?;
        let credentials = serde_json::to_vec(&credentials).map_err(Error::from)?;
        Ok((Self { account, patience: config.patience }, credentials))
    }

    /// Places an order for one name (section 7.4).
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn order(&self, host: &str) -> Result<AcmeOrder, AcmeError> {
        let names = [Identifier::Dns(host.to_owned())];
        let order = self.account.new_order(&NewOrder::new(&names)).await?;
        Ok(AcmeOrder { order, patience: self.patience })
    }

    /// Goes on with an order placed earlier, perhaps by another process.
    ///
    /// # Errors
    /// [`AcmeError::NoOrder`] if the CA no longer has it.
    pub async fn resume(&self, url: &str) -> Result<AcmeOrder, AcmeError> {
        let order = self.account.order(url.to_owned()).await.map_err(|error| match error {
            // Some CAs say so with an empty body instead of a problem document.
            Error::Json(_) => AcmeError::NoOrder("its address has nothing to read".into()),
            other => other.into(),
        })?;
        Ok(AcmeOrder { order, patience: self.patience })
    }
}

fn builder(config: &AcmeConfig) -> Result<AccountBuilder, Error> {
    match &config.directory_root {
        Some(root) => Account::builder_with_root(root),
        None => Account::builder(),
    }
}

/// What the edge must answer for one challenge.
#[derive(Clone, Debug)]
pub struct Answer {
    /// Last part of the well-known path (section 8.3).
    pub token: String,
    /// The body to answer with.
    pub key_authorization: String,
}

/// An order under way.
pub struct AcmeOrder {
    order: Order,
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
    pub async fn answers(&mut self) -> Result<Vec<Answer>, AcmeError> {
        let mut answers = Vec::new();
        let mut authorizations = self.order.authorizations();
        while let Some(authorization) = authorizations.next().await {
            let mut authorization = authorization?;
            if authorization.status != AuthorizationStatus::Pending {
                continue;
            }
            let challenge = authorization
                .challenge(ChallengeType::Http01)
                .ok_or_else(|| AcmeError::Unavailable("the CA offers no http-01 challenge".into()))?;
            let key_authorization = challenge.key_authorization().as_str().to_owned();
            answers.push(Answer { token: challenge.token.clone(), key_authorization });
        }
        Ok(answers)
    }

    /// Brings the order to its end, from whatever state it is in; returns the
    /// chain as PEM, leaf first.
    ///
    /// # Errors
    /// [`AcmeError`].
    pub async fn finish(&mut self, csr_der: &[u8]) -> Result<String, AcmeError> {
        if self.order.state().status == OrderStatus::Pending {
            self.set_ready().await?;
            self.await_ready().await?;
        }
        if self.order.state().status == OrderStatus::Ready {
            self.order.finalize_csr(csr_der).await?;
        }
        if self.order.state().status == OrderStatus::Invalid {
            return Err(self.refusal().await);
        }
        Ok(self.order.poll_certificate(&self.retries()).await?)
    }

    async fn set_ready(&mut self) -> Result<(), AcmeError> {
        let mut authorizations = self.order.authorizations();
        while let Some(authorization) = authorizations.next().await {
            let mut authorization = authorization?;
            if authorization.status == AuthorizationStatus::Pending
                && let Some(mut challenge) = authorization.challenge(ChallengeType::Http01)
            {
                challenge.set_ready().await?;
            }
        }
        Ok(())
    }

    async fn await_ready(&mut self) -> Result<(), AcmeError> {
        match self.order.poll_ready(&self.retries()).await {
            Ok(OrderStatus::Invalid) | Err(Error::Api(_)) => Err(self.refusal().await),
            Ok(_) => Ok(()),
            Err(other) => Err(other.into()),
        }
    }

    /// The CA keeps the reason with the challenge that failed.
    async fn refusal(&mut self) -> AcmeError {
        let mut authorizations = self.order.authorizations();
        while let Some(Ok(mut authorization)) = authorizations.next().await {
            let Ok(state) = authorization.refresh().await else { continue };
            if let Some(error) = state.challenges.iter().find_map(|c| c.error.clone()) {
                return from_problem(error);
            }
        }
        match self.order.state().error.clone() {
            Some(problem) => from_problem(problem),
            None => AcmeError::Refused(Problem {
                detail: "The order became invalid, and no reason was given".into(),
                ..Problem::default()
            }),
        }
    }

    fn retries(&self) -> RetryPolicy {
        RetryPolicy::new().initial_delay(Duration::from_millis(200)).backoff(1.5).timeout(self.patience)
    }
}

//! An order under way (RFC 8555, section 7.4): from wherever it stands to the
//! chain, or to the CA's reason against it.

use std::time::Duration;

use base64::Engine;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use instant_acme::{AuthorizationStatus, ChallengeType, Error, Order, OrderStatus, RetryPolicy};
use nomenta_core::judge::evidence::{Problem, Subproblem};
use nomenta_core::reading::method::Method;
use sha2::{Digest, Sha256};

use super::error::{NotOffered, ours};
use super::transport::RetryAfter;
use super::{AcmeError, persist};

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

/// What became of an order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// A certificate: its chain as PEM, leaf first.
    Issued(String),
    /// Nothing, for good.
    Invalid,
    /// Nothing yet.
    Open,
}

/// An order under way.
pub struct AcmeOrder {
    pub(super) order: Order,
    pub(super) retry_after: RetryAfter,
    pub(super) step_limit: Duration,
}

impl AcmeOrder {
    /// Where the CA keeps it.
    pub fn url(&self) -> &str {
        self.order.url()
    }

    /// The answers that must be in place before [`finish`](Self::finish).
    ///
    /// # Errors
    /// [`AcmeError`]; the order stands as before, and can be asked again.
    pub async fn answers(&mut self, method: Method) -> Result<Vec<Answer>, AcmeError> {
        persist!(pending(&mut self.order, method)).map_err(|error| error.with(&self.retry_after))
    }

    /// Brings the order to its end, from whatever state it is in; returns the
    /// chain as PEM, leaf first.
    ///
    /// # Errors
    /// [`AcmeError::Refused`] ends the order; after any other error it can be
    /// gone on with.
    pub async fn finish(&mut self, method: Method, csr_der: &[u8]) -> Result<String, AcmeError> {
        let ended = self.conclude(method, csr_der).await;
        ended.map_err(|error| error.with(&self.retry_after))
    }

    /// What became of it, without bringing it any further.
    ///
    /// # Errors
    /// [`AcmeError`]; it can be asked again.
    pub async fn outcome(&mut self) -> Result<Outcome, AcmeError> {
        match self.order.state().status {
            OrderStatus::Invalid => return Ok(Outcome::Invalid),
            OrderStatus::Pending | OrderStatus::Ready => return Ok(Outcome::Open),
            OrderStatus::Processing | OrderStatus::Valid => {}
        }

        let chain = persist!(self.order.certificate()).map_err(|error| error.with(&self.retry_after))?;
        Ok(chain.map_or(Outcome::Open, Outcome::Issued))
    }

    async fn conclude(&mut self, method: Method, csr_der: &[u8]) -> Result<String, AcmeError> {
        if self.order.state().status == OrderStatus::Pending {
            self.have_validated(method).await?;
        }
        if self.order.state().status == OrderStatus::Ready {
            self.finalize(csr_der).await?;
        }
        if self.order.state().status == OrderStatus::Invalid {
            return Err(self.refusal().await);
        }

        let retries = self.retries();
        persist!(self.order.poll_certificate(&retries))
    }

    /// Tells the CA that the answers are in place, and waits for its word.
    async fn have_validated(&mut self, method: Method) -> Result<(), AcmeError> {
        let retries = self.retries();
        persist!(set_ready(&mut self.order, method))?;

        match persist!(self.order.poll_ready(&retries)) {
            Ok(OrderStatus::Invalid) | Err(AcmeError::Refused { .. }) => Err(self.refusal().await),
            other => other.map(drop),
        }
    }

    async fn finalize(&mut self, csr_der: &[u8]) -> Result<(), AcmeError> {
        match persist!(self.order.finalize_csr(csr_der)) {
            // Somebody else with the same order was first.
            Err(AcmeError::Refused { problem, .. }) if problem.short() == "orderNotReady" => {
                persist!(async { self.order.refresh().await.map(drop) })
            }
            other => other,
        }
    }

    /// The CA keeps the reason with the challenge that failed.
    async fn refusal(&mut self) -> AcmeError {
        let failed = persist!(failed_challenges(&mut self.order)).unwrap_or_default();
        let subproblems: Vec<_> = failed
            .iter()
            .map(|(name, problem)| Subproblem {
                name: name.clone(),
                kind: problem.kind.clone(),
                detail: problem.detail.clone(),
            })
            .collect();

        let problem = match (failed.into_iter().next(), self.order.state().error.clone()) {
            (Some((_, problem)), _) => Problem { subproblems, ..problem },
            (None, Some(problem)) => ours(problem),
            (None, None) => Problem {
                detail: "The order became invalid, and no reason was given".into(),
                ..Problem::default()
            },
        };
        AcmeError::Refused { problem, retry_after: None }
    }

    fn retries(&self) -> RetryPolicy {
        RetryPolicy::new().initial_delay(Duration::from_millis(200)).backoff(1.5).timeout(self.step_limit)
    }
}

async fn pending(order: &mut Order, method: Method) -> Result<Vec<Answer>, Error> {
    let mut answers = Vec::new();
    let mut authorizations = order.authorizations();

    while let Some(authorization) = authorizations.next().await {
        let mut authorization = authorization?;
        if authorization.status != AuthorizationStatus::Pending {
            continue;
        }

        let name = authorization.identifier().identifier.authorized(false).to_string();
        let challenge = authorization
            .challenge(challenge_type(method))
            .ok_or_else(|| Error::Other(Box::new(NotOffered { method, name: name.clone() })))?;
        let key_authorization = challenge.key_authorization().as_str().to_owned();
        answers.push(Answer { name, method, token: challenge.token.clone(), key_authorization });
    }
    Ok(answers)
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

async fn failed_challenges(order: &mut Order) -> Result<Vec<(String, Problem)>, Error> {
    let mut failed = Vec::new();
    let mut authorizations = order.authorizations();

    while let Some(authorization) = authorizations.next().await {
        let mut authorization = authorization?;
        let state = authorization.refresh().await?;
        let name = state.identifier().to_string();
        let error = state.challenges.iter().find_map(|c| c.error.clone());
        failed.extend(error.map(|error| (name, ours(error))));
    }
    Ok(failed)
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
}

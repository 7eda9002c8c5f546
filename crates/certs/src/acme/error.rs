//! Why an order does not get on, told apart by what to do about it.

use chrono::{DateTime, Utc};
use instant_acme::Error;
use nomenta_core::judge::evidence::{Problem, Subproblem};
use nomenta_core::reading::method::Method;
use thiserror::Error as ThisError;

use super::transport::{RetryAfter, TransportError};

/// Kind of the problem that the CA has no challenge which could be answered.
const NOT_OFFERED: &str = "urn:nomenta:acme:challenge-not-offered";

/// Why an order does not get on.
#[derive(Debug, ThisError)]
pub enum AcmeError {
    /// The CA said no, and why. Another order may be placed later.
    #[error("The certification authority refused: {}", .problem.detail)]
    Refused {
        /// Its problem document.
        problem: Problem,
        /// Before when it does not want to be asked again.
        retry_after: Option<DateTime<Utc>>,
    },
    /// The CA no longer knows the account: register anew.
    #[error("The certification authority no longer knows the account: {0}")]
    NoAccount(String),
    /// The CA no longer knows the order: place it anew.
    #[error("The certification authority no longer knows the order: {0}")]
    NoOrder(String),
    /// The CA rejected a nonce; nothing has happened.
    #[error("The certification authority rejected a nonce")]
    StaleNonce,
    /// The CA is too busy to answer now (RFC 9110, section 15.6.4). Nothing is
    /// decided yet.
    #[error("The certification authority is busy, and asks to be left alone until {until}: {cause}")]
    Busy {
        /// What was seen of it.
        #[source]
        cause: Box<AcmeError>,
        /// Before when it does not want to be asked again.
        until: DateTime<Utc>,
    },
    /// The CA answers with an error of its own. Nothing is decided yet.
    #[error("The certification authority is in trouble: {0}")]
    Failing(String),
    /// The CA cannot be reached, or takes too long. Nothing is decided yet.
    #[error("The certification authority cannot be reached: {0}")]
    Unavailable(#[source] Error),
    /// What was kept for the CA cannot be used with it.
    #[error("What is kept for the certification authority cannot be read: {0}")]
    Unreadable(#[source] Box<dyn std::error::Error + Send + Sync>),
}

impl AcmeError {
    /// Whether the CA did not take up a `replaces` field (RFC 9773, section 5):
    /// it has no such field, answers without it, or has counted it already.
    pub(super) fn is_about_replaces(&self) -> bool {
        match self {
            Self::Unavailable(Error::Unsupported(_)) => true,
            // Whatever keeps an answer from coming has a type of ours; what is
            // left is an answer in which the field is not as it was sent.
            Self::Unavailable(Error::Other(cause)) => !cause.is::<TransportError>(),
            Self::Refused { problem, .. } => problem.short() == "alreadyReplaced",
            _ => false,
        }
    }

    /// Whether nothing is decided, since the CA gave no answer that counts.
    fn is_undecided(&self) -> bool {
        matches!(self, Self::Unavailable(_) | Self::Failing(_))
    }

    /// With the moment that the CA named, if it did.
    pub(super) fn with(self, retry_after: &RetryAfter) -> Self {
        let until = retry_after.until(Utc::now());
        match (self, until) {
            (Self::Refused { problem, .. }, until) if problem.is_throttling() => {
                Self::Refused { problem, retry_after: until }
            }
            (undecided, Some(until)) if undecided.is_undecided() => {
                Self::Busy { cause: Box::new(undecided), until }
            }
            (other, _) => other,
        }
    }
}

/// The CA has no challenge of the kind that is answered here: asked again it has none either.
#[derive(Debug, ThisError)]
#[error(
    "The certification authority offers no {method} challenge for {name}. Choose another way with --validation; \
     wildcards are shown control of by dns-01 alone, which needs --acme-zone"
)]
pub(super) struct NotOffered {
    pub method: Method,
    pub name: String,
}

impl From<Error> for AcmeError {
    fn from(error: Error) -> Self {
        if let Error::Other(cause) = &error
            && let Some(missing) = cause.downcast_ref::<NotOffered>()
        {
            let problem =
                Problem { kind: NOT_OFFERED.into(), detail: format!("{missing}."), ..Problem::default() };
            return Self::Refused { problem, retry_after: None };
        }

        match error {
            Error::Api(problem) => problem.into(),
            other => Self::Unavailable(other),
        }
    }
}

impl From<instant_acme::Problem> for AcmeError {
    fn from(problem: instant_acme::Problem) -> Self {
        let status = problem.status;
        let problem = ours(problem);

        match problem.short() {
            "badNonce" => Self::StaleNonce,
            "accountDoesNotExist" => Self::NoAccount(problem.detail),
            "serverInternal" => Self::Failing(problem.detail),
            "rateLimited" => Self::Refused { problem, retry_after: None },
            _ if status == Some(404) => Self::NoOrder(problem.detail),
            _ if status.is_some_and(|status| status >= 500) => Self::Failing(problem.detail),
            _ => Self::Refused { problem, retry_after: None },
        }
    }
}

/// The problem document in our own words.
pub(super) fn ours(problem: instant_acme::Problem) -> Problem {
    Problem {
        kind: problem.r#type.unwrap_or_default(),
        detail: problem.detail.unwrap_or_default(),
        status: problem.status,
        subproblems: problem.subproblems.into_iter().map(our_subproblem).collect(),
    }
}

fn our_subproblem(sub: instant_acme::Subproblem) -> Subproblem {
    Subproblem {
        name: sub.identifier.map(|i| i.authorized(false).to_string()).unwrap_or_default(),
        kind: sub.r#type.unwrap_or_default(),
        detail: sub.detail.unwrap_or_default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_challenge_that_is_not_offered_is_a_refusal_that_says_what_to_choose() {
        let missing = NotOffered { method: Method::TlsAlpn, name: "onswick.example".into() };
        let AcmeError::Refused { problem, .. } = AcmeError::from(Error::Other(Box::new(missing))) else {
            panic!("it would be asked for again and again");
        };
        assert!(problem.detail.starts_with("The certification authority offers no tls-alpn-01 challenge"));
        assert!(problem.detail.contains("--validation"), "{}", problem.detail);
    }

    fn problem(kind: &str, status: u16) -> AcmeError {
        let text = format!(
            r#"{{"type": "urn:ietf:params:acme:error:{kind}", "detail": "d", "status": {status},
                "subproblems": [{{"type": "t", "detail": "e",
                                  "identifier": {{"type": "dns", "value": "onswick.example"}}}}]}}"#
        );
        let problem: instant_acme::Problem = serde_json::from_str(&text).expect("reads");
        problem.into()
    }

    #[test]
    fn problems_are_told_apart_by_what_to_do_about_them() {
        assert!(matches!(problem("badNonce", 400), AcmeError::StaleNonce));
        assert!(matches!(problem("accountDoesNotExist", 400), AcmeError::NoAccount(_)));
        assert!(matches!(problem("serverInternal", 500), AcmeError::Failing(_)));
        assert!(matches!(problem("malformed", 404), AcmeError::NoOrder(_)));

        let AcmeError::Refused { problem, .. } = problem("rateLimited", 429) else { panic!("not refused") };
        assert!(problem.is_throttling());
        assert_eq!(problem.subproblems[0].name, "onswick.example");
    }

    #[test]
    fn a_replaces_field_that_is_not_taken_up_is_told_from_silence() {
        let late = TransportError::TooSlow(std::time::Duration::from_secs(20));
        assert!(!AcmeError::from(Error::from(late)).is_about_replaces());
        assert!(AcmeError::from(Error::Unsupported("renewal information")).is_about_replaces());
        assert!(AcmeError::from(Error::Other("another field came back".into())).is_about_replaces());
        assert!(problem("alreadyReplaced", 409).is_about_replaces());
        assert!(!problem("rejectedIdentifier", 400).is_about_replaces());
    }
}

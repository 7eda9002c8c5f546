//! Answering with problem documents (RFC 9457).

use axum::Json;
use axum::extract::rejection::{JsonRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, Query, Request};
use axum::http::request::Parts;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use nomenta_api::problem::{FieldCode, Problem, ProblemKind};
use nomenta_api::role::Role;
use nomenta_store::StoreError;
use serde::de::DeserializeOwned;

/// A request that is answered with a problem document.
#[derive(Clone, Debug)]
pub(crate) struct Refusal(pub Problem);

impl Refusal {
    fn new(status: StatusCode, kind: ProblemKind, detail: impl Into<String>) -> Self {
        Self(Problem::new(status.as_u16(), kind, detail))
    }

    /// A field that cannot be taken as it is; `code` is a stable word.
    pub(crate) fn field(field: &str, code: impl ToString, message: impl ToString) -> Self {
        let Self(problem) =
            Self::new(StatusCode::UNPROCESSABLE_ENTITY, ProblemKind::Field, message.to_string());
        Self(problem.at(field, code))
    }

    /// Names the line at fault in a field of several.
    pub(crate) fn on_line(self, line: usize) -> Self {
        Self(self.0.on_line(line))
    }

    pub(crate) fn unauthorized(detail: &str) -> Self {
        let detail = format!("{detail} Send a key as: Authorization: Bearer KEY.");
        Self::new(StatusCode::UNAUTHORIZED, ProblemKind::KeyNeeded, detail)
    }

    pub(crate) fn forbidden(has: Role, wanted: Role) -> Self {
        let detail =
            format!("This key has the role {has}; this call needs {wanted}. Ask an admin for such a key.");
        Self::new(StatusCode::FORBIDDEN, ProblemKind::RoleNeeded, detail)
    }

    pub(crate) fn of_one_account(account: &str) -> Self {
        let detail = format!("This key opens the account {account} alone; this call is about all of them.");
        Self::new(StatusCode::FORBIDDEN, ProblemKind::RoleNeeded, detail)
    }

    pub(crate) fn not_found(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, ProblemKind::NotFound, detail)
    }

    pub(crate) fn conflict(kind: ProblemKind, detail: impl Into<String>) -> Self {
        Self::new(StatusCode::CONFLICT, kind, detail)
    }

    /// A name that is in use, at its field.
    pub(crate) fn taken(field: &str, detail: String) -> Self {
        let Self(problem) = Self::conflict(ProblemKind::Taken, detail);
        Self(problem.at(field, FieldCode::Taken))
    }

    pub(crate) fn unavailable(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::SERVICE_UNAVAILABLE, ProblemKind::Unavailable, detail)
    }

    pub(crate) fn internal(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, ProblemKind::Internal, detail)
    }

    /// A record that is missing or taken, with the field that it was asked for
    /// with.
    pub(crate) fn of_record(error: StoreError, field: &str) -> Self {
        let code = match &error {
            StoreError::Missing { .. } => Some(FieldCode::NotFound),
            StoreError::Taken { .. } => Some(FieldCode::Taken),
            _ => None,
        };

        let Self(problem) = error.into();
        Self(match code {
            Some(code) => problem.at(field, code),
            None => problem,
        })
    }
}

impl From<StoreError> for Refusal {
    fn from(error: StoreError) -> Self {
        match &error {
            StoreError::Taken { .. } => Self::conflict(ProblemKind::Taken, error.to_string()),
            StoreError::Missing { .. } => Self::not_found(error.to_string()),
            StoreError::Several { .. } => Self::conflict(ProblemKind::SeveralClaims, error.to_string()),
            StoreError::Ended => Self::conflict(ProblemKind::Released, error.to_string()),
            StoreError::Resting | StoreError::Suspended => {
                Self::conflict(ProblemKind::Resting, error.to_string())
            }
            StoreError::NoRoom(_) => Self::conflict(ProblemKind::AllowanceReached, error.to_string()),
            StoreError::Settled => Self::conflict(ProblemKind::Settled, error.to_string()),
            other => {
                tracing::error!(error = %other, "a request failed");
                Self::internal("The records cannot be read or written now. Try again; the log says more.")
            }
        }
    }
}

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, Json(self.0)).into_response();
        let kind = HeaderValue::from_static("application/problem+json");
        response.headers_mut().insert(header::CONTENT_TYPE, kind);

        response
    }
}

/// A JSON body whose faults are answered with a problem document.
pub(crate) struct Body<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Body<T> {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &S) -> Result<Self, Refusal> {
        let read = Json::<T>::from_request(request, state).await;
        read.map(|Json(value)| Self(value)).map_err(|rejection: JsonRejection| {
            Refusal::new(rejection.status(), ProblemKind::Body, rejection.body_text())
        })
    }
}

/// Query parameters, likewise.
pub(crate) struct Params<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Params<T> {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Refusal> {
        let read = Query::<T>::from_request_parts(parts, state).await;
        read.map(|Query(value)| Self(value)).map_err(|rejection: QueryRejection| {
            Refusal::new(rejection.status(), ProblemKind::Query, rejection.body_text())
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_field_problem_has_its_field_and_says_the_same_in_both_places() {
        let Refusal(problem) = Refusal::field("host", FieldCode::Empty, "No name was given.");
        assert_eq!((problem.status, problem.kind.as_str()), (422, "urn:nomenta:problem:field"));
        assert_eq!(problem.errors[0].field, "host");
        assert_eq!(problem.errors[0].message, problem.detail);
    }

    #[test]
    fn records_that_are_missing_or_taken_keep_their_words_and_others_tell_nothing() {
        let missing = StoreError::Missing { what: "site", name: "x".into() };
        let Refusal(problem) = Refusal::of_record(missing, "site");
        assert_eq!((problem.status, problem.errors[0].code.as_str()), (404, "not-found"));
        assert_eq!(problem.detail, "There is no site named x. Check the spelling.");
        let taken = StoreError::Taken { what: "a site", name: "x".into() };
        assert_eq!(Refusal::from(taken).0.status, 409);
        let inside = StoreError::Unreadable { what: "gate", cause: "secret cause".into() };
        let Refusal(problem) = Refusal::of_record(inside, "site");
        assert_eq!((problem.status, problem.errors.len()), (500, 0));
        assert!(!problem.detail.contains("secret cause"));
    }

    #[test]
    fn the_answer_is_typed_as_a_problem_and_leaves_empty_lists_out() {
        let response = Refusal::unauthorized("No key was given.").into_response();
        assert_eq!(response.status(), StatusCode::UNAUTHORIZED);
        assert_eq!(response.headers()[header::CONTENT_TYPE], "application/problem+json");
        let text = serde_json::to_string(&Refusal::forbidden(Role::Viewer, Role::Admin).0).expect("writes");
        assert!(!text.contains("errors"), "{text}");
        assert!(text.contains("This key has the role viewer; this call needs admin."), "{text}");
    }
}

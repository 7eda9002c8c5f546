//! Errors as problem documents (RFC 9457).

use axum::Json;
use axum::extract::rejection::{JsonRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, Query, Request};
use axum::http::request::Parts;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use nomenta_store::StoreError;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::role::Role;

/// A problem document (RFC 9457). `errors` names the fields at fault.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// URN of the kind of problem.
    #[serde(rename = "type")]
    pub kind: String,
    /// The kind in words.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// What happened, and what to do.
    pub detail: String,
    /// Fields at fault.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<FieldError>,
}

/// What is wrong with one field of the request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FieldError {
    /// Name of the field.
    pub field: String,
    /// Stable word.
    pub code: String,
    /// What is wrong, and what to type instead.
    pub message: String,
    /// The line at fault, counted from 1, in a text of several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
}

impl Problem {
    fn new(status: StatusCode, kind: &str, title: &str, detail: impl Into<String>) -> Self {
        Self {
            kind: format!("urn:nomenta:problem:{kind}"),
            title: title.into(),
            status: status.as_u16(),
            detail: detail.into(),
            errors: Vec::new(),
        }
    }

    /// A field that cannot be taken as it is.
    pub fn field(field: &str, code: &str, message: impl ToString) -> Self {
        let message = message.to_string();
        let title = "A field cannot be taken as it is";
        let mut problem = Self::new(StatusCode::UNPROCESSABLE_ENTITY, "field", title, message.clone());
        problem.errors = vec![FieldError { field: field.into(), code: code.into(), message, line: None }];
        problem
    }

    /// Names the line at fault in a field of several.
    pub fn on_line(mut self, line: usize) -> Self {
        self.errors.iter_mut().for_each(|e| e.line = Some(line));
        self
    }

    pub fn unauthorized(detail: &str) -> Self {
        let detail = format!("{detail} Send a key as: Authorization: Bearer KEY.");
        Self::new(StatusCode::UNAUTHORIZED, "key-needed", "A key is needed", detail)
    }

    pub fn forbidden(has: Role, wanted: Role) -> Self {
        let detail =
            format!("This key has the role {has}; this call needs {wanted}. Ask an admin for such a key.");
        Self::new(StatusCode::FORBIDDEN, "role-needed", "Another role is needed", detail)
    }

    pub fn not_found(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, "not-found", "Not found", detail)
    }

    pub fn conflict(kind: &str, detail: impl Into<String>) -> Self {
        Self::new(StatusCode::CONFLICT, kind, "Not possible now", detail)
    }

    pub fn unavailable(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::SERVICE_UNAVAILABLE, "unavailable", "Not available", detail)
    }

    pub fn internal(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "Something failed inside", detail)
    }

    /// Names the field that a missing or taken record was asked for with.
    pub fn at(mut self, field: &str) -> Self {
        let code = self.kind.rsplit(':').next().unwrap_or_default().to_owned();
        let message = self.detail.clone();
        self.errors = vec![FieldError { field: field.into(), code, message, line: None }];
        self
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        let detail = error.to_string();
        match error {
            StoreError::Taken { .. } => {
                Self::new(StatusCode::CONFLICT, "taken", "The name is in use", detail)
            }
            StoreError::Missing { .. } => Self::not_found(detail),
            other => {
                tracing::error!(error = %other, "a request failed");
                Self::internal("The records cannot be read or written now. Try again; the log says more.")
            }
        }
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, Json(self)).into_response();
        let kind = HeaderValue::from_static("application/problem+json");
        response.headers_mut().insert(header::CONTENT_TYPE, kind);
        response
    }
}

/// A JSON body whose faults are answered with a problem document.
pub(crate) struct Body<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Body<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        let read = Json::<T>::from_request(request, state).await;
        read.map(|Json(value)| Self(value)).map_err(|rejection: JsonRejection| {
            Problem::new(rejection.status(), "body", "The body cannot be read", rejection.body_text())
        })
    }
}

/// Query parameters, likewise.
pub(crate) struct Params<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequestParts<S> for Params<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Problem> {
        let read = Query::<T>::from_request_parts(parts, state).await;
        read.map(|Query(value)| Self(value)).map_err(|rejection: QueryRejection| {
            Problem::new(
                rejection.status(),
                "query",
                "A query parameter cannot be read",
                rejection.body_text(),
            )
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_field_problem_has_its_field_and_says_the_same_in_both_places() {
        let problem = Problem::field("host", "empty", "No name was given.");
        assert_eq!((problem.status, problem.kind.as_str()), (422, "urn:nomenta:problem:field"));
        assert_eq!(problem.errors[0].field, "host");
        assert_eq!(problem.errors[0].message, problem.detail);
    }

    #[test]
    fn records_that_are_missing_or_taken_keep_their_words_and_others_tell_nothing() {
        let missing = StoreError::Missing { what: "site", name: "x".into() };
        let problem = Problem::from(missing).at("site");
        assert_eq!((problem.status, problem.errors[0].code.as_str()), (404, "not-found"));
        assert_eq!(problem.detail, "There is no site named x. Check the spelling.");
        let taken = StoreError::Taken { what: "a site", name: "x".into() };
        assert_eq!(Problem::from(taken).status, 409);
        let inside = StoreError::Unreadable { what: "gate", cause: "secret cause".into() };
        let problem = Problem::from(inside);
        assert_eq!(problem.status, 500);
        assert!(!problem.detail.contains("secret cause"));
    }

    #[test]
    fn the_answer_is_typed_as_a_problem_and_leaves_empty_lists_out() {
        let response = Problem::unauthorized("No key was given.").into_response();
        assert_eq!(response.status(), StatusCode::UNAUTHORIZED);
        assert_eq!(response.headers()[header::CONTENT_TYPE], "application/problem+json");
        let text = serde_json::to_string(&Problem::forbidden(Role::Viewer, Role::Admin)).expect("writes");
        assert!(!text.contains("errors"), "{text}");
        assert!(text.contains("This key has the role viewer; this call needs admin."), "{text}");
    }
}

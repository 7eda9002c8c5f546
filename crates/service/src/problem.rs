//! Answering with problem documents (RFC 9457).

use std::sync::Arc;

#[expect(clippy::disallowed_types, reason = "a refusal is for whoever is refused")]
use axum::Json;
use axum::extract::rejection::{JsonRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, MatchedPath, Path, Query, Request};
use axum::http::request::Parts;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use nomenta_api::problem::{FieldCode, Problem, ProblemKind};
use nomenta_api::role::Role;
use nomenta_core::name::plain::shown;
use nomenta_store::StoreError;
use serde::de::DeserializeOwned;
use serde_json::Value;

use crate::App;

/// When to come again, where something is to be had that is not to be had now, in seconds.
const AGAIN: u32 = 2;
/// The same of what takes a day.
const AN_HOUR: u32 = 3_600;

/// A request that is answered with a problem document.
#[derive(Clone, Debug)]
pub(crate) struct Refusal {
    pub problem: Problem,
    /// After how many seconds the same may be asked again.
    pub retry_after: Option<u32>,
}

impl Refusal {
    pub(crate) fn new(status: StatusCode, kind: ProblemKind, detail: impl Into<String>) -> Self {
        Self::from_problem(Problem::new(status.as_u16(), kind, detail))
    }

    pub(crate) fn from_problem(problem: Problem) -> Self {
        Self { problem, retry_after: None }
    }

    /// Says when to ask again.
    pub(crate) fn again_after(self, seconds: u32) -> Self {
        Self { retry_after: Some(seconds), ..self }
    }

    /// A field that cannot be taken as it is; `code` is a stable word.
    pub(crate) fn field(field: &str, code: impl ToString, message: impl ToString) -> Self {
        let status = StatusCode::UNPROCESSABLE_ENTITY;
        let problem = Problem::new(status.as_u16(), ProblemKind::Field, message.to_string());
        Self::from_problem(problem.at(field, code))
    }

    /// Names the line at fault in a field of several.
    pub(crate) fn on_line(self, line: usize) -> Self {
        Self { problem: self.problem.on_line(line), ..self }
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

    pub(crate) fn of_some_accounts(accounts: &[&str]) -> Self {
        let which = match accounts {
            [] => "no account".to_owned(),
            [one] => format!("the account {one} alone"),
            [one, .., last] if accounts.len() > 2 => {
                format!("{} accounts from {one} to {last} alone", accounts.len())
            }
            several => format!("the accounts {} alone", several.join(" and ")),
        };
        let detail = format!("This key opens {which}; this call is about all of them.");
        Self::new(StatusCode::FORBIDDEN, ProblemKind::RoleNeeded, detail)
    }

    pub(crate) fn not_found(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, ProblemKind::NotFound, detail)
    }

    /// A record that cannot be there, since nothing may have such a name.
    pub(crate) fn nothing_at(field: &str, code: impl ToString, message: impl ToString) -> Self {
        let Self { problem, .. } = Self::not_found(message.to_string());
        Self::from_problem(problem.at(field, code))
    }

    pub(crate) fn conflict(kind: ProblemKind, detail: impl Into<String>) -> Self {
        Self::new(StatusCode::CONFLICT, kind, detail)
    }

    /// A name that is in use, at its field; `code` says by whom.
    pub(crate) fn taken(field: &str, code: FieldCode, detail: String) -> Self {
        Self::conflict_at(field, ProblemKind::Taken, code, detail)
    }

    /// What is not possible as things stand, at its field.
    pub(crate) fn conflict_at(field: &str, kind: ProblemKind, code: FieldCode, detail: String) -> Self {
        let Self { problem, .. } = Self::conflict(kind, detail);
        Self::from_problem(problem.at(field, code))
    }

    pub(crate) fn unavailable(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::SERVICE_UNAVAILABLE, ProblemKind::Unavailable, detail).again_after(AGAIN)
    }

    /// What others are doing already as many times as is borne.
    pub(crate) fn busy() -> Self {
        metrics::counter!("nomenta_lengthy_calls_refused_total").increment(1);
        let detail =
            "Others are asking for the same kind of thing, which takes a while. Ask again in a moment.";
        Self::new(StatusCode::TOO_MANY_REQUESTS, ProblemKind::TooSoon, detail).again_after(2)
    }

    /// A source that has as many connections as one may have.
    pub(crate) fn crowded() -> Self {
        Self::unavailable(
            "There are too many connections from this address. End some, or keep one open for all calls.",
        )
    }

    pub(crate) fn status(&self) -> StatusCode {
        StatusCode::from_u16(self.problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    /// The answer where no call is read: the connection ends behind it (RFC 9112, section 9.6).
    pub(crate) fn unread(&self) -> Vec<u8> {
        let body = serde_json::to_string(&self.problem).unwrap_or_default();
        let again = self.retry_after.map(|seconds| format!("retry-after: {seconds}\r\n")).unwrap_or_default();
        let status = self.status();
        let length = body.len();
        format!(
            "HTTP/1.1 {status}\r\ncontent-type: {PROBLEM}\r\ncontent-length: {length}\r\n{again}connection: close\r\n\r\n{body}"
        )
        .into_bytes()
    }

    /// A source that has tried too many keys.
    pub(crate) fn too_many_keys(seconds: u32) -> Self {
        let detail = format!(
            "Too many keys that open nothing were tried from this address. Try again in {seconds} s."
        );
        Self::new(StatusCode::TOO_MANY_REQUESTS, ProblemKind::TooSoon, detail).again_after(seconds)
    }

    /// A change that another site has a browser make.
    pub(crate) fn other_site() -> Self {
        let detail =
            "A page of another site asks for this with your session. Open the console itself to do it.";
        Self::new(StatusCode::FORBIDDEN, ProblemKind::OtherSite, detail)
    }

    /// What was asked for a moment ago.
    pub(crate) fn too_soon(seconds: u32) -> Self {
        let detail = format!("This was asked for a moment ago. Ask again in {seconds} s.");
        Self::new(StatusCode::TOO_MANY_REQUESTS, ProblemKind::TooSoon, detail).again_after(seconds)
    }

    /// An account for which as many strangers were written to as may be.
    pub(crate) fn too_many_mails(most: i64) -> Self {
        let detail = format!(
            "{most} mails to people who had not asked for one went out for this account within a day. Ask again \
             tomorrow, or hand the link over yourself."
        );
        Self::new(StatusCode::TOO_MANY_REQUESTS, ProblemKind::TooSoon, detail).again_after(AN_HOUR)
    }

    /// Of something that says no more than a status.
    pub(crate) fn of_status(status: StatusCode) -> Self {
        let kind = if status.is_server_error() { ProblemKind::Internal } else { ProblemKind::Body };
        Self::new(status, kind, format!("The call was refused: {status}."))
    }

    pub(crate) fn too_large() -> Self {
        let detail = "The body is larger than what is read here. Send less at once.";
        Self::new(StatusCode::PAYLOAD_TOO_LARGE, ProblemKind::TooLarge, detail)
    }

    pub(crate) fn no_such_method(method: &str, path: &str) -> Self {
        let detail = format!("There is no {method} at {path}. The Allow header says what there is.");
        Self::new(StatusCode::METHOD_NOT_ALLOWED, ProblemKind::Method, detail)
    }

    pub(crate) fn no_such_call(path: &str) -> Self {
        Self::not_found(format!("There is no call at {}.", shown(path)))
    }

    /// The database is away.
    pub(crate) fn away() -> Self {
        Self::unavailable("The records are not to be had now. Ask again in a moment.")
    }

    pub(crate) fn internal(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, ProblemKind::Internal, detail)
    }

    /// Whether the same may be granted in a moment.
    pub(crate) fn is_passing(&self) -> bool {
        self.problem.status == StatusCode::SERVICE_UNAVAILABLE.as_u16()
    }

    /// A record that is missing or taken, with the field that it was asked for
    /// with.
    pub(crate) fn of_record(error: StoreError, field: &str) -> Self {
        let code = match &error {
            StoreError::Missing { .. } => Some(FieldCode::NotFound),
            StoreError::Taken { .. } => Some(FieldCode::Taken),
            _ => None,
        };

        let refusal: Self = error.into();
        match code {
            Some(code) => Self { problem: refusal.problem.at(field, code), ..refusal },
            None => refusal,
        }
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
            StoreError::ManyReceivers(_) => {
                Self::conflict(ProblemKind::AllowanceReached, format!("{error}."))
            }
            StoreError::NoRoom(_) => Self::conflict(ProblemKind::AllowanceReached, error.to_string()),
            StoreError::Settled => Self::conflict(ProblemKind::Settled, error.to_string()),
            StoreError::Changed => {
                Self::new(StatusCode::PRECONDITION_FAILED, ProblemKind::Changed, error.to_string())
            }
            away if away.is_away() => {
                tracing::warn!(error = %away, "a request was refused");
                Self::away()
            }
            overlong if overlong.is_overlong() => Self::unavailable(
                "Finding that takes longer than a call may. Narrow it: by account, site, stage or a longer text.",
            ),
            other => {
                tracing::error!(error = %other, "a request failed");
                Self::internal("The records cannot be read or written now. Try again; the log says more.")
            }
        }
    }
}

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        let status = self.status();
        let mut response = (status, Json(self.problem)).into_response();
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(PROBLEM));

        if status == StatusCode::UNAUTHORIZED {
            headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer realm=\"nomenta\""));
        }
        if let Some(seconds) = self.retry_after {
            headers.insert(header::RETRY_AFTER, HeaderValue::from(seconds));
        }
        response
    }
}

/// Media type of problem documents.
pub(crate) const PROBLEM: &str = "application/problem+json";

/// A JSON body, as the call's description has it.
pub(crate) struct Body<T>(pub T);

impl<T: DeserializeOwned> FromRequest<Arc<App>> for Body<T> {
    type Rejection = Refusal;

    #[expect(clippy::disallowed_types, reason = "here it is read")]
    async fn from_request(request: Request, app: &Arc<App>) -> Result<Self, Refusal> {
        let method = request.method().clone();
        let path = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned());
        let Json(value) = Json::<Value>::from_request(request, app).await.map_err(unread)?;

        app.described.check_body(&method, path.as_deref().unwrap_or_default(), &value)?;
        serde_json::from_value(whole_numbers(value)).map(Self).map_err(|error| {
            Refusal::new(
                StatusCode::UNPROCESSABLE_ENTITY,
                ProblemKind::Body,
                format!("{error}. Correct the body."),
            )
        })
    }
}

/// To JSON, 2.0 is as whole a number as 2 (JSON Schema, section 6.1.1).
fn whole_numbers(value: Value) -> Value {
    match value {
        Value::Number(number) => match number.as_f64() {
            Some(float) if number.is_f64() && float.fract() == 0.0 && float.abs() < 1e15 => {
                (float as i64).into()
            }
            _ => Value::Number(number),
        },
        Value::Array(list) => list.into_iter().map(whole_numbers).collect(),
        Value::Object(fields) => {
            fields.into_iter().map(|(name, value)| (name, whole_numbers(value))).collect()
        }
        other => other,
    }
}

/// Said of a body that is no JSON.
fn unread(rejection: JsonRejection) -> Refusal {
    let status = rejection.status();
    match status {
        StatusCode::UNSUPPORTED_MEDIA_TYPE => Refusal::new(
            status,
            ProblemKind::MediaType,
            "The body is of a type that is not read here. Send it as Content-Type: application/json.",
        ),
        _ => Refusal::new(StatusCode::BAD_REQUEST, ProblemKind::Body, rejection.body_text()),
    }
}

/// Query parameters, which have been held to the call's description.
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

/// A part of the path. What cannot be one names nothing that there is.
pub(crate) struct Named<T>(pub T);

impl<T: DeserializeOwned + Send, S: Send + Sync> FromRequestParts<S> for Named<T> {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Refusal> {
        let nothing = || Refusal::not_found("There is nothing of that name. Check the path.");
        if parts.uri.path().contains("%00") {
            return Err(nothing());
        }
        Path::<T>::from_request_parts(parts, state)
            .await
            .map(|Path(value)| Self(value))
            .map_err(|_| nothing())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_field_problem_has_its_field_and_says_the_same_in_both_places() {
        let Refusal { problem, .. } = Refusal::field("host", FieldCode::Empty, "No name was given.");
        assert_eq!((problem.status, problem.kind.as_str()), (422, "urn:nomenta:problem:field"));
        assert_eq!(problem.errors[0].field, "host");
        assert_eq!(problem.errors[0].message, problem.detail);
    }

    #[test]
    fn records_that_are_missing_or_taken_keep_their_words_and_others_tell_nothing() {
        let missing = StoreError::Missing { what: "site", name: "x".into() };
        let Refusal { problem, .. } = Refusal::of_record(missing, "site");
        assert_eq!((problem.status, problem.errors[0].code.as_str()), (404, "not-found"));
        assert_eq!(problem.detail, "There is no site named x. Check the spelling.");
        let taken = StoreError::Taken { what: "a site", name: "x".into() };
        assert_eq!(Refusal::from(taken).problem.status, 409);
        let inside = StoreError::Unreadable { what: "gate", cause: "secret cause".into() };
        let Refusal { problem, .. } = Refusal::of_record(inside, "site");
        assert_eq!((problem.status, problem.errors.len()), (500, 0));
        assert!(!problem.detail.contains("secret cause"));
    }

    #[test]
    fn the_answer_is_typed_as_a_problem_and_leaves_empty_lists_out() {
        let response = Refusal::unauthorized("No key was given.").into_response();
        assert_eq!(response.status(), StatusCode::UNAUTHORIZED);
        assert_eq!(response.headers()[header::CONTENT_TYPE], "application/problem+json");
        let text =
            serde_json::to_string(&Refusal::forbidden(Role::Viewer, Role::Admin).problem).expect("writes");
        assert!(!text.contains("errors"), "{text}");
        assert!(text.contains("This key has the role viewer; this call needs admin."), "{text}");
    }
}

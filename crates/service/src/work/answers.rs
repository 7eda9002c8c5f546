//! Calls that carry a key of their own, `Idempotency-Key`: whoever repeats one gets the
//! answer of the first, and nothing is done twice.

use std::sync::Arc;

use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use chrono::{Duration, Utc};
use data_encoding::BASE64;
use nomenta_api::problem::{FieldCode, ProblemKind};
use nomenta_store::{Claimed, Kept};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::App;
use crate::problem::Refusal;
use crate::turns::Taker;

/// The header that has a call's key.
pub(crate) const HEADER: HeaderName = HeaderName::from_static("idempotency-key");
/// Longest key, in characters; the document says so too.
pub(crate) const LONGEST: usize = 255;
/// What answers are sealed for: the secret of a new key is in one.
const SEALED_FOR: &str = "answer";
/// A call that has had no answer for so long ended with its process.
const LONGEST_CALL: Duration = Duration::minutes(5);
/// Headers that belong to an answer.
const HEADERS: [HeaderName; 5] =
    [header::CONTENT_TYPE, header::ETAG, header::LINK, header::RETRY_AFTER, header::SET_COOKIE];

/// An answer as it is kept.
#[derive(Serialize, Deserialize)]
struct Answer {
    status: u16,
    headers: Vec<(String, String)>,
    /// Base64.
    body: String,
}

/// Answers a repeated call with what the first was answered; of whoever is not known nothing is kept.
pub(crate) async fn keep(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    let is_keyed = request.method() == Method::POST && request.headers().contains_key(HEADER);
    if !is_keyed {
        return next.run(request).await;
    }
    match answered(&app, request, next).await {
        Ok(response) => response,
        Err(refusal) => refusal.into_response(),
    }
}

async fn answered(app: &Arc<App>, request: Request, next: Next) -> Result<Response, Refusal> {
    let key = call_key(request.headers())?;
    let caller = match request.extensions().get() {
        Some(Taker::Key(id) | Taker::Link(id)) => *id,
        Some(Taker::Source(_)) | None => return Ok(next.run(request).await),
    };
    let (parts, body) = request.into_parts();
    // It was read, no larger than it may be, when the call was admitted.
    let body = to_bytes(body, usize::MAX).await.map_err(|error| Refusal::internal(error.to_string()))?;

    let fingerprint = fingerprint(&parts.uri.to_string(), &parts.headers, &body);
    let call = Kept { caller, key: &key, fingerprint: &fingerprint };
    let attempt = Uuid::now_v7();
    match app.done(|| async { Ok(app.calls.claim_call(call, attempt).await?) }).await? {
        Claimed::New => {}
        Claimed::Done(sealed) => return replayed(app, &sealed),
        Claimed::Another => {
            let detail = "This key was used for another call. Each call has a key of its own.";
            return Err(Refusal::conflict(ProblemKind::OtherCall, detail));
        }
        Claimed::UnderWay(since) => return Err(under_way(Utc::now() - since)),
    }

    let response = next.run(Request::from_parts(parts, Body::from(body))).await;
    kept(app, call, response).await
}

fn under_way(age: Duration) -> Refusal {
    if age < LONGEST_CALL {
        let detail = "The same call is under way. Ask again in a moment.";
        return Refusal::conflict(ProblemKind::UnderWay, detail).again_after(1);
    }
    let detail = "The same call was begun, and what came of it is not known. See whether it was done, and if not, \
                  call with another key.";
    Refusal::conflict(ProblemKind::UnderWay, detail)
}

fn call_key(headers: &HeaderMap) -> Result<String, Refusal> {
    let key = headers.get(HEADER).and_then(|key| key.to_str().ok()).map(str::trim);
    let sound = key
        .filter(|key| (1..=LONGEST).contains(&key.len()) && key.bytes().all(|byte| byte.is_ascii_graphic()));
    sound.map(str::to_owned).ok_or_else(|| {
        let message = format!(
            "A call's key has 1 to {LONGEST} ASCII characters and no space. A random UUID is a good one."
        );
        Refusal::field(HEADER.as_str(), FieldCode::Character, message)
    })
}

fn fingerprint(uri: &str, headers: &HeaderMap, body: &Bytes) -> Vec<u8> {
    let kind = headers.get(header::CONTENT_TYPE).map(HeaderValue::as_bytes).unwrap_or_default();
    let mut hash = Sha256::new();
    for part in [uri.as_bytes(), kind, body] {
        hash.update(part.len().to_be_bytes());
        hash.update(part);
    }
    hash.finalize().to_vec()
}

/// Whether a call comes to something else when it is made again: it failed for no fault of its own, or
/// came too early.
fn is_passing(status: StatusCode) -> bool {
    let is_refused = matches!(status, StatusCode::UNAUTHORIZED | StatusCode::TOO_MANY_REQUESTS);
    is_refused || status.is_server_error()
}

/// Keeps an answer; what may be tried again is not kept.
async fn kept(app: &App, call: Kept<'_>, response: Response) -> Result<Response, Refusal> {
    let (parts, body) = response.into_parts();
    if is_passing(parts.status) {
        app.done(|| async { Ok(app.calls.give_up_call(call).await?) }).await?;
        return Ok(Response::from_parts(parts, body));
    }

    let body = to_bytes(body, usize::MAX).await.map_err(|error| Refusal::internal(error.to_string()))?;
    let headers = HEADERS.iter().flat_map(|name| {
        let values = parts.headers.get_all(name).iter().filter_map(|value| value.to_str().ok());
        values.map(|value| (name.to_string(), value.to_owned()))
    });
    let answer =
        Answer { status: parts.status.as_u16(), headers: headers.collect(), body: BASE64.encode(&body) };
    let text = serde_json::to_vec(&answer).map_err(|error| Refusal::internal(error.to_string()))?;
    let sealed = app.sealer.seal(SEALED_FOR, &text);
    app.done(|| async { Ok(app.calls.keep_answer(call, &sealed).await?) }).await?;

    Ok(Response::from_parts(parts, Body::from(body)))
}

fn replayed(app: &App, sealed: &[u8]) -> Result<Response, Refusal> {
    let unreadable =
        || Refusal::internal("The answer of the first call cannot be read. Call with another key.");
    let text = app.sealer.open(SEALED_FOR, sealed).map_err(|_| unreadable())?;
    let answer: Answer = serde_json::from_slice(&text).map_err(|_| unreadable())?;
    let body = BASE64.decode(answer.body.as_bytes()).map_err(|_| unreadable())?;

    let mut response = Response::new(Body::from(body));
    *response.status_mut() = StatusCode::from_u16(answer.status).map_err(|_| unreadable())?;
    for (name, value) in answer.headers {
        let name = HeaderName::from_bytes(name.as_bytes()).map_err(|_| unreadable())?;
        response.headers_mut().append(name, HeaderValue::from_str(&value).map_err(|_| unreadable())?);
    }
    Ok(response)
}

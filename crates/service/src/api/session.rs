//! Signing in to the console.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::{StatusCode, header};
use axum::response::AppendHeaders;
use chrono::Utc;
use nomenta_api::problem::FieldCode;
use nomenta_api::problem::Problem;
use nomenta_api::registry::{SignIn, Who};
use nomenta_api::role::Role;
use nomenta_store::KeyRow;

use crate::App;
use crate::access::{self, COOKIE_NAME, Caller};
use crate::problem::{Body, Refusal};

type WithCookie<T> = (AppendHeaders<[(header::HeaderName, String); 1]>, T);

/// Who is calling.
#[utoipa::path(get, path = "/api/v1/session", responses((status = 200, body = Who), (status = 401, body = Problem)))]
pub(super) async fn who(caller: Caller) -> Json<Who> {
    Json(who_of(caller.key))
}

fn who_of(key: KeyRow) -> Who {
    Who { name: key.name, role: key.role, account: key.account.map(|account| account.name) }
}

/// Exchanges a key for the console's cookie.
#[utoipa::path(post, path = "/api/v1/session", request_body = SignIn,
    responses((status = 200, body = Who), (status = 422, body = Problem)))]
pub(super) async fn sign_in(
    State(app): State<Arc<App>>,
    Body(typed): Body<SignIn>,
) -> Result<WithCookie<Json<Who>>, Refusal> {
    let key = app.calls.key_by_hash(&access::hash(typed.key.trim())).await?;
    let key = key.ok_or_else(|| {
        let message = "This key is unknown or revoked. Ask an admin for one.";
        Refusal::field("key", FieldCode::UnknownKey, message)
    })?;

    if key.role == Role::Edge {
        let message = "This key is for edge servers. Sign in with a viewer, operator or admin key.";
        return Err(Refusal::field("key", FieldCode::EdgeKey, message));
    }

    let session = access::new_session(&app, key.id, Utc::now());
    Ok((cookie(&session, ""), Json(who_of(key))))
}

/// Ends the console's session.
#[utoipa::path(delete, path = "/api/v1/session", responses((status = 204)))]
pub(super) async fn sign_out() -> WithCookie<StatusCode> {
    (cookie("", "; Max-Age=0"), StatusCode::NO_CONTENT)
}

/// Strict and HttpOnly: no script reads it and no other site sends it.
fn cookie(value: &str, more: &str) -> AppendHeaders<[(header::HeaderName, String); 1]> {
    let text = format!("{COOKIE_NAME}={value}; Path=/; HttpOnly; SameSite=Strict{more}");
    AppendHeaders([(header::SET_COOKIE, text)])
}

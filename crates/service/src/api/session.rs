//! Signing in to the console.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::AppendHeaders;
use nomenta_api::problem::FieldCode;
use nomenta_api::problem::Problem;
use nomenta_api::registry::{KeysQuery, Session, SignIn, Who};
use nomenta_api::role::Role;
use nomenta_store::{KeyRow, SessionRow};
use uuid::Uuid;

use super::paging;
use super::registry::accounts_of;
use crate::App;
use crate::access::{self, Caller, Origin};
use crate::problem::{Body, Named, Params, Refusal};
use crate::shown::Shown;

type WithCookie<T> = (AppendHeaders<[(header::HeaderName, String); 1]>, T);

/// Who is calling.
#[utoipa::path(get, path = "/api/v1/session", responses((status = 200, body = Who), (status = 401, body = Problem)))]
pub(super) async fn who(caller: Caller) -> Shown<Who> {
    Shown::plain(who_of(caller.key))
}

fn who_of(key: KeyRow) -> Who {
    Who { name: key.name, role: key.role, accounts: accounts_of(key.accounts) }
}

/// Exchanges a key for the console's cookie.
#[utoipa::path(post, path = "/api/v1/session", request_body = SignIn,
    responses((status = 200, body = Who), (status = 422, body = Problem)))]
pub(super) async fn sign_in(
    State(app): State<Arc<App>>,
    origin: Origin,
    Body(typed): Body<SignIn>,
) -> Result<WithCookie<Shown<Who>>, Refusal> {
    let hash = access::hash(typed.key.trim());
    let key = access::tried_key(&app, &origin, &hash).await?.ok_or_else(|| {
        let message = "This key is unknown or revoked. Ask an admin for one.";
        Refusal::field("key", FieldCode::UnknownKey, message)
    })?;

    if key.role == Role::Edge {
        let message = "This key is for edge servers. Sign in with a viewer, operator or admin key.";
        return Err(Refusal::field("key", FieldCode::EdgeKey, message));
    }

    let session = access::begin_session(&app, key.clone(), origin).await?;
    Ok((cookie(&app, &session, ""), Shown::plain(who_of(key))))
}

/// Ends the console's session, with all that it has opened.
#[utoipa::path(delete, path = "/api/v1/session", responses((status = 204)))]
pub(super) async fn sign_out(
    State(app): State<Arc<App>>,
    caller: Result<Caller, Refusal>,
) -> Result<WithCookie<StatusCode>, Refusal> {
    if let Ok(caller) = caller {
        caller.end_session(&app).await?;
    }
    Ok((cookie(&app, "", "; Max-Age=0"), StatusCode::NO_CONTENT))
}

/// Sessions that have not ended, newest first, a page at a time; the `Link` header leads to
/// the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/sessions", params(KeysQuery),
    responses((status = 200, body = [Session]), (status = 422, body = Problem)))]
pub(super) async fn sessions(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<KeysQuery>,
) -> Result<(HeaderMap, Shown<Vec<Session>>), Refusal> {
    let records = caller.whole(&app, Role::Admin)?;
    let limit = paging::limit(query.limit)?;
    let rows = records.sessions(query.after, limit + 1).await?;
    let place = |session: &SessionRow| session.id.to_string();
    let (headers, rows) = paging::page(rows, limit, "sessions", place, &paging::asked(&query)?)?;

    let own = caller.session.as_ref().map(|session| session.id);
    let sessions = rows.into_iter().map(|row| Session {
        is_own: own == Some(row.id),
        id: row.id,
        key: row.key,
        from: row.came_from,
        created_at: row.created_at,
        used_at: row.used_at,
        expires_at: row.expires_at,
    });
    Ok((headers, Shown::of_all(sessions.collect(), &records)))
}

/// Ends a session of the console, with all that it has opened.
#[utoipa::path(delete, path = "/api/v1/sessions/{id}", params(("id" = Uuid, Path, description = "The session")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn end(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<StatusCode, Refusal> {
    caller.whole(&app, Role::Admin)?.end_session(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn cookie(app: &App, value: &str, more: &str) -> AppendHeaders<[(header::HeaderName, String); 1]> {
    let is_by_https = app.config.is_by_https();
    AppendHeaders([(header::SET_COOKIE, access::cookie(value, more, is_by_https))])
}

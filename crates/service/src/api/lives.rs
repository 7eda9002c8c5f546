//! The life of a domain: what it shows, rest, and its end.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use nomenta_api::domain::{ClaimQuery, MoveDomain, Moved};
use nomenta_api::problem::{FieldCode, Problem, ProblemKind};
use nomenta_store::Move;

use super::access::{Asked, find_open};
use super::accounts::path;
use crate::App;
use crate::access::Caller;
use crate::precondition::IfMatch;
use crate::problem::{Body, Refusal};
use crate::shown::Shown;

/// Changes what the domain shows, now or at an hour: another site of the account, which
/// of the pair is the primary, where visitors enter. Nothing has to be published anew
/// unless the other site lies behind another ingress.
#[utoipa::path(patch, path = "/api/v1/domains/{host}", request_body = MoveDomain,
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = Moved), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(super) async fn change(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    version: IfMatch,
    Body(wanted): Body<MoveDomain>,
) -> Result<Shown<Moved>, Refusal> {
    let record = find_open(&app, &caller, &asked).await?;
    if wanted.primary && record.domain.pair.is_none() {
        let message = format!("{} is no part of a pair, so it is its own primary.", asked.host);
        return Err(Refusal::conflict_at("primary", ProblemKind::NoPair, FieldCode::NoPair, message));
    }

    let change = Move {
        site: wanted.site.as_deref(),
        primary: wanted.primary,
        entry_path: wanted.entry_path.as_deref().map(|typed| own_path("entry_path", typed)).transpose()?,
        error_path: wanted.error_path.as_deref().map(|typed| own_path("error_path", typed)).transpose()?,
        at: wanted.at,
    };
    let needs_records = record.change(&change, version.0).await;
    let needs_records = needs_records.map_err(|error| Refusal::of_record(error, "site"))?;
    Ok(Shown::plain(Moved { needs_records }))
}

/// A path on the site, or nothing for what the site says.
fn own_path<'a>(field: &str, typed: &'a str) -> Result<&'a str, Refusal> {
    if typed.is_empty() { Ok(typed) } else { path(field, typed) }
}

/// Leaves the domain alone: nothing is looked at or ordered until it is resumed. What
/// is served stays, and its certificate is not renewed.
#[utoipa::path(post, path = "/api/v1/domains/{host}/pause",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn pause(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    version: IfMatch,
) -> Result<StatusCode, Refusal> {
    find_open(&app, &caller, &asked).await?.pause(version.0).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Goes on with a domain that was paused.
#[utoipa::path(delete, path = "/api/v1/domains/{host}/pause",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn resume(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    version: IfMatch,
) -> Result<StatusCode, Refusal> {
    find_open(&app, &caller, &asked).await?.resume(version.0).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Lets the domain leave the platform: no more looks, its route is withdrawn and its
/// certificate revoked. Its name may be taken in anew. What is left of it in the zone is
/// watched for a while.
#[utoipa::path(delete, path = "/api/v1/domains/{host}",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn release(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    version: IfMatch,
) -> Result<StatusCode, Refusal> {
    find_open(&app, &caller, &asked).await?.release(version.0).await?;
    Ok(StatusCode::NO_CONTENT)
}

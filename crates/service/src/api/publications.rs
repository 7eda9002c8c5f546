//! Publishing a customer's list for them, by an update of their zone.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use nomenta_api::domain::ClaimQuery;
use nomenta_api::problem::Problem;
use nomenta_api::publication::{
    GiveKey, KeptKey, NewPublication, Publication, PublicationPlan, PublicationsQuery, WriteLine, ZoneKey,
};
use nomenta_api::role::Role;
use nomenta_store::PublicationRow;
use uuid::Uuid;

use super::access::{Asked, find, find_open};
use super::paging;
use super::registry::Created;
use crate::App;
use crate::access::Caller;
use crate::problem::{Body, Named, Params, Refusal};
use crate::publishing::{self, Kept};
use crate::shown::Shown;

/// Keeps the key of the zone that a domain lies in, once the zone's server has taken it. It is
/// sealed, and good for every domain of the account in that zone.
#[utoipa::path(put, path = "/api/v1/domains/{host}/zone-key", request_body = GiveKey,
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = ZoneKey), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(super) async fn give_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    Body(given): Body<GiveKey>,
) -> Result<Shown<ZoneKey>, Refusal> {
    let record = find_open(&app, &caller, &asked).await?;
    Ok(Shown::plain(publishing::give_key(&app, &record.by(&caller)?, &record, &given).await?))
}

/// The key that is kept of the zone that a domain lies in, without its secret.
#[utoipa::path(get, path = "/api/v1/domains/{host}/zone-key",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = KeptKey), (status = 404, body = Problem)))]
pub(super) async fn key(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<Shown<KeptKey>, Refusal> {
    let key = match find(&app, &caller, &asked).await?.kept_key().await? {
        Kept::Own(kept) => Some(kept.key),
        Kept::None | Kept::Others => None,
    };
    Ok(Shown::plain(KeptKey { key }))
}

/// Forgets the key of the zone that a domain lies in.
#[utoipa::path(delete, path = "/api/v1/domains/{host}/zone-key",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn forget_key(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<StatusCode, Refusal> {
    let record = find(&app, &caller, &asked).await?;
    publishing::forget_key(&record.by(&caller)?, &record).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What would be written to the customer's zone now: read from the server that takes updates,
/// while the caller waits.
#[utoipa::path(get, path = "/api/v1/domains/{host}/publication-plan",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = PublicationPlan), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn plan(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<Shown<PublicationPlan>, Refusal> {
    let record = find_open(&app, &caller, &asked).await?;
    Shown::secret(publishing::preview(&app, &record.by(&caller)?, &record).await?, &caller)
}

/// Writes the customer's list to their zone: all of it, and only if what it depends on is as it
/// was read (RFC 2136).
#[utoipa::path(post, path = "/api/v1/domains/{host}/publications", request_body = NewPublication,
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 201, body = Publication), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn add(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    Body(new): Body<NewPublication>,
) -> Result<Created<Publication>, Refusal> {
    let record = find_open(&app, &caller, &asked).await?;
    let id = publishing::publish(&app, &record.by(&caller)?, &record, &new).await?;
    let row = record.publication(id).await?;
    Ok((StatusCode::CREATED, Shown::masked(told(row), &record.domain.mask())?))
}

/// What was written to the customer's zone for a domain, newest first, a page at a time; the
/// `Link` header leads to the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/domains/{host}/publications",
    params(("host" = String, Path, description = "The domain"), PublicationsQuery),
    responses((status = 200, body = [Publication]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    Params(query): Params<PublicationsQuery>,
) -> Result<(HeaderMap, Shown<Vec<Publication>>), Refusal> {
    let record = find(&app, &caller, &asked).await?;
    let limit = paging::limit(query.limit)?;
    let rows = record.publications(query.after, limit + 1).await?;

    let place = |row: &PublicationRow| row.id.to_string();
    let path = format!("domains/{}/publications", record.domain.subject());
    let (headers, rows) = paging::page(rows, limit, &path, place, &paging::asked(&query)?)?;
    let told = rows.into_iter().map(told).collect();
    Ok((headers, Shown::masked(told, &record.domain.mask())?))
}

/// Takes back what was published, while the zone still holds it.
#[utoipa::path(post, path = "/api/v1/publications/{id}/undo", params(("id" = Uuid, Path, description = "The publication")),
    responses((status = 200, body = Publication), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub(super) async fn undo(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<Shown<Publication>, Refusal> {
    let (row, record) = caller.reach(&app, Role::Operator)?.publication(id).await?;
    publishing::undo(&app, &record.by(&caller)?, &record, row).await?;
    Shown::masked(told(record.publication(id).await?), &record.domain.mask())
}

/// What was written. Whoever is to type a token has the sheet; here it is to be masked.
fn told(row: PublicationRow) -> Publication {
    Publication {
        id: row.id,
        host: row.host,
        zone: row.update.zone.clone(),
        server: row.server,
        key_name: row.key_name,
        state: row.state,
        because: row.because,
        lines: WriteLine::of(&row.update),
        created_at: row.created_at,
        ended_at: row.ended_at,
    }
}

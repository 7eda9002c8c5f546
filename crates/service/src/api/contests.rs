//! Contests: whose is a name that two accounts have proved?

use std::sync::Arc;

use axum::extract::State;
use axum::http::HeaderMap;
use chrono::{DateTime, Utc};
use nomenta_api::contest::{self, Contest, ContestQuery, NewRuling, Party, Ruling, Settled};
use nomenta_api::problem::{FieldCode, Problem};
use nomenta_api::role::Role;
use nomenta_core::claim::rivals::Side;
use nomenta_store::{ContestFilter, ContestRow, PartyRow, Place};
use uuid::Uuid;

use super::domains::shown;
use super::paging::{self, Cursor};
use crate::App;
use crate::access::Caller;
use crate::precondition::{IfMatch, Tagged, tagged};
use crate::problem::{Body, Named, Params, Refusal};
use crate::reach::Whole;
use crate::shown::Shown;

/// Contests, a page at a time; the `Link` header leads to the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/contests", params(ContestQuery),
    responses((status = 200, body = [Contest]), (status = 422, body = Problem)))]
pub(super) async fn contests(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<ContestQuery>,
) -> Result<(HeaderMap, Shown<Vec<Contest>>), Refusal> {
    let records = caller.whole(&app, Role::Viewer)?;
    let limit = paging::limit(query.limit)?;
    let after = query.after.as_deref().map(Place::read).transpose()?;
    let rows = records.contests(&ContestFilter { settled: query.settled, after }, limit + 1).await?;
    let place = |row: &ContestRow| Place::after(placed_at(row), row.id).written();
    let (headers, rows) = paging::page(rows, limit, "contests", place, &paging::asked(&query)?)?;

    Ok((headers, Shown::of_all(rows.into_iter().map(contest).collect(), &records)))
}

/// What contests are sorted by.
fn placed_at(row: &ContestRow) -> DateTime<Utc> {
    row.settled.map_or(row.opened_at, |(at, _)| at)
}

/// One contest.
#[utoipa::path(get, path = "/api/v1/contests/{id}", params(("id" = Uuid, Path, description = "The contest")),
    responses((status = 200, body = Contest), (status = 404, body = Problem)))]
pub(super) async fn one(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<(Tagged, Shown<Contest>), Refusal> {
    read(&caller.whole(&app, Role::Viewer)?, id).await
}

/// A contest with the tag of its version.
async fn read(records: &Whole, id: Uuid) -> Result<(Tagged, Shown<Contest>), Refusal> {
    let row = records.contest(id).await?;
    Ok((tagged(row.id, row.version), Shown::of_all(contest(row), records)))
}

/// Rules whose the name is. For the holder the other claim ends at once; for the
/// challenger the route is switched as soon as it has its certificate.
#[utoipa::path(post, path = "/api/v1/contests/{id}/ruling", request_body = NewRuling,
    params(("id" = Uuid, Path, description = "The contest")),
    responses((status = 200, body = Contest), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(super) async fn rule(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
    wanted: IfMatch,
    Body(new): Body<NewRuling>,
) -> Result<(Tagged, Shown<Contest>), Refusal> {
    let records = caller.whole(&app, Role::Operator)?;
    let side: Side = new.side.parse().map_err(|unknown| Refusal::field("side", FieldCode::Side, unknown))?;
    let because = new.because.trim();
    if because.is_empty() {
        return Err(Refusal::field("because", FieldCode::Empty, "Say why, for the record."));
    }

    let ruling = nomenta_store::NewRuling { side, by: &caller.key.name, because };
    records.rule(id, &ruling, wanted.0).await?;
    read(&records, id).await
}

fn contest(row: ContestRow) -> Contest {
    Contest {
        id: row.id,
        shown: shown(&row.host),
        host: row.host.into(),
        phase: row.phase,
        told: contest::told(row.phase, row.grace_ends_at, row.settled.map(|(_, outcome)| outcome)),
        opened_at: row.opened_at,
        grace_ends_at: row.grace_ends_at,
        ruling: row.ruling.map(|ruling| Ruling {
            side: ruling.side,
            at: ruling.at,
            by: ruling.by,
            because: ruling.because,
        }),
        settled: row.settled.map(|(at, outcome)| Settled { at, outcome }),
        holder: party(row.holder),
        challenger: party(row.challenger),
    }
}

fn party(mut row: PartyRow) -> Party {
    for gate in &mut row.gates.0 {
        gate.reason = row.mask.hide(&gate.reason);
    }

    Party {
        account: row.account,
        site: row.site,
        enrolled_at: row.enrolled_at,
        held_since: row.held_since,
        stage: row.stage,
        gates: row.gates,
        looked_at: row.looked_at,
    }
}

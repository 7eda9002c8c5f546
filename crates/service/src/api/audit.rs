//! What people have changed.

use std::sync::Arc;

use axum::extract::State;
use axum::http::HeaderMap;
use nomenta_api::audit::{AuditEntry, AuditQuery};
use nomenta_api::problem::Problem;
use nomenta_api::role::Role;
use nomenta_store::{AuditFilter, AuditRow};

use super::paging;
use crate::App;
use crate::access::Caller;
use crate::problem::{Params, Refusal};
use crate::shown::Shown;

/// Changes that people have made, newest first, a page at a time; the `Link` header leads to
/// the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/audit", params(AuditQuery),
    responses((status = 200, body = [AuditEntry]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn audit(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<AuditQuery>,
) -> Result<(HeaderMap, Shown<Vec<AuditEntry>>), Refusal> {
    let reach = caller.part(&app, Role::Admin, query.account.as_deref()).await?;
    let limit = paging::limit(query.limit)?;
    let filter = AuditFilter {
        who: query.by.clone(),
        name: query.name.clone(),
        since: query.since,
        before: query.after,
        ..AuditFilter::default()
    };

    let rows = reach.audit(filter, limit + 1).await?;
    let place = |row: &AuditRow| row.seq.to_string();
    let (headers, rows) = paging::page(rows, limit, "audit", place, &paging::asked(&query)?)?;
    Ok((headers, Shown::to(rows.into_iter().map(entry).collect(), &caller)))
}

/// What is told of the platform's staff to others.
const STAFF: &str = "staff";

/// A change, as it is told; of whom the caller knows nothing of, no more than that it was staff.
fn entry(row: AuditRow) -> AuditEntry {
    AuditEntry {
        seq: row.seq,
        at: row.at,
        who: if row.is_known { row.who } else { STAFF.into() },
        role: row.role,
        session: row.session_id.filter(|_| row.is_known),
        from: row.came_from.filter(|_| row.is_known),
        call: row.call,
        act: row.act,
        kind: row.kind,
        name: row.name,
        account: row.account,
        before: row.was,
        after: row.became,
    }
}

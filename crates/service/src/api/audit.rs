//! What people have changed.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::HeaderMap;
use nomenta_api::audit::{AuditEntry, AuditQuery};
use nomenta_api::problem::Problem;
use nomenta_api::role::Role;
use nomenta_store::{AuditFilter, AuditRow};

use super::paging;
use super::roster::whose;
use crate::App;
use crate::access::Caller;
use crate::problem::{Params, Refusal};

/// Changes that people have made, newest first, a page at a time; the `Link` header leads to
/// the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/audit", params(AuditQuery),
    responses((status = 200, body = [AuditEntry]), (status = 422, body = Problem)))]
pub(super) async fn audit(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<AuditQuery>,
) -> Result<(HeaderMap, Json<Vec<AuditEntry>>), Refusal> {
    caller.needs(Role::Admin)?;
    let limit = paging::limit(query.limit)?;
    let filter = AuditFilter {
        whose: whose(&app, &caller, query.account.as_deref()).await?,
        who: query.by.clone(),
        name: query.name.clone(),
        since: query.since,
        before: query.after,
    };

    let rows = app.calls.audit(&filter, limit + 1).await?;
    let place = |row: &AuditRow| row.seq.to_string();
    let (headers, rows) = paging::page(rows, limit, "audit", place, &paging::asked(&query)?)?;
    Ok((headers, Json(rows.into_iter().map(entry).collect())))
}

fn entry(row: AuditRow) -> AuditEntry {
    AuditEntry {
        seq: row.seq,
        at: row.at,
        who: row.who,
        role: row.role,
        session: row.session_id,
        from: row.came_from,
        call: row.call,
        act: row.act,
        kind: row.kind,
        name: row.name,
        account: row.account,
        before: row.was,
        after: row.became,
    }
}

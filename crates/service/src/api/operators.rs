//! DNS operators, and what was learned of them.

use std::sync::Arc;

use axum::extract::State;
use axum::http::HeaderMap;
use data_encoding::HEXLOWER;
use nomenta_api::learned::{Needed, OperatorView, OperatorsQuery};
use nomenta_api::problem::Problem;
use nomenta_api::role::Role;
use nomenta_store::LessonsRow;

use super::paging;
use crate::App;
use crate::access::Caller;
use crate::problem::{Named, Params, Refusal};
use crate::shown::Shown;

/// DNS operators of which something was learned, those with most domains first, a page at a
/// time; the `Link` header leads to the next (RFC 8288). What was learned is the whole fleet's,
/// and never told of fewer accounts than the service is configured to; domains are counted of
/// those that the caller sees.
#[utoipa::path(get, path = "/api/v1/operators", params(OperatorsQuery),
    responses((status = 200, body = [OperatorView]), (status = 422, body = Problem)))]
pub(super) async fn operators(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<OperatorsQuery>,
) -> Result<(HeaderMap, Shown<Vec<OperatorView>>), Refusal> {
    let reach = caller.reach(&app, Role::Viewer)?;
    let limit = paging::limit(query.limit)?;
    let after =
        query.after.as_deref().map(|cursor| read(cursor).ok_or_else(paging::no_cursor)).transpose()?;

    let rows = reach.operators_page(after.as_ref(), limit + 1).await?;
    let place = |row: &LessonsRow| format!("{}~{}", row.rank, HEXLOWER.encode(row.operator.as_bytes()));
    let (headers, rows) = paging::page(rows, limit, "operators", place, &paging::asked(&query)?)?;
    Ok((headers, Shown::plain(rows.into_iter().map(|row| view(&app, row)).collect())))
}

/// Where a page begins: after a rank and a name.
fn read(cursor: &str) -> Option<(i64, String)> {
    let (rank, name) = cursor.split_once('~')?;
    let name = HEXLOWER.decode(name.as_bytes()).ok()?;
    // A cursor that was not given here leads somewhere all the same.
    let name = String::from_utf8_lossy(&name).replace('\0', "");
    Some((rank.parse().ok().filter(|rank| *rank >= 0)?, name))
}

/// One DNS operator, by its name in the book or the domain of its name servers.
#[utoipa::path(get, path = "/api/v1/operators/{name}",
    params(("name" = String, Path, description = "The operator")),
    responses((status = 200, body = OperatorView), (status = 404, body = Problem)))]
pub(super) async fn operator(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
) -> Result<Shown<OperatorView>, Refusal> {
    let row = caller.reach(&app, Role::Viewer)?.operator(&name).await?;
    let row = row.ok_or_else(|| {
        Refusal::not_found(format!(
            "No domain has its DNS at {name}. Give the name that the book has, or the domain of the name servers."
        ))
    })?;
    Ok(Shown::plain(view(&app, row)))
}

fn view(app: &App, row: LessonsRow) -> OperatorView {
    let config = &app.config;
    OperatorView {
        form: config.book.operators().iter().find(|form| form.name == row.operator).cloned(),
        operator: row.operator,
        domains: row.domains,
        lessons: row.lessons,
        enough: Needed { cases: config.enough.cases, accounts: config.enough.accounts },
    }
}

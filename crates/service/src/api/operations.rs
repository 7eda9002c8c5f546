//! For those who run the service, and the catalogue of findings.

use std::sync::Arc;

use axum::body::Bytes;
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use nomenta_api::domain::CatalogueEntry;
use nomenta_api::role::Role;
use nomenta_core::judge::findings::CATALOGUE;
use nomenta_core::judge::gate::Stage;
use nomenta_store::Lane;

use crate::App;
use crate::access::Caller;
use crate::problem::Refusal;
use crate::shown::Shown;

/// Tasks that are due, counted in each lane at most.
const MOST_DUE: i64 = 10_000;

/// Every finding there can be.
#[utoipa::path(get, path = "/api/v1/findings", responses((status = 200, body = [CatalogueEntry])))]
pub(super) async fn catalogue(caller: Caller) -> Result<Shown<Vec<CatalogueEntry>>, Refusal> {
    caller.needs(Role::Viewer)?;
    let entries = CATALOGUE.iter().map(|entry| CatalogueEntry {
        code: entry.code,
        severity: entry.severity,
        gate: entry.gate,
        about: entry.about,
    });

    Ok(Shown::plain(entries.collect()))
}

/// The OpenAPI document.
pub(super) async fn document(State(app): State<Arc<App>>) -> Response {
    ([(header::CONTENT_TYPE, "application/json")], Bytes::clone(&app.document)).into_response()
}

/// The process runs.
pub(super) async fn healthz() -> &'static str {
    "ok\n"
}

/// The process can do its work. Anybody may ask, so nothing is asked for them.
pub(super) async fn readyz(State(app): State<Arc<App>>) -> Result<&'static str, Refusal> {
    if app.watchman.is_there() { Ok("ready\n") } else { Err(Refusal::away()) }
}

/// Prometheus text format, for keys that open every account.
pub(super) async fn metrics(State(app): State<Arc<App>>, caller: Caller) -> Result<String, Refusal> {
    let records = caller.whole(&app, Role::Viewer)?;
    let counts = records.reach().stage_counts().await?;
    for stage in Stage::ALL {
        let count = counts.iter().find(|one| one.of == stage).map_or(0, |one| one.count);
        metrics::gauge!("nomenta_domains", "stage" => stage.as_str()).set(count as f64);
    }

    let due = records.due_in_lanes(MOST_DUE).await?;
    for lane in Lane::ALL {
        let count = due.iter().find(|(of, _)| of == lane).map_or(0, |(_, count)| *count);
        metrics::gauge!("nomenta_tasks_due", "lane" => lane.as_str()).set(count as f64);
    }

    metrics::gauge!("nomenta_contests_open").set(records.open_contests().await? as f64);
    Ok(app.metrics.render())
}

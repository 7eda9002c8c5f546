//! For those who run the service, and the catalogue of findings.

use std::sync::Arc;

use axum::Json;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use nomenta_api::domain::CatalogueEntry;
use nomenta_api::role::Role;
use nomenta_core::judge::findings::CATALOGUE;
use nomenta_core::judge::gate::Stage;
use nomenta_store::{Lane, Whose};

use crate::App;
use crate::access::Caller;
use crate::problem::Refusal;

/// Tasks that are due, counted in each lane at most.
const MOST_DUE: i64 = 10_000;

/// Every finding there can be.
#[utoipa::path(get, path = "/api/v1/findings", responses((status = 200, body = [CatalogueEntry])))]
pub(super) async fn catalogue(caller: Caller) -> Result<Json<Vec<CatalogueEntry>>, Refusal> {
    caller.needs(Role::Viewer)?;
    let entries = CATALOGUE.iter().map(|entry| CatalogueEntry {
        code: entry.code,
        severity: entry.severity,
        gate: entry.gate,
        about: entry.about,
    });

    Ok(Json(entries.collect()))
}

/// The OpenAPI document.
pub(super) async fn document(State(app): State<Arc<App>>) -> Response {
    ([(header::CONTENT_TYPE, "application/json")], Bytes::clone(&app.document)).into_response()
}

/// The process runs.
pub(super) async fn healthz() -> &'static str {
    "ok\n"
}

/// The process can do its work.
pub(super) async fn readyz(State(app): State<Arc<App>>) -> Result<&'static str, Refusal> {
    app.calls.ping().await.map_err(|error| Refusal::unavailable(error.to_string()))?;
    Ok("ready\n")
}

/// Prometheus text format.
pub(super) async fn metrics(State(app): State<Arc<App>>) -> Result<String, Refusal> {
    let counts = app.calls.stage_counts(&Whose::Everybodys).await?;
    for stage in Stage::ALL {
        let count = counts.iter().find(|one| one.of == stage).map_or(0, |one| one.count);
        metrics::gauge!("nomenta_domains", "stage" => stage.as_str()).set(count as f64);
    }

    let due = app.calls.due_in_lanes(MOST_DUE).await?;
    for lane in Lane::ALL {
        let count = due.iter().find(|(of, _)| of == lane).map_or(0, |(_, count)| *count);
        metrics::gauge!("nomenta_tasks_due", "lane" => lane.as_str()).set(count as f64);
    }

    metrics::gauge!("nomenta_contests_open").set(app.calls.open_contests().await? as f64);
    Ok(app.metrics.render())
}

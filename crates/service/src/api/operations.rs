//! For those who run the service, and the catalogue of findings.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use nomenta_core::judge::findings::CATALOGUE;
use nomenta_core::judge::gate::Stage;

use super::dto::CatalogueEntry;
use crate::App;
use crate::access::Caller;
use crate::problem::Problem;
use crate::role::Role;

/// Every finding there can be.
#[utoipa::path(get, path = "/api/v1/findings", responses((status = 200, body = [CatalogueEntry])))]
pub(super) async fn catalogue(caller: Caller) -> Result<Json<Vec<CatalogueEntry>>, Problem> {
    caller.needs(Role::Viewer)?;
    let entries = CATALOGUE.iter();
    let line = |e: &&nomenta_core::judge::finding::Entry| CatalogueEntry {
        code: e.code,
        severity: e.severity,
        gate: e.gate,
        about: e.about,
    };
    Ok(Json(entries.map(line).collect()))
}

/// The process runs.
pub(super) async fn healthz() -> &'static str {
    "ok\n"
}

/// The process can do its work.
pub(super) async fn readyz(State(app): State<Arc<App>>) -> Result<&'static str, Problem> {
    app.store.ping().await.map_err(|e| Problem::unavailable(e.to_string()))?;
    Ok("ready\n")
}

/// Prometheus text format.
pub(super) async fn metrics(State(app): State<Arc<App>>) -> Result<String, Problem> {
    let counts = app.store.stage_counts().await?;
    for stage in Stage::ALL.map(|stage| stage.to_string()) {
        let count = counts.iter().find(|(known, _)| *known == stage).map_or(0, |(_, count)| *count);
        metrics::gauge!("nomenta_domains", "stage" => stage).set(count as f64);
    }
    Ok(app.metrics.render())
}

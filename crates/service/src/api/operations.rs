//! For those who run the service, and the catalogue of findings.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use nomenta_api::domain::CatalogueEntry;
use nomenta_api::role::Role;
use nomenta_core::judge::findings::CATALOGUE;
use nomenta_core::judge::gate::Stage;

use crate::App;
use crate::access::Caller;
use crate::problem::Refusal;

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

/// The process runs.
pub(super) async fn healthz() -> &'static str {
    "ok\n"
}

/// The process can do its work.
pub(super) async fn readyz(State(app): State<Arc<App>>) -> Result<&'static str, Refusal> {
    app.store.ping().await.map_err(|error| Refusal::unavailable(error.to_string()))?;
    Ok("ready\n")
}

/// Prometheus text format.
pub(super) async fn metrics(State(app): State<Arc<App>>) -> Result<String, Refusal> {
    let counts = app.store.stage_counts(None).await?;
    for stage in Stage::ALL {
        let count = counts.iter().find(|(known, _)| *known == stage).map_or(0, |(_, count)| *count);
        metrics::gauge!("nomenta_domains", "stage" => stage.as_str()).set(count as f64);
    }

    metrics::gauge!("nomenta_contests_open").set(app.store.open_contests().await? as f64);
    Ok(app.metrics.render())
}

//! The long-running service: API, worker, live events, edge feed and console.
//!
//! Several processes may run on one database; they share the leased queue and
//! wake each other by LISTEN/NOTIFY.

mod access;
mod api;
mod config;
mod console;
mod hub;
mod look;
mod ordering;
mod problem;
mod role;
mod sweep;
mod worker;

use std::sync::Arc;

use anyhow::Context;
use nomenta_certs::Visitor;
use nomenta_certs::seal::Sealer;
use nomenta_dns::Surveyor;
use nomenta_store::Store;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

pub use api::{document, dto};
pub use config::{BootKey, ServiceConfig};
pub use role::Role;

use crate::hub::Hub;

/// What every part of the service works with.
pub(crate) struct App {
    pub config: ServiceConfig,
    pub store: Store,
    pub surveyor: Surveyor,
    pub visitor: Visitor,
    pub sealer: Sealer,
    pub hub: Hub,
    pub acme: ordering::Issuer,
    pub metrics: metrics_exporter_prometheus::PrometheusHandle,
    pub stop: CancellationToken,
}

/// Runs until `stop` is cancelled, then ends what is under way.
///
/// # Errors
/// If the database, the port or a file of the configuration is not to be had.
pub async fn run(config: ServiceConfig, stop: CancellationToken) -> anyhow::Result<()> {
    let listener = TcpListener::bind(config.listen)
        .await
        .with_context(|| format!("Cannot listen on {}. Is another copy running?", config.listen))?;
    let app = Arc::new(assemble(config, stop.clone()).await?);
    for key in &app.config.boot_keys {
        app.store
            .add_key(&key.name, key.role.as_str(), &access::hash(&key.secret), &access::hint(&key.secret))
            .await?;
    }
    let hub = tokio::spawn(hub::listen(app.clone()));
    let worker = tokio::spawn(worker::run(app.clone()));
    tracing::info!(listen = %app.config.listen, "serving");
    axum::serve(listener, api::router(app)).with_graceful_shutdown(stop.cancelled_owned()).await?;
    worker.await?;
    hub.await?;
    Ok(())
}

async fn assemble(config: ServiceConfig, stop: CancellationToken) -> anyhow::Result<App> {
    // Fails only if a provider is installed already, which serves as well.
    let _ = rustls_provider();
    let store = Store::open(&config.database).await.context("Cannot open the database")?;
    let visitor = Visitor::new(config.visits.clone(), &config.trust)
        .with_context(|| format!("Cannot read the roots in {}", config.trust.display()))?;
    let metrics = metrics_exporter_prometheus::PrometheusBuilder::new().build_recorder();
    let handle = metrics.handle();
    let _ = metrics::set_global_recorder(metrics);
    Ok(App {
        surveyor: Surveyor::new(config.dns.clone())?,
        sealer: Sealer::from_hex(&config.sealing_key)?,
        acme: ordering::Issuer::default(),
        hub: Hub::default(),
        metrics: handle,
        store,
        visitor,
        config,
        stop,
    })
}

fn rustls_provider() -> Result<(), Arc<rustls::crypto::CryptoProvider>> {
    rustls::crypto::ring::default_provider().install_default()
}

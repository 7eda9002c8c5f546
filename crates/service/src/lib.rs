//! The long-running service: API, worker, live events, edge feed and console.
//!
//! Several processes may run on one database; they share the leased queue and
//! wake each other by LISTEN/NOTIFY.

mod admission;
mod api;
mod bodies;
mod config;
mod console;
mod described;
mod handoff_page;
mod key_page;
mod negotiation;
mod one_click;
mod peer;
mod precondition;
mod problem;
mod repeats;
mod server;
mod shown;
mod throttle;
mod tls;
mod told_page;
mod turns;
mod work;

use std::net::SocketAddr;
use std::sync::Arc;

use anyhow::Context;
use nomenta_dns::responder::Responder;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

pub use api::document;
pub use config::{BootKey, ChallengeDns, NoticesConfig, ServiceConfig};
pub use guest::Reception;
pub use intake::MOST_ROWS;
pub use nomenta_store::Retention;
pub use notices::MailConfig;
pub use one_click::OneClick;
pub use server::ServerLimits;
pub use tls::TlsFiles;

pub(crate) use work::{App, token_end};
use work::{
    access, advising, answers, awaiting, challenges, detail, guest, handoff, hub, intake, jobs, learning,
    look, notices, ordering, publishing, reach, registering, sealing, sweep, upkeep, worker,
};

/// Runs until `stop` is cancelled, then ends what is under way.
///
/// # Errors
/// If the database, the port or a file of the configuration is not to be had.
pub async fn run(config: ServiceConfig, stop: CancellationToken) -> anyhow::Result<()> {
    let listener = TcpListener::bind(config.listen)
        .await
        .with_context(|| format!("Cannot listen on {}. Is another copy running?", config.listen))?;

    let tls = config.tls.clone().map(|files| tls::acceptor(files, stop.clone())).transpose()?;
    let responder = match &config.challenge_dns {
        Some(dns) => {
            let bound = Responder::bind(dns.listen).await;
            let bound = bound.with_context(|| format!("Cannot answer DNS questions at {}", dns.listen))?;
            Some((bound, dns.zone.clone()))
        }
        None => None,
    };

    let (app, custody) = work::assemble(config, stop.clone()).await?;
    let app = Arc::new(app);
    app.add_boot_keys().await?;

    let hub = tokio::spawn(hub::listen(app.clone()));
    let worker = tokio::spawn(worker::run(app.clone()));
    let jobs = tokio::spawn(jobs::run(app.clone()));
    let notices = tokio::spawn(notices::run(app.clone()));
    let learning = tokio::spawn(learning::run(app.clone()));
    let upkeep = tokio::spawn(upkeep::run(app.clone()));
    let advising = tokio::spawn(advising::run(app.clone()));
    let custody = tokio::spawn(custody.run(app.clone()));

    if let Some((responder, zone)) = responder {
        let asked = app.clone();
        let look_up = move |host: String| {
            let app = asked.clone();
            async move { app.challenges.at(&app, &host).await }
        };
        tokio::spawn(challenges::run(app.clone()));
        tokio::spawn(responder.serve(zone, look_up, stop.clone()));
    }

    tracing::info!(listen = %app.config.listen, "serving");
    // Made once for all: by itself each connection would get a copy of every route.
    let (limits, proxies) = (app.config.server, app.config.trusted_proxies.clone());
    let calls = api::router(app).into_make_service_with_connect_info::<SocketAddr>();
    server::serve(listener, calls, limits, proxies, tls, stop).await;

    worker.await?;
    jobs.await?;
    notices.await?;
    learning.await?;
    upkeep.await?;
    advising.await?;
    custody.await?;
    hub.await?;

    Ok(())
}

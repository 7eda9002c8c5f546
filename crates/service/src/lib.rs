//! The long-running service: API, worker, live events, edge feed and console.
//!
//! Several processes may run on one database; they share the leased queue and
//! wake each other by LISTEN/NOTIFY.

mod access;
mod advising;
mod answers;
mod api;
mod bodies;
mod challenges;
mod config;
mod console;
mod described;
mod detail;
mod guest;
mod handoff;
mod handoff_page;
mod hub;
mod intake;
mod jobs;
mod key_page;
mod learning;
mod look;
mod masking;
mod negotiation;
mod notices;
mod one_click;
mod ordering;
mod peer;
mod precondition;
mod problem;
mod publishing;
mod registering;
mod repeats;
mod sealing;
mod server;
mod sweep;
mod throttle;
mod tls;
mod told_page;
mod upkeep;
mod worker;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use axum::body::Bytes;
use chrono::{DateTime, TimeDelta, Utc};
use nomenta_certs::Prober;
use nomenta_certs::seal::Sealer;
use nomenta_dns::Surveyor;
use nomenta_dns::responder::Responder;
use nomenta_store::{Store, Watchman};
use tokio::net::TcpListener;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, SemaphorePermit};
use tokio::time::{Instant, sleep, timeout};
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

use crate::challenges::Challenges;
use crate::described::Described;
use crate::handoff::Waits;
use crate::hub::Hub;
use crate::notices::Notices;
use crate::one_click::Offers;
use crate::problem::Refusal;
use crate::repeats::Repeats;
use crate::sealing::Custody;
use crate::throttle::Throttle;

/// Rehearsals and preflights at once.
const LENGTHY: usize = 8;
/// Longest wait for the turn of one.
const LENGTHY_WAIT: Duration = Duration::from_secs(5);
/// Longest wait for the records, to tell what was done.
const DONE_WAIT: Duration = Duration::from_secs(60);
/// Pause between asking for them.
const DONE_PAUSE: Duration = Duration::from_millis(500);
/// Changes under way at once, whoever still waits for their answer.
const CHANGES: usize = 2_048;
/// Streams that read on at once.
const STREAMS: usize = 3;
/// Tables that are taken in at once.
const INTAKES: usize = 2;
/// How long a token lasts, in days.
const TOKEN_DAYS: i64 = 30;

/// When a token made now runs out.
pub(crate) fn token_end(now: DateTime<Utc>) -> DateTime<Utc> {
    now + TimeDelta::days(TOKEN_DAYS)
}

/// What every part of the service works with.
pub(crate) struct App {
    pub config: ServiceConfig,
    /// Records, for work.
    pub store: Store,
    /// The same, for looks.
    pub looks: Store,
    /// The same, for calls.
    pub calls: Store,
    pub watchman: Watchman,
    pub surveyor: Arc<Surveyor>,
    pub notices: Notices,
    pub prober: Prober,
    pub sealer: Sealer,
    pub hub: Hub,
    pub acme: ordering::Issuer,
    /// What the challenge zone answers.
    pub challenges: Challenges,
    pub repeats: Repeats,
    pub offers: Offers,
    pub waits: Waits,
    /// Who has tried keys that open nothing.
    pub throttle: Throttle,
    /// Turns of those who write to customers' zones.
    pub publications: Semaphore,
    /// Turns of those who ask registries.
    pub registries: Semaphore,
    /// Turns of those who ask for what takes a while: a rehearsal, a preflight.
    pub lengthy: Arc<Semaphore>,
    /// Turns of changes.
    pub changes: Arc<Semaphore>,
    /// Turns of streams that read on: however many there are, calls find a connection.
    pub streams: Semaphore,
    /// Turns of those who take tables in.
    pub intakes: Arc<Semaphore>,
    pub metrics: metrics_exporter_prometheus::PrometheusHandle,
    /// The OpenAPI document: as it is sent, and as calls are held to it.
    pub document: Bytes,
    pub described: Described,
    pub stop: CancellationToken,
}

impl App {
    /// A turn for a stream to read on; none only where the service ends.
    pub(crate) async fn stream_turn(&self) -> Option<SemaphorePermit<'_>> {
        self.streams.acquire().await.ok()
    }

    /// What a change that is done comes to: whoever made it must hear of it, so the records are
    /// asked again for a while where they are not to be had.
    pub(crate) async fn done<T, F>(&self, read: impl Fn() -> F) -> Result<T, Refusal>
    where
        F: Future<Output = Result<T, Refusal>>,
    {
        let until = Instant::now() + DONE_WAIT;
        loop {
            match read().await {
                Err(refusal) if refusal.is_passing() && Instant::now() < until => sleep(DONE_PAUSE).await,
                told => return told,
            }
        }
    }

    /// A turn for what takes a while; whoever gets none in a moment is told to come again.
    pub(crate) async fn lengthy_turn(&self) -> Result<OwnedSemaphorePermit, Refusal> {
        let turn = timeout(LENGTHY_WAIT, self.lengthy.clone().acquire_owned()).await;
        turn.ok().and_then(Result::ok).ok_or_else(Refusal::busy)
    }
}

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

    let (app, custody) = assemble(config, stop.clone()).await?;
    let app = Arc::new(app);
    for key in &app.config.boot_keys {
        let hash = access::hash(&key.secret);
        let hint = access::hint(&key.secret);
        let new = nomenta_store::NewKey {
            name: &key.name,
            role: key.role,
            accounts: &[],
            expires_at: None,
            hash: &hash,
            hint: &hint,
        };
        app.store.add_key(&new).await?;
    }

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
    let limits = app.config.server;
    let calls = api::router(app).into_make_service_with_connect_info::<SocketAddr>();
    server::serve(listener, calls, limits, tls, stop).await;

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

async fn assemble(config: ServiceConfig, stop: CancellationToken) -> anyhow::Result<(App, Custody)> {
    // Fails only if a provider is installed already, which serves as well.
    let _ = rustls_provider();

    let store = Store::open(&config.database, config.rules).await.context("Cannot open the database")?;
    let prober = Prober::new(config.probes.clone(), &config.trust)
        .with_context(|| format!("Cannot read the roots in {}", config.trust.display()))?;

    let metrics = metrics_exporter_prometheus::PrometheusBuilder::new().build_recorder();
    let handle = metrics.handle();
    let _ = metrics::set_global_recorder(metrics);

    let surveyor = Arc::new(Surveyor::new(config.dns.clone())?);
    let calls = store.for_calls(&config.database).context("Cannot open the database")?;
    let looks = store.for_looks(&config.database).context("Cannot open the database")?;
    let document = document();
    let custody = Custody::begin(&config, &store).await?;
    let app = App {
        watchman: Watchman::start(&config.database).context("Cannot open the database")?,
        described: Described::read(&document)?,
        document: serde_json::to_vec(&document)?.into(),
        calls,
        looks,
        notices: Notices::new(&config, surveyor.clone())?,
        surveyor,
        sealer: custody.sealer(),
        acme: ordering::Issuer::default(),
        challenges: Challenges::default(),
        repeats: Repeats::default(),
        offers: Offers::default(),
        waits: Waits::default(),
        publications: Semaphore::new(publishing::AT_ONCE),
        throttle: Throttle::new(config.server.wrong_keys),
        registries: Semaphore::new(registering::AT_ONCE),
        lengthy: Arc::new(Semaphore::new(LENGTHY)),
        changes: Arc::new(Semaphore::new(CHANGES)),
        streams: Semaphore::new(STREAMS),
        intakes: Arc::new(Semaphore::new(INTAKES)),
        hub: Hub::default(),
        metrics: handle,
        store,
        prober,
        config,
        stop,
    };
    Ok((app, custody))
}

fn rustls_provider() -> Result<(), Arc<rustls::crypto::CryptoProvider>> {
    rustls::crypto::ring::default_provider().install_default()
}

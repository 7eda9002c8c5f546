//! What the service does, by itself and for whoever calls. The records are open to this part alone:
//! what answers calls comes to them by way of `reach`, which knows whose they are.

pub(crate) mod access;
pub(crate) mod advising;
pub(crate) mod answers;
pub(crate) mod awaiting;
pub(crate) mod challenges;
pub(crate) mod detail;
pub(crate) mod guest;
pub(crate) mod handoff;
pub(crate) mod hub;
pub(crate) mod intake;
pub(crate) mod jobs;
pub(crate) mod learning;
pub(crate) mod look;
pub(crate) mod notices;
pub(crate) mod ordering;
pub(crate) mod publishing;
pub(crate) mod reach;
pub(crate) mod registering;
pub(crate) mod sealing;
pub(crate) mod sweep;
pub(crate) mod upkeep;
pub(crate) mod worker;

use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use axum::body::Bytes;
use chrono::{DateTime, TimeDelta, Utc};
use nomenta_certs::Prober;
use nomenta_certs::seal::Sealer;
use nomenta_dns::Surveyor;
use nomenta_store::{NewKey, Store, Watchman};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, SemaphorePermit};
use tokio::time::{Instant, sleep, timeout};
use tokio_util::sync::CancellationToken;

use crate::admission::Admission;
use crate::challenges::Challenges;
use crate::config::ServiceConfig;
use crate::described::Described;
use crate::document;
use crate::handoff::Waits;
use crate::hub::Hub;
use crate::notices::Notices;
use crate::one_click::Offers;
use crate::problem::Refusal;
use crate::publishing::Conversations;
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
    /// Records, for work. None of them is open to what answers calls: that reaches what its caller
    /// may, and a link what it shows.
    pub(in crate::work) store: Store,
    /// The same, for looks.
    pub(in crate::work) looks: Store,
    /// The same, for calls.
    pub(in crate::work) calls: Store,
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
    pub conversations: Conversations,
    /// Turns of those who ask registries.
    pub registries: Semaphore,
    /// Turns of those who ask for what takes a while: a rehearsal, a preflight.
    pub lengthy: Arc<Semaphore>,
    /// Turns of changes.
    pub admission: Admission,
    /// Turns of streams that read on: however many there are, calls find a connection.
    pub streams: Semaphore,
    /// Turns of those who take tables in.
    pub intakes: Arc<Semaphore>,
    pub metrics: metrics_exporter_prometheus::PrometheusHandle,
    /// The OpenAPI document: as it is sent, and as calls are held to it.
    pub document: Bytes,
    pub described: Described,
    /// When this process began to work.
    pub begun: Instant,
    pub stop: CancellationToken,
}

impl App {
    /// How late a task was taken that was due so long ago: what came due while nobody was there is
    /// no sign that there is too much to do.
    pub(crate) fn late(&self, due_for: TimeDelta) -> TimeDelta {
        due_for.min(TimeDelta::from_std(self.begun.elapsed()).unwrap_or(due_for))
    }

    /// Adds the keys that the configuration has, or leaves them as they are.
    pub(crate) async fn add_boot_keys(&self) -> anyhow::Result<()> {
        for key in &self.config.boot_keys {
            let new = NewKey {
                name: &key.name,
                role: key.role,
                accounts: &[],
                expires_at: None,
                hash: &access::hash(&key.secret),
                hint: &access::hint(&key.secret),
            };
            self.store.add_key(&new).await?;
        }
        Ok(())
    }

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

/// What every part works with, and what keeps its secrets.
pub(crate) async fn assemble(
    config: ServiceConfig,
    stop: CancellationToken,
) -> anyhow::Result<(App, Custody)> {
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
        conversations: Conversations::default(),
        throttle: Throttle::new(config.server.wrong_keys),
        registries: Semaphore::new(registering::AT_ONCE),
        lengthy: Arc::new(Semaphore::new(LENGTHY)),
        admission: Admission::default(),
        streams: Semaphore::new(STREAMS),
        intakes: Arc::new(Semaphore::new(INTAKES)),
        begun: Instant::now(),
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

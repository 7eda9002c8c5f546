//! The worker: takes due tasks from the leased queue and does them.

use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;

use nomenta_core::schedule;
use nomenta_store::{Lease, StoreError, TaskKind};
use tokio::task::JoinSet;
use tokio::time::{interval, timeout};

use crate::{App, look, ordering, sweep};

/// Tasks under way at once in one process.
const AT_ONCE: usize = 48;
/// Sweeps under way at once in one process.
const SWEEPS: usize = 2;
/// Domains in one sweep.
const SWEEP_SIZE: i64 = 2000;
/// How often a lease is renewed; well within its term.
const RENEW_EVERY: Duration = Duration::from_secs(4);
/// Longest sleep, in case a call was missed.
const LONGEST_SLEEP: f64 = 30.0;
/// How long a task may go on whose lease is lost.
const LAST_WORDS: Duration = Duration::from_secs(1);
/// How long running tasks may take to end when the service stops.
const GRACE: Duration = Duration::from_secs(10);

/// Works until the service stops.
pub(crate) async fn run(app: Arc<App>) {
    let (mut running, mut sweeping) = (JoinSet::new(), JoinSet::new());
    let mut work = app.hub.work();
    while !app.stop.is_cancelled() {
        while running.try_join_next().is_some() {}
        let free = AT_ONCE - running.len();
        let leases = match free {
            0 => Vec::new(),
            free => app.store.lease(i64::try_from(free).unwrap_or(1)).await.unwrap_or_else(|error| {
                tracing::warn!(%error, "no tasks to be had");
                Vec::new()
            }),
        };
        let mut idle = leases.is_empty();
        for lease in leases {
            running.spawn(perform(app.clone(), lease));
        }
        while sweeping.try_join_next().is_some() {}
        if sweeping.len() < SWEEPS {
            idle &= !spawn_sweep(&app, &mut sweeping).await;
        }
        if idle {
            tokio::select! {
                () = app.stop.cancelled() => {}
                _ = work.changed() => {}
                Some(_) = running.join_next() => {}
                Some(_) = sweeping.join_next() => {}
                () = tokio::time::sleep(until_due(&app).await) => {}
            }
        }
    }
    let _ = timeout(GRACE, async { while running.join_next().await.is_some() {} }).await;
    let _ = timeout(GRACE, async { while sweeping.join_next().await.is_some() {} }).await;
}

/// Begins a sweep if one is due; `false` if not.
async fn spawn_sweep(app: &Arc<App>, sweeping: &mut JoinSet<()>) -> bool {
    let sweep = match app.store.lease_sweep(SWEEP_SIZE).await {
        Ok(sweep) if sweep.sights.is_empty() => return false,
        Ok(sweep) => sweep,
        Err(error) => {
            tracing::warn!(%error, "no sweep to be had");
            return false;
        }
    };
    let app = app.clone();
    sweeping.spawn(async move {
        // What was not finished comes back when its lease runs out.
        if let Err(error) = sweep::perform(&app, &sweep).await {
            tracing::warn!(%error, "a sweep was not finished");
        }
    });
    true
}

async fn until_due(app: &App) -> Duration {
    let seconds = app.store.next_due().await.ok().flatten().unwrap_or(LONGEST_SLEEP);
    Duration::from_secs_f64(seconds.clamp(0.02, LONGEST_SLEEP))
}

/// Does one task while renewing its lease. A lost lease ends it: whatever it
/// was about to write would be void.
async fn perform(app: Arc<App>, lease: Lease) {
    let mut work = pin!(by_kind(&app, &lease));
    let done = tokio::select! {
        done = &mut work => done,
        // A task that is just being written off looks lost from outside.
        lost = keep(&app, &lease) => timeout(LAST_WORDS, work).await.unwrap_or(Err(lost.into())),
    };
    match done {
        Ok(()) => {
            metrics::counter!("nomenta_tasks_total", "kind" => kind(&lease), "result" => "done").increment(1)
        }
        Err(error) => {
            metrics::counter!("nomenta_tasks_total", "kind" => kind(&lease), "result" => "failed")
                .increment(1);
            tracing::warn!(domain = %lease.domain_id, task = kind(&lease), error = %error, "task not done");
            let now = chrono::Utc::now();
            let later = schedule::task_retry(lease.tries, &app.config.policy, now);
            let later = schedule::jittered(later, rand::random(), now);
            // If the lease is lost, the process that has it will finish.
            let _ = app.store.postpone(&lease, later).await;
        }
    }
}

async fn by_kind(app: &App, lease: &Lease) -> anyhow::Result<()> {
    match lease.kind {
        TaskKind::Look => look::perform(app, lease).await,
        TaskKind::Order => ordering::perform(app, lease).await,
    }
}

async fn keep(app: &App, lease: &Lease) -> StoreError {
    let mut ticks = interval(RENEW_EVERY);
    ticks.tick().await;
    loop {
        ticks.tick().await;
        if let Err(error @ StoreError::LeaseLost) = app.store.renew(lease).await {
            return error;
        }
    }
}

fn kind(lease: &Lease) -> &'static str {
    match lease.kind {
        TaskKind::Look => "look",
        TaskKind::Order => "order",
    }
}

//! Does jobs: bulk work, a step at a time.

use std::sync::Arc;
use std::time::Duration;

use chrono::Utc;
use nomenta_core::name::token::Token;
use nomenta_store::{FreshToken, JobLease, StoreError};
use tokio::task::JoinSet;
use tokio::time::sleep;

use crate::App;

/// Jobs under way at once in one process.
const AT_ONCE: usize = 4;
/// How often jobs are looked for that a process which died has left.
const LOOKED_FOR: Duration = Duration::from_secs(5);
/// How long a step that failed is waited with.
const AGAIN: Duration = Duration::from_secs(1);
/// Domains about which a preview counts at most.
pub(crate) const MOST_COUNTED: i64 = 1_000_000;

/// Does jobs until the service stops.
pub(crate) async fn run(app: Arc<App>) {
    let mut running = JoinSet::new();
    let mut work = app.hub.work();

    while !app.stop.is_cancelled() {
        while running.try_join_next().is_some() {}
        work.mark_unchanged();

        match next(&app, running.len()).await {
            Ok(Some(lease)) => {
                running.spawn(perform(app.clone(), lease));
                continue;
            }
            Ok(None) => {}
            Err(error) => app.repeats.warn("no jobs to be had", &error),
        }

        tokio::select! {
            () = app.stop.cancelled() => {}
            _ = work.changed() => {}
            Some(_) = running.join_next() => {}
            () = sleep(LOOKED_FOR) => {}
        }
    }
    // A step is short, and what it has not written is done by whoever goes on.
    while running.join_next().await.is_some() {}
}

async fn next(app: &App, running: usize) -> Result<Option<JobLease>, StoreError> {
    if running < AT_ONCE { app.store.lease_job().await } else { Ok(None) }
}

async fn perform(app: Arc<App>, lease: JobLease) {
    while !app.stop.is_cancelled() {
        match app.store.step_job(&lease, &fresh_token).await {
            Ok(true) => metrics::counter!("nomenta_job_steps_total").increment(1),
            // Somebody has stopped it, or goes on with it.
            Ok(false) | Err(StoreError::LeaseLost) => return,
            Err(error) => {
                app.repeats.warn("a step of a job was not done; it is tried again", &error);
                app.stop.run_until_cancelled(sleep(AGAIN)).await;
            }
        }
    }
}

/// A token for a domain, with its end.
pub(crate) fn fresh_token() -> FreshToken {
    (Token::from_random(rand::random()), crate::token_end(Utc::now()))
}

//! Looks after what has its hour: renewals that are due, revocations, claims that run out, and
//! domains that switch.

use std::sync::Arc;
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use futures::future::join_all;
use nomenta_certs::acme::{AcmeError, Outcome};
use nomenta_certs::x509;
use nomenta_core::judge::evidence::Problem;
use nomenta_store::{Aged, Revocation, StoreError, Stray};
use tokio::time::{sleep, timeout};

use crate::App;

/// Longest sleep, in case a call was missed.
const LONGEST_SLEEP: Duration = Duration::from_secs(60);
/// Shortest, however often the queue calls.
const SHORTEST_SLEEP: Duration = Duration::from_millis(500);
/// How often old changes for the edge are forgotten.
const PRUNE_EVERY: Duration = Duration::from_secs(600);
/// Renewals called up at once; the queue holds them from there on.
const CALLS: i64 = 500;
/// Records that are older than they are kept, forgotten at once.
const FORGOTTEN: i64 = 5_000;
/// Questions to the CA at once.
const QUESTIONS: i64 = 8;
/// Longest time for one round; what is left waits for the next.
const ROUND_LIMIT: Duration = Duration::from_secs(120);

/// Works until the service stops.
pub(crate) async fn run(app: Arc<App>) {
    let mut work = app.hub.work();
    let mut pruned = Instant::now();

    while !app.stop.is_cancelled() {
        work.mark_unchanged();
        match timeout(ROUND_LIMIT, round(&app)).await {
            Ok(Ok(())) => {}
            Ok(Err(error)) => app.repeats.warn("certificates were not looked after", &error),
            Err(late) => app.repeats.warn("certificates were not looked after", &late),
        }

        app.repeats.settle();
        if let Err(error) = merge(&app).await {
            app.repeats.warn("counts were not put together", &error);
        }

        if pruned.elapsed() > PRUNE_EVERY {
            pruned = Instant::now();
            if let Err(error) = app.store.prune_edge_changes().await {
                app.repeats.warn("old changes for the edge were not forgotten", &error);
            }
            if let Err(error) = forget(&app).await {
                app.repeats.warn("what is older than it is kept was not forgotten", &error);
            }
            if let Err(error) = app.store.forget_ended(Utc::now(), CALLS).await {
                app.repeats.warn("claims that ended long ago were not forgotten", &error);
            }
        }

        if app.stop.run_until_cancelled(sleep(SHORTEST_SLEEP)).await.is_none() {
            return;
        }

        tokio::select! {
            () = app.stop.cancelled() => {}
            _ = work.changed() => {}
            () = sleep(until_next(&app).await) => {}
        }
    }
}

/// Puts counts together, as long as many are left.
async fn merge(app: &App) -> Result<(), StoreError> {
    while app.store.merge_tallies().await? && !app.stop.is_cancelled() {}
    Ok(())
}

/// Forgets what is older than it is kept, as long as many are left.
async fn forget(app: &App) -> Result<(), StoreError> {
    for kind in Aged::ALL {
        let before = Utc::now() - app.config.retention.of(*kind);
        loop {
            let forgotten = app.store.forget_aged(*kind, before, FORGOTTEN).await?;
            metrics::counter!("nomenta_records_forgotten_total", "kind" => kind.as_str())
                .increment(forgotten);
            if forgotten == 0 || app.stop.is_cancelled() {
                break;
            }
        }
    }
    Ok(())
}

async fn until_next(app: &App) -> Duration {
    let (renewal, switch, stray) =
        tokio::join!(app.store.next_renewal(), app.store.next_switch(), app.store.next_stray());
    let next = [renewal, switch, stray].into_iter().filter_map(|next| next.ok().flatten()).min();
    match next {
        Some(at) => (at - Utc::now()).to_std().unwrap_or_default().min(LONGEST_SLEEP),
        None => LONGEST_SLEEP,
    }
}

async fn round(app: &App) -> anyhow::Result<()> {
    let now = Utc::now();
    let called = app.store.call_renewals(now, CALLS).await?;
    metrics::counter!("nomenta_renewals_called_total").increment(called as u64);

    let expired = app.store.expire_claims(now, CALLS).await?;
    metrics::counter!("nomenta_claims_expired_total").increment(expired as u64);
    app.store.switch_due(now, CALLS).await?;

    let revocations = app.store.lease_revocations(now, QUESTIONS).await?;
    for done in join_all(revocations.iter().map(|revocation| revoke(app, revocation))).await {
        done?;
    }

    let strays = app.store.lease_strays(now, QUESTIONS).await?;
    for done in join_all(strays.iter().map(|stray| follow(app, stray, now))).await {
        done?;
    }

    Ok(())
}

/// Sees what became of an order that nobody works on any more.
async fn follow(app: &App, stray: &Stray, now: DateTime<Utc>) -> anyhow::Result<()> {
    match outcome(app, stray).await {
        Ok(Outcome::Issued(chain_pem)) => {
            let facts = x509::facts(&chain_pem)?;
            tracing::info!(
                host = stray.host,
                serial = facts.serial,
                "a certificate that nobody keeps is revoked"
            );
            app.store.revoke_stray(stray, &facts, &chain_pem).await?;
        }
        Ok(outcome) => app.store.leave_stray(stray, outcome == Outcome::Invalid, now).await?,
        Err(error) => {
            tracing::debug!(%error, "an order that nobody works on could not be looked at");
            app.store.leave_stray(stray, false, now).await?;
        }
    }
    Ok(())
}

async fn outcome(app: &App, stray: &Stray) -> anyhow::Result<Outcome> {
    let acme = app.acme.account(app).await?;
    match acme.resume(&stray.url).await {
        Err(AcmeError::NoOrder(_)) => Ok(Outcome::Invalid),
        order => Ok(order?.outcome().await?),
    }
}

async fn revoke(app: &App, revocation: &Revocation) -> anyhow::Result<()> {
    let Err(error) = revoke_at_ca(app, revocation).await else {
        app.store.finish_revocation(revocation).await?;
        return Ok(());
    };

    let problem = match error.downcast::<AcmeError>() {
        Ok(AcmeError::Refused { problem, .. }) => problem,
        Ok(other) => Problem { detail: other.to_string(), ..Problem::default() },
        Err(other) => Problem { detail: other.to_string(), ..Problem::default() },
    };

    app.store.postpone_revocation(revocation, &problem).await?;
    Ok(())
}

async fn revoke_at_ca(app: &App, revocation: &Revocation) -> anyhow::Result<()> {
    let acme = app.acme.account(app).await?;
    Ok(acme.revoke(&revocation.chain_pem, revocation.reason).await?)
}

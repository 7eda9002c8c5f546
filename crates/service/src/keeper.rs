//! What keeps certificates alive: calls for renewals that are due, the CA's
//! advice on when that is, and revocations.

use std::sync::Arc;
use std::time::{Duration, Instant};

use chrono::{DateTime, TimeDelta, Utc};
use futures::future::join_all;
use nomenta_certs::acme::{AcmeError, Reason};
use nomenta_core::certificate;
use nomenta_core::evidence::Problem;
use nomenta_store::{Advised, Revocation};

use crate::App;

/// Longest sleep, in case a call was missed.
const LONGEST_SLEEP: Duration = Duration::from_secs(60);
/// Shortest, however often the queue calls.
const SHORTEST_SLEEP: Duration = Duration::from_millis(500);
/// How often old changes for the edge are forgotten.
const PRUNE_EVERY: Duration = Duration::from_secs(600);
/// Renewals called up at once; the queue holds them from there on.
const CALLS: i64 = 500;
/// Questions to the CA at once.
const QUESTIONS: i64 = 8;
/// When to ask a CA for advice again that could not be reached.
const ASK_AGAIN: TimeDelta = TimeDelta::hours(6);

/// Works until the service stops.
pub(crate) async fn run(app: Arc<App>) {
    let (mut work, mut pruned) = (app.hub.work(), Instant::now());
    while !app.stop.is_cancelled() {
        work.mark_unchanged();
        if let Err(error) = round(&app).await {
            tracing::warn!(%error, "certificates were not kept");
        }
        if pruned.elapsed() > PRUNE_EVERY {
            pruned = Instant::now();
            if let Err(error) = app.store.prune_edge_changes().await {
                tracing::warn!(%error, "old changes for the edge were not forgotten");
            }
        }
        let rest = tokio::time::sleep(SHORTEST_SLEEP);
        if app.stop.run_until_cancelled(rest).await.is_none() {
            return;
        }
        tokio::select! {
            () = app.stop.cancelled() => {}
            _ = work.changed() => {}
            () = tokio::time::sleep(until_next(&app).await) => {}
        }
    }
}

async fn until_next(app: &App) -> Duration {
    let next = app.store.next_renewal().await.ok().flatten();
    let wait = next.map_or(LONGEST_SLEEP, |at| (at - Utc::now()).to_std().unwrap_or_default());
    wait.min(LONGEST_SLEEP)
}

async fn round(app: &App) -> anyhow::Result<()> {
    let now = Utc::now();
    let called = app.store.call_renewals(now, CALLS).await?;
    metrics::counter!("nomenta_renewals_called_total").increment(called as u64);
    let revocations = app.store.lease_revocations(now, QUESTIONS).await?;
    for done in join_all(revocations.iter().map(|revocation| revoke(app, revocation))).await {
        done?;
    }
    let advised = app.store.lease_advice(now, QUESTIONS).await?;
    for done in join_all(advised.iter().map(|certificate| advise(app, certificate, now))).await {
        done?;
    }
    Ok(())
}

async fn advise(app: &App, certificate: &Advised, now: DateTime<Utc>) -> anyhow::Result<()> {
    let asked = match app.acme.account(app).await {
        Ok(acme) => acme.advice(&certificate.chain_pem).await.map_err(anyhow::Error::from),
        Err(error) => Err(error),
    };
    let (renew_at, again_at) = match asked {
        Ok(Some(advice)) => {
            let at = certificate::renewal_within(advice.window, rand::random(), now);
            (Some(at), TimeDelta::from_std(advice.again_after).ok().map(|after| now + after))
        }
        // Such a directory has none for any certificate.
        Ok(None) => (None, None),
        Err(error) => {
            tracing::debug!(%error, "the CA gives no advice on renewal now");
            (None, Some(now + ASK_AGAIN))
        }
    };
    app.store.keep_advice(certificate.id, renew_at, again_at).await?;
    Ok(())
}

async fn revoke(app: &App, revocation: &Revocation) -> anyhow::Result<()> {
    let revoked = match app.acme.account(app).await {
        Ok(acme) => acme.revoke(&revocation.chain_pem, reason(&revocation.reason)).await,
        Err(error) => Err(AcmeError::Unavailable(error.to_string())),
    };
    match revoked {
        Ok(()) => app.store.finish_revocation(revocation).await?,
        Err(AcmeError::Refused { problem, .. }) => {
            app.store.postpone_revocation(revocation, &problem).await?
        }
        Err(other) => {
            let problem = Problem { detail: other.to_string(), ..Problem::default() };
            app.store.postpone_revocation(revocation, &problem).await?;
        }
    }
    Ok(())
}

/// Reasons by their names in RFC 5280, section 5.3.1.
pub(crate) const REASONS: [(&str, Reason); 4] = [
    ("unspecified", Reason::Unspecified),
    ("keyCompromise", Reason::KeyCompromise),
    ("superseded", Reason::Superseded),
    ("cessationOfOperation", Reason::CessationOfOperation),
];

fn reason(word: &str) -> Reason {
    REASONS.iter().find(|(w, _)| *w == word).map_or(Reason::Unspecified, |(_, reason)| *reason)
}

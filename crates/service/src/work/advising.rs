//! Asks the CA when to renew each live certificate (RFC 9773): a few in a second, whatever the
//! size of the fleet, and apart from the upkeep, which no slow answer may hold up.

use std::sync::Arc;
use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use futures::future::join_all;
use nomenta_certs::acme::Advice;
use nomenta_core::judge::certificate;
use nomenta_store::{Advised, StoreError};
use tokio::time::{Instant, sleep_until, timeout};

use crate::App;

/// Longest sleep: a certificate is new meanwhile, perhaps.
const LONGEST_SLEEP: Duration = Duration::from_secs(60);
/// Longest time for what is asked at once; the rest is asked again when its lease has run out.
const ROUND_LIMIT: Duration = Duration::from_secs(120);
/// When to ask a CA again that could not be reached.
const ASK_AGAIN: TimeDelta = TimeDelta::hours(6);

/// Asks until the service stops.
pub(crate) async fn run(app: Arc<App>) {
    let mut work = app.hub.work();
    while !app.stop.is_cancelled() {
        work.mark_unchanged();
        let begun = Instant::now();
        match timeout(ROUND_LIMIT, round(&app)).await {
            Ok(Ok(())) => {}
            Ok(Err(error)) => app.repeats.warn("the CA's advice was not asked for", &error),
            Err(late) => app.repeats.warn("the CA's advice was not asked for", &late),
        }

        // As many in a second as the policy allows, however fast the CA is.
        if app.stop.run_until_cancelled(sleep_until(begun + Duration::from_secs(1))).await.is_none() {
            return;
        }
        tokio::select! {
            () = app.stop.cancelled() => {}
            _ = work.changed() => {}
            () = sleep_until(begun + until_next(&app).await) => {}
        }
    }
}

async fn until_next(app: &App) -> Duration {
    let next = app.store.next_advice().await.ok().flatten();
    let until = next.map(|at| (at - Utc::now()).to_std().unwrap_or_default());
    until.unwrap_or(LONGEST_SLEEP).min(LONGEST_SLEEP)
}

async fn round(app: &App) -> Result<(), StoreError> {
    let now = Utc::now();
    let advised = app.store.lease_advice(now, app.config.policy.advice_rate.into()).await?;
    for kept in join_all(advised.iter().map(|certificate| advise(app, certificate, now))).await {
        kept?;
    }
    Ok(())
}

async fn advise(app: &App, certificate: &Advised, now: DateTime<Utc>) -> Result<(), StoreError> {
    let (result, renew_at, again_at) = match advice(app, certificate).await {
        Ok(Some(advice)) => {
            let at = certificate::renewal_within(advice.window, rand::random(), now);
            let again_after = TimeDelta::from_std(advice.again_after).ok();
            ("given", Some(at), again_after.map(|after| now + after))
        }
        // Such a directory has none for any certificate.
        Ok(None) => ("none", None, None),
        Err(error) => {
            tracing::debug!(%error, "the CA gives no advice on renewal now");
            ("failed", None, Some(now + ASK_AGAIN))
        }
    };

    metrics::counter!("nomenta_advice_asked_total", "result" => result).increment(1);
    app.store.keep_advice(certificate.id, renew_at, again_at).await
}

async fn advice(app: &App, certificate: &Advised) -> anyhow::Result<Option<Advice>> {
    let acme = app.acme.account(app).await?;
    Ok(acme.advice(&certificate.chain_pem).await?)
}

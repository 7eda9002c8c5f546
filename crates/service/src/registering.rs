//! Asking registries about registered domains (RDAP, RFC 9082), seldom and never for long.

use chrono::{TimeDelta, Utc};
use futures::FutureExt;
use nomenta_core::reading::registration::Registration;
use nomenta_store::StoreError;

use crate::App;

/// How long what a registry said is good, and how soon it is asked again where it said nothing.
const GOOD_FOR: TimeDelta = TimeDelta::hours(24);
const AGAIN_AFTER: TimeDelta = TimeDelta::hours(1);
/// Registries that one process asks at once: the others' looks do without.
pub(crate) const AT_ONCE: usize = 4;
/// The registry knows no such domain (RFC 7480, section 5.3).
const NOT_FOUND: u16 = 404;

/// What the registry of a domain says of it, as far as it is known; asked now where that is old.
pub(crate) async fn of(app: &App, domain: &str) -> Result<Option<Registration>, StoreError> {
    let Some(url) = app.config.registries.url(domain) else { return Ok(None) };
    let known = app.store.registration(domain).await?;
    if let Some(known) = &known {
        let is_good = known.told.as_ref().is_some_and(|told| told.read_at > Utc::now() - GOOD_FOR);
        if is_good || known.asked_at > Utc::now() - AGAIN_AFTER {
            return Ok(known.told.clone());
        }
    }
    // A look does not wait for its turn at a registry.
    let Ok(_turn) = app.registries.try_acquire() else { return Ok(known.and_then(|known| known.told)) };

    let resolve = |name: String| app.surveyor.addresses(name).boxed();
    let told = match app.prober.document(&url, &resolve).await {
        Ok((200, body)) => Registration::read(&body, domain, Utc::now()).map_err(|error| error.to_string()),
        Ok((NOT_FOUND, _)) => Err("it knows no such domain".into()),
        Ok((status, _)) => Err(format!("it answered with status {status}")),
        Err(failure) => Err(failure.to_string()),
    };
    metrics::counter!("nomenta_registries_asked_total", "told" => told.is_ok().to_string()).increment(1);
    if let Err(because) = &told {
        tracing::debug!(domain, because, "a registry said nothing of use");
    }
    app.store.keep_registration(domain, told.as_ref().ok()).await?;
    Ok(told.ok().or(known.and_then(|known| known.told)))
}

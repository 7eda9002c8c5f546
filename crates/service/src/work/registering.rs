//! Asking registries about registered domains (RDAP, RFC 9082), seldom and never for long.

use chrono::{TimeDelta, Utc};
use futures::FutureExt;
use nomenta_certs::{Failure, Word};
use nomenta_core::reading::registration::{RdapError, Registration};
use nomenta_store::{RegistrationRow, StoreError};

use crate::App;

/// How long what a registry said is good, and how soon it is asked again where it said nothing.
const GOOD_FOR: TimeDelta = TimeDelta::hours(24);
const AGAIN_AFTER: TimeDelta = TimeDelta::hours(1);
/// Registries that one process asks at once: the others' looks do without.
pub(crate) const AT_ONCE: usize = 4;

/// Why a registry said nothing of use.
#[derive(Debug, thiserror::Error)]
enum Silent {
    /// It answers with another status: 404 where it knows no such domain (RFC 7480, section 5.3).
    #[error("it answered with status {0}")]
    Status(u16),
    #[error(transparent)]
    Failure(#[from] Failure),
    #[error(transparent)]
    Answer(#[from] RdapError),
}

/// What the registry of a domain says of it, as far as it is known; asked now where that is old.
pub(crate) async fn of(
    app: &App,
    domain: &str,
    known: Option<RegistrationRow>,
) -> Result<Option<Registration>, StoreError> {
    let Some(url) = app.config.registries.url(domain) else { return Ok(None) };
    if let Some(known) = &known {
        let is_good = known.told.as_ref().is_some_and(|told| told.read_at > Utc::now() - GOOD_FOR);
        if is_good || known.asked_at > Utc::now() - AGAIN_AFTER {
            return Ok(known.told.clone());
        }
    }
    // A look does not wait for its turn at a registry.
    let Ok(_turn) = app.registries.try_acquire() else { return Ok(known.and_then(|known| known.told)) };

    let resolve = |name: String| app.surveyor.addresses(name).boxed();
    let told = match app.prober.document(&url, Word::Ours, &resolve).await {
        Ok((200, body)) => Registration::read(&body, domain, Utc::now()).map_err(Silent::from),
        Ok((status, _)) => Err(Silent::Status(status)),
        Err(failure) => Err(failure.into()),
    };
    metrics::counter!("nomenta_registries_asked_total", "told" => told.is_ok().to_string()).increment(1);
    if let Err(error) = &told {
        tracing::debug!(domain, %error, "a registry said nothing of use");
    }
    app.store.keep_registration(domain, told.as_ref().ok()).await?;
    Ok(told.ok().or(known.and_then(|known| known.told)))
}

//! What a handoff link shows, put together from the records, and waiting for it to change.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::time::Duration;

use axum::http::HeaderValue;
use chrono::{TimeDelta, Utc};
use nomenta_api::handoff::{Customer, HandoffView, Language, Scene};
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::survey::ZoneView;
use nomenta_store::{DomainRecord, Shown, StoreError};
use tokio::sync::{Semaphore, SemaphorePermit};
use tokio::time::{Instant, sleep_until, timeout_at};

use crate::App;
use crate::awaiting;
use crate::detail::customer_detail;
use crate::guest::Guest;
use crate::problem::Refusal;

/// Domains that one link shows.
const MOST: usize = 20;
/// How often a look may be asked for by one link.
const ASKED_EVERY: TimeDelta = TimeDelta::seconds(30);
/// Time between two glances at the records for one open page, however much happens elsewhere;
/// longer by as much for each so many pages that are open.
const PAUSE: Duration = Duration::from_secs(2);
const PAGES: u32 = 200;
/// Pages that wait for a change at most; whoever comes then is answered at once.
const MOST_WAITING: usize = 2_000;
/// Glances of those who wait, at once: however many pages there are, calls find a connection.
const GLANCES: usize = 2;
/// Longest wait for a change.
const LONGEST_WAIT: u64 = 55;

/// Which state of what a link shows there is.
#[derive(Clone, Debug)]
pub(crate) struct State {
    shown: Shown,
    /// As it stands in `ETag`.
    pub tag: HeaderValue,
}

/// Turns of those who wait for what they see to change.
#[derive(Debug)]
pub(crate) struct Waits {
    pages: Semaphore,
    glances: Semaphore,
}

impl Default for Waits {
    fn default() -> Self {
        Self { pages: Semaphore::new(MOST_WAITING), glances: Semaphore::new(GLANCES) }
    }
}

impl Waits {
    fn turn(&self) -> Option<SemaphorePermit<'_>> {
        let turn = self.pages.try_acquire().ok();
        if turn.is_none() {
            metrics::counter!("nomenta_handoff_waits_refused_total").increment(1);
        }
        turn
    }

    /// A turn for a glance at the records, for whoever waits.
    async fn glance(&self, is_waiting: bool) -> Option<SemaphorePermit<'_>> {
        if is_waiting { self.glances.acquire().await.ok() } else { None }
    }

    /// Time between two glances, by how many wait.
    fn pause(&self) -> Duration {
        let waiting = MOST_WAITING.saturating_sub(self.pages.available_permits());
        PAUSE * (1 + u32::try_from(waiting).unwrap_or(u32::MAX) / PAGES)
    }
}

/// The present state, in one language.
async fn state(app: &App, guest: &Guest, language: Language) -> Result<State, Refusal> {
    let shown = app.calls.shown_by(&guest.link, MOST).await?;
    let pulses = app.calls.pulses(&shown.domains).await?;

    let mut hash = DefaultHasher::new();
    (language, shown.more, pulses).hash(&mut hash);
    let tag = HeaderValue::try_from(format!("\"{:016x}\"", hash.finish()));
    let tag = tag.map_err(|error| Refusal::internal(error.to_string()))?;
    Ok(State { shown, tag })
}

/// The state, once it is another than the `known` one; as it is, when `wait` seconds are over.
pub(crate) async fn changed(
    app: &App,
    guest: &Guest,
    language: Language,
    known: Option<&HeaderValue>,
    wait: Option<u64>,
) -> Result<State, Refusal> {
    let turn = wait.and_then(|_| app.waits.turn());
    let wait = if turn.is_some() { wait.unwrap_or(0).min(LONGEST_WAIT) } else { 0 };
    let deadline = Instant::now() + Duration::from_secs(wait);
    if turn.is_some() {
        let _glance = app.waits.glance(true).await;
        let shown = app.calls.shown_by(&guest.link, MOST).await?;
        awaiting::note(app, &shown.domains).await?;
    }

    let mut events = app.hub.events();
    let mut doors = app.hub.access();

    loop {
        events.mark_unchanged();
        let glance = app.waits.glance(turn.is_some()).await;
        let state = state(app, guest, language).await?;
        drop(glance);
        if known != Some(&state.tag) || Instant::now() >= deadline || app.stop.is_cancelled() {
            return Ok(state);
        }

        let next = (Instant::now() + app.waits.pause()).min(deadline);
        let moved = async {
            // Nothing may happen until the time is up.
            let _ = timeout_at(deadline, events.changed()).await;
            sleep_until(next).await;
        };
        tokio::select! {
            () = app.stop.cancelled() => {}
            _ = doors.changed() => {}
            () = moved => {}
        }

        let _glance = app.waits.glance(turn.is_some()).await;
        if !app.calls.handoff_is_open(guest.link.id).await? {
            return Err(Refusal::unauthorized("This link was taken back, or has run out."));
        }
    }
}

/// What a link shows.
pub(crate) async fn view(
    app: &App,
    guest: &Guest,
    language: Language,
    state: &State,
) -> Result<HandoffView, Refusal> {
    let mut customers = Vec::new();
    for id in &state.shown.domains {
        match app.calls.domain(*id).await {
            // Whoever waits for a change is not to hold room for what is read once there is one.
            Ok(record) => customers.push(Box::pin(customer(app, record)).await?),
            // Forgotten meanwhile.
            Err(StoreError::Missing { .. }) => {}
            Err(error) => return Err(error.into()),
        }
    }

    Ok(HandoffView::of(&Scene {
        face: &app.config.reception.face,
        language,
        customers: &customers,
        zone: guest.link.zone.as_ref(),
        more: state.shown.more,
        has_mail: app.notices.has_mail(),
        quorum: app.config.policy.quorum,
        expires_at: guest.link.expires_at,
        now: Utc::now(),
    }))
}

async fn customer(app: &App, record: DomainRecord) -> Result<Customer, Refusal> {
    let servers = servers(&record);
    Ok(Customer { detail: customer_detail(app, record).await?, servers })
}

/// Names of the servers of its zone, as the latest survey found them.
fn servers(record: &DomainRecord) -> Vec<DnsName> {
    match record.survey.as_ref().map(|survey| &survey.zone) {
        Some(ZoneView::Found { servers, .. }) => servers.iter().map(|server| server.name.clone()).collect(),
        _ => Vec::new(),
    }
}

/// A domain that a link shows: by its name, or the one that the link was made for.
pub(crate) async fn shown(app: &App, guest: &Guest, host: Option<&str>) -> Result<DomainRecord, Refusal> {
    let Some(host) = host.filter(|host| *host != guest.link.host.as_str()) else {
        return Ok(app.calls.domain(guest.link.domain_id).await?);
    };
    for id in app.calls.shown_by(&guest.link, MOST).await?.domains {
        let record = app.calls.domain(id).await?;
        if record.domain.routed().as_str() == host {
            return Ok(record);
        }
    }
    Err(Refusal::not_found("This link shows no such domain."))
}

/// Asks for a look at all that a link shows.
pub(crate) async fn look(app: &App, guest: &Guest) -> Result<(), Refusal> {
    if let Some(wait) = app.calls.may_ask(guest.link.id, ASKED_EVERY).await? {
        let seconds = u32::try_from(wait.num_seconds() + 1).unwrap_or(1);
        return Err(Refusal::too_soon(seconds));
    }

    let shown = app.calls.shown_by(&guest.link, MOST).await?;
    for id in shown.domains {
        match app.calls.look_now(id).await {
            // It is left alone, or has left.
            Ok(()) | Err(StoreError::Resting | StoreError::Ended | StoreError::Missing { .. }) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(())
}

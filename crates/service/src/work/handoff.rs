//! What a handoff link shows, put together from the records, and waiting for it to change.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::Duration;

use axum::http::HeaderValue;
use chrono::{TimeDelta, Utc};
use nomenta_api::handoff::{Customer, HandoffView, Language, Scene};
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::survey::ZoneView;
use nomenta_store::{DomainRecord, HandoffRow, Pulse, Shown, StoreError};
use tokio::sync::{Mutex as AsyncMutex, Semaphore, SemaphorePermit, watch};
use tokio::time::{Instant, sleep_until, timeout_at};
use uuid::Uuid;

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
/// Glances of those who wait, at once.
const GLANCES: usize = 2;
/// How long it is not noted again that somebody waits: a page of the link that comes then may wait
/// for as long as any, and the note lasts longer (`awaiting`).
const NOTED_FOR: Duration = Duration::from_secs(10);
/// Longest wait for a change.
const LONGEST_WAIT: u64 = 55;

/// Which state of what a link shows there is.
#[derive(Clone, Debug)]
pub(crate) struct State {
    shown: Shown,
    /// As it stands in `ETag`.
    pub tag: HeaderValue,
}

/// What a link shows, as one glance at the records saw it.
#[derive(Clone, Debug)]
struct Seen {
    shown: Shown,
    pulses: Vec<Pulse>,
}

impl Seen {
    async fn now(app: &App, link: &HandoffRow) -> Result<Self, StoreError> {
        let shown = app.calls.shown_by(link, MOST).await?;
        let pulses = app.calls.pulses(&shown.domains).await?;
        Ok(Self { shown, pulses })
    }

    /// The state in one language.
    fn state(self, language: Language) -> Result<State, Refusal> {
        let mut hash = DefaultHasher::new();
        (language, self.shown.more, &self.pulses).hash(&mut hash);
        let tag = HeaderValue::try_from(format!("\"{:016x}\"", hash.finish()));
        let tag = tag.map_err(|error| Refusal::internal(error.to_string()))?;
        Ok(State { shown: self.shown, tag })
    }
}

/// Turns of those who wait for what they see to change, and what they share.
#[derive(Debug)]
pub(crate) struct Waits {
    pages: Semaphore,
    glances: Semaphore,
    /// By link, for as long as a page of it waits.
    links: Mutex<HashMap<Uuid, Weak<Watched>>>,
}

impl Default for Waits {
    fn default() -> Self {
        Self {
            pages: Semaphore::new(MOST_WAITING),
            glances: Semaphore::new(GLANCES),
            links: Mutex::default(),
        }
    }
}

impl Waits {
    /// A turn for a page that waits.
    fn turn(&self, link: Uuid) -> Option<Turn<'_>> {
        let Ok(page) = self.pages.try_acquire() else {
            metrics::counter!("nomenta_handoff_waits_refused_total").increment(1);
            return None;
        };
        Some(Turn { _page: page, watched: self.watched(link) })
    }

    fn watched(&self, link: Uuid) -> Arc<Watched> {
        let mut links = self.links.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(watched) = links.get(&link).and_then(Weak::upgrade) {
            return watched;
        }

        links.retain(|_, watched| watched.strong_count() > 0);
        let watched = Arc::default();
        links.insert(link, Arc::downgrade(&watched));
        watched
    }

    /// A turn for a glance at the records: however many pages there are, calls find a
    /// connection.
    async fn glance(&self) -> Option<SemaphorePermit<'_>> {
        self.glances.acquire().await.ok()
    }

    /// Time between two glances, by how many wait.
    fn pause(&self) -> Duration {
        let waiting = MOST_WAITING.saturating_sub(self.pages.available_permits());
        PAUSE * (1 + u32::try_from(waiting).unwrap_or(u32::MAX) / PAGES)
    }
}

/// A page that waits.
struct Turn<'a> {
    _page: SemaphorePermit<'a>,
    watched: Arc<Watched>,
}

/// What the pages of one link share while they wait: one of them looks for all, however
/// many somebody opens.
#[derive(Debug, Default)]
struct Watched {
    glance: AsyncMutex<Option<Glance>>,
    /// When it was noted last that somebody waits.
    noted: AsyncMutex<Option<Instant>>,
}

#[derive(Debug)]
struct Glance {
    at: Instant,
    /// Ticks once something has happened after it.
    events: watch::Receiver<u64>,
    seen: Seen,
}

impl Glance {
    fn holds(&self) -> bool {
        self.at.elapsed() < PAUSE && matches!(self.events.has_changed(), Ok(false))
    }
}

impl Watched {
    /// What the link shows, as whoever looked last saw it, and whether that was just
    /// now; looked at again once something has happened, or after a while.
    async fn glance(&self, app: &App, link: &HandoffRow) -> Result<(Seen, bool), StoreError> {
        let mut last = self.glance.lock().await;
        if let Some(glance) = last.as_ref().filter(|glance| glance.holds()) {
            return Ok((glance.seen.clone(), false));
        }

        let _turn = app.waits.glance().await;
        let events = app.hub.events();
        let seen = Seen::now(app, link).await?;
        *last = Some(Glance { at: Instant::now(), events, seen: seen.clone() });
        Ok((seen, true))
    }

    /// Notes that somebody waits for what the link shows.
    async fn note(&self, app: &App, link: &HandoffRow) -> Result<(), StoreError> {
        let mut noted = self.noted.lock().await;
        if noted.is_some_and(|noted| noted.elapsed() < NOTED_FOR) {
            return Ok(());
        }
        let (seen, _) = self.glance(app, link).await?;
        awaiting::note(app, &seen.shown.domains).await?;
        *noted = Some(Instant::now());
        Ok(())
    }
}

/// The state, once it is another than the `known` one; as it is, when `wait` seconds are over.
pub(crate) async fn changed(
    app: &App,
    guest: &Guest,
    language: Language,
    known: Option<&HeaderValue>,
    wait: Option<u64>,
) -> Result<State, Refusal> {
    let turn = wait.and_then(|_| app.waits.turn(guest.link.id));
    let Some(Turn { watched, .. }) = &turn else {
        return Seen::now(app, &guest.link).await?.state(language);
    };
    let deadline = Instant::now() + Duration::from_secs(wait.unwrap_or(0).min(LONGEST_WAIT));
    watched.note(app, &guest.link).await?;

    let mut events = app.hub.events();
    let mut doors = app.hub.access();

    loop {
        events.mark_unchanged();
        let (seen, is_new) = watched.glance(app, &guest.link).await?;
        let state = seen.state(language)?;
        if known != Some(&state.tag) || Instant::now() >= deadline || app.stop.is_cancelled() {
            return Ok(state);
        }

        let next = (Instant::now() + app.waits.pause()).min(deadline);
        let moved = async {
            // Nothing may happen until the time is up; but what was seen a moment before
            // this page came may have changed by then, and not every change is an event.
            let _ = timeout_at(if is_new { deadline } else { next }, events.changed()).await;
            sleep_until(next).await;
        };
        tokio::select! {
            () = app.stop.cancelled() => {}
            _ = doors.changed() => {}
            () = moved => {}
        }

        let _turn = app.waits.glance().await;
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

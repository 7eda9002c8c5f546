//! Passes on, inside this process, that events, work or changes for the edge
//! have arrived.

use std::sync::Arc;
use std::time::Duration;

use nomenta_store::{Channel, StoreError};
use tokio::sync::{Notify, watch};

use crate::App;

/// Counters that tick; nobody misses a tick, however late they look.
pub(crate) struct Hub {
    events: watch::Sender<u64>,
    work: watch::Sender<u64>,
    edge: watch::Sender<u64>,
    access: watch::Sender<u64>,
    challenges: watch::Sender<u64>,
    /// Whether what other processes call is heard.
    is_listening: watch::Sender<bool>,
    /// Called when this process has queued quick looks, or full ones: most of what one loop of the
    /// worker does leaves the other something to do, and no other process need hear of it.
    pub quick: Notify,
    pub full: Notify,
}

impl Default for Hub {
    fn default() -> Self {
        let [events, work, edge, access, challenges] = [(); 5].map(|()| watch::Sender::new(0));
        Self {
            events,
            work,
            edge,
            access,
            challenges,
            is_listening: watch::Sender::new(false),
            quick: Notify::new(),
            full: Notify::new(),
        }
    }
}

impl Hub {
    /// Ticks when events were written by any process.
    pub(crate) fn events(&self) -> watch::Receiver<u64> {
        self.events.subscribe()
    }

    /// Ticks when work was queued by any process.
    pub(crate) fn work(&self) -> watch::Receiver<u64> {
        self.work.subscribe()
    }

    /// Ticks when something has changed for the edge.
    pub(crate) fn edge(&self) -> watch::Receiver<u64> {
        self.edge.subscribe()
    }

    /// Ticks when a key or a session may have ended.
    pub(crate) fn access(&self) -> watch::Receiver<u64> {
        self.access.subscribe()
    }

    /// Ticks when other challenges are to be answered by DNS.
    pub(crate) fn challenges(&self) -> watch::Receiver<u64> {
        self.challenges.subscribe()
    }

    /// Whether ticks come: while nothing is heard, nothing that is remembered can be relied upon.
    pub(crate) fn is_listening(&self) -> watch::Receiver<bool> {
        self.is_listening.subscribe()
    }

    fn tick_all(&self) {
        for counter in [&self.events, &self.work, &self.edge, &self.access, &self.challenges] {
            counter.send_modify(|count| *count += 1);
        }
    }
}

/// Listens until the service stops. While the database is away nothing is
/// heard, so all counters tick once it is back.
pub(crate) async fn listen(app: Arc<App>) {
    while !app.stop.is_cancelled() {
        let heard = tokio::select! {
            () = app.stop.cancelled() => return,
            heard = hear(&app) => heard,
        };
        app.hub.is_listening.send_replace(false);
        if let Err(error) = heard {
            app.repeats.warn("no longer listening for changes; trying again", &error);
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
    }
}

async fn hear(app: &App) -> Result<(), StoreError> {
    let mut listener = app.store.listen().await?;
    app.hub.is_listening.send_replace(true);
    app.hub.tick_all();
    loop {
        let Some(channel) = listener.heard().await? else {
            // What was called meanwhile nobody has heard.
            app.hub.tick_all();
            continue;
        };
        let counter = match channel {
            Channel::Events => &app.hub.events,
            Channel::Work => &app.hub.work,
            Channel::Edge => &app.hub.edge,
            Channel::Access => &app.hub.access,
            Channel::Challenges => &app.hub.challenges,
        };
        counter.send_modify(|count| *count += 1);
    }
}

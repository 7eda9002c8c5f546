//! What the challenge zone answers, from memory: whatever anybody asks, the records are not. Only
//! while this process does not hear of changes are they asked, a few questions at once.

use std::collections::HashMap;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use nomenta_store::StoreError;
use tokio::sync::Semaphore;
use tokio::time::timeout;

use crate::App;

/// Challenges that are remembered; an order has one for each of its names, and few are open.
const MOST: i64 = 50_000;
/// Questions at once that the records are asked.
const AT_ONCE: usize = 2;
/// Longest that one may wait for its turn and its answer.
const PATIENCE: Duration = Duration::from_secs(2);

type Texts = HashMap<String, Vec<String>>;

/// The answers to challenges by DNS.
pub(crate) struct Challenges {
    /// By name; nothing while it is not known what has changed.
    texts: RwLock<Option<Texts>>,
    turns: Semaphore,
}

impl Default for Challenges {
    fn default() -> Self {
        Self { texts: RwLock::default(), turns: Semaphore::new(AT_ONCE) }
    }
}

impl Challenges {
    /// The TXT records at a customer's host.
    pub(crate) async fn at(&self, app: &App, host: &str) -> Vec<String> {
        if let Some(texts) = &*self.texts.read().unwrap_or_else(PoisonError::into_inner) {
            return texts.get(host).cloned().unwrap_or_default();
        }

        match timeout(PATIENCE, self.asked(app, host)).await {
            Ok(Ok(texts)) => texts,
            Ok(Err(error)) => {
                app.repeats.warn("a question for a challenge was not answered", &error);
                Vec::new()
            }
            Err(late) => {
                app.repeats.warn("a question for a challenge was not answered", &late);
                Vec::new()
            }
        }
    }

    async fn asked(&self, app: &App, host: &str) -> Result<Vec<String>, StoreError> {
        let _turn = self.turns.acquire().await;
        app.store.challenge_texts(host).await
    }

    fn remember(&self, texts: Option<Texts>) {
        *self.texts.write().unwrap_or_else(PoisonError::into_inner) = texts;
    }
}

/// Keeps in step with the records until the service stops.
pub(crate) async fn run(app: Arc<App>) {
    let mut ticks = app.hub.challenges();
    let mut listening = app.hub.is_listening();

    while !app.stop.is_cancelled() {
        ticks.mark_unchanged();
        let is_listening = *listening.borrow_and_update();
        let texts = if is_listening { read(&app).await } else { None };
        app.challenges.remember(texts);

        tokio::select! {
            () = app.stop.cancelled() => return,
            _ = ticks.changed() => {}
            _ = listening.changed() => {}
        }
    }
}

async fn read(app: &App) -> Option<Texts> {
    let rows = match app.store.all_challenge_texts(MOST).await {
        Ok(rows) if (rows.len() as i64) < MOST => rows,
        Ok(_) => return None,
        Err(error) => {
            app.repeats.warn("the answers to challenges are asked for one by one", &error);
            return None;
        }
    };

    let mut texts = Texts::new();
    for (name, text) in rows {
        texts.entry(name).or_default().push(text);
    }
    Some(texts)
}

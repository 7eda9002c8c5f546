//! Domains that somebody waits for, at a page or at a command line.

use chrono::{TimeDelta, Utc};
use nomenta_store::StoreError;
use uuid::Uuid;

use crate::App;

/// How long somebody waits who has said so once: longer than the handoff page waits for a change.
const WAITS_FOR: TimeDelta = TimeDelta::seconds(70);

/// Notes that somebody waits for some domains from now on.
pub(in crate::work) async fn note(app: &App, domain_ids: &[Uuid]) -> Result<(), StoreError> {
    let now = Utc::now();
    app.calls.awaited(domain_ids, now + WAITS_FOR, now + app.config.policy.look_first).await
}

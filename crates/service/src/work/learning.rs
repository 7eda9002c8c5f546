//! Learning from what happens at DNS operators, a moment after it has.

use std::sync::Arc;
use std::time::Duration;

use nomenta_api::learned::OperatorLessons;
use nomenta_store::{DomainRecord, StoreError};
use tokio::time::{sleep, timeout};

use crate::App;

/// Time between two rounds: what one operator's customers do is counted together.
const PAUSE: Duration = Duration::from_secs(5);
/// Longest time for one round; what is left waits for the next.
const ROUND_LIMIT: Duration = Duration::from_secs(60);

/// Works until the service stops.
pub(crate) async fn run(app: Arc<App>) {
    while app.stop.run_until_cancelled(sleep(PAUSE)).await.is_some() {
        match timeout(ROUND_LIMIT, round(&app)).await {
            Ok(Ok(())) => {}
            Ok(Err(error)) => app.repeats.warn("nothing was learned of DNS operators", &error),
            Err(late) => app.repeats.warn("nothing was learned of DNS operators", &late),
        }
    }
}

async fn round(app: &App) -> Result<(), StoreError> {
    loop {
        let drawn = app.store.draw_lessons(&app.config.enough).await?;
        metrics::counter!("nomenta_lessons_drawn_total").increment(drawn as u64);
        if drawn == 0 || app.stop.is_cancelled() {
            return Ok(());
        }
    }
}

/// Who runs a domain's DNS, and what was learned of them.
pub(crate) async fn of(app: &App, record: &DomainRecord) -> Result<Option<OperatorLessons>, StoreError> {
    let Some(operator) = record.operator.clone() else { return Ok(None) };
    let lessons = app.calls.lessons(&operator).await?;
    Ok(Some(OperatorLessons::of(operator, lessons)))
}

//! What happened: a domain's history, and everything as it happens.

use std::convert::Infallible;
use std::sync::Arc;

use async_stream::stream;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{self, KeepAlive, Sse};
use futures::{Stream, StreamExt};
use nomenta_api::domain::ClaimQuery;
use nomenta_api::event::{CloudEvent, EventQuery, HistoryQuery};
use nomenta_api::problem::Problem;
use nomenta_api::role::Role;
use nomenta_store::EventRow;
use tokio::time::{Instant, sleep};

use super::access::{Asked, find};
use super::paging;
use crate::App;
use crate::access::Caller;
use crate::problem::{Params, Refusal};
use crate::reach::Reach;
use crate::shown::Shown;

/// Events on a page, unless asked otherwise.
const PAGE: i64 = 500;
/// Events that a stream reads in one turn: little, so that those who catch up take turns with
/// each other and with calls.
const AT_ONCE: i64 = 100;

fn cloud_event(app: &App, row: EventRow) -> CloudEvent {
    CloudEvent {
        specversion: "1.0".into(),
        id: row.id,
        source: format!("//{}/nomenta", app.config.platform.zone),
        subject: row.host,
        time: row.at,
        sequence: row.seq,
        told: row.event.told(),
        event: row.event,
    }
}

/// What happened to a domain, oldest first, a page at a time; the `Link` header leads to the
/// next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/domains/{host}/events",
    params(("host" = String, Path, description = "The domain"), ClaimQuery, HistoryQuery),
    responses((status = 200, body = [CloudEvent]), (status = 404, body = Problem)))]
pub(super) async fn history(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    Params(query): Params<HistoryQuery>,
) -> Result<(HeaderMap, Shown<Vec<CloudEvent>>), Refusal> {
    let record = find(&app, &caller, &asked).await?;
    let limit = paging::limit(Some(query.limit.unwrap_or(PAGE)))?;
    let rows = record.events(query.after.unwrap_or(0), limit + 1).await?;

    let path = format!("domains/{}/events", record.domain.routed());
    let mut parameters = paging::asked(&query)?;
    parameters.extend(asked.account.map(|account| ("account".to_owned(), account)));
    let (headers, rows) = paging::page(rows, limit, &path, |row| row.seq.to_string(), &parameters)?;
    Ok((headers, Shown::plain(rows.into_iter().map(|row| cloud_event(&app, row)).collect())))
}

/// Everything as it happens, as server-sent events. Starts at `after` or the
/// `Last-Event-ID` header, else with what comes next. It ends with the key or the session.
#[utoipa::path(get, path = "/api/v1/events", params(EventQuery),
    responses((status = 200, content_type = "text/event-stream", body = CloudEvent)))]
pub(super) async fn live(
    State(app): State<Arc<App>>,
    caller: Caller,
    headers: HeaderMap,
    Params(query): Params<EventQuery>,
) -> Result<Sse<impl Stream<Item = Result<sse::Event, Infallible>>>, Refusal> {
    let reach = caller.reach(&app, Role::Viewer)?;
    // Streams are opened as they are read on: two thousand at once leave calls theirs.
    let turn = app.stream_turn().await;
    let last_id = headers.get("last-event-id").and_then(|value| value.to_str().ok()?.parse().ok());
    let after = match last_id.or(query.after) {
        Some(after) => after,
        None => reach.last_event().await?,
    };
    drop(turn);

    let shut_out = Box::pin(caller.shut_out(app.clone()));
    Ok(Sse::new(follow(app, reach, after).take_until(shut_out)).keep_alive(KeepAlive::default()))
}

fn written(app: &App, row: EventRow) -> sse::Event {
    let event = sse::Event::default().id(row.seq.to_string());
    event.json_data(cloud_event(app, row)).unwrap_or_default()
}

fn follow(app: Arc<App>, reach: Reach, mut after: i64) -> impl Stream<Item = Result<sse::Event, Infallible>> {
    stream! {
        let mut ticks = app.hub.events();
        // Opens the stream at once, so that a client knows that it listens.
        yield Ok(sse::Event::default().comment("listening"));

        while !app.stop.is_cancelled() {
            let turn = app.stream_turn().await;
            let begun = Instant::now();
            // Whoever follows is told with what comes next, where the records are not to be had now.
            let rows = reach.events(after, AT_ONCE).await.unwrap_or_default();
            after = rows.last().map_or(after, |row| row.seq);
            let is_full = i64::try_from(rows.len()).is_ok_and(|count| count >= AT_ONCE);
            // Written in the turn too, which takes longer than to read.
            let written: Vec<_> = rows.into_iter().map(|row| written(&app, row)).collect();
            // Whoever catches up has time, and the others want the processor as well.
            if is_full && app.streams.available_permits() == 0 {
                sleep(begun.elapsed()).await;
            }
            drop(turn);

            let idle = written.is_empty();
            for event in written {
                yield Ok(event);
            }

            if idle {
                tokio::select! {
                    () = app.stop.cancelled() => {}
                    changed = ticks.changed() => if changed.is_err() { break },
                }
            }
        }
    }
}

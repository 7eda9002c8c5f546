//! Intake: many domains taken in at once.

use std::convert::Infallible;
use std::sync::Arc;

use async_stream::stream;
use axum::body::Bytes;
use axum::extract::{FromRequest, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::sse::{self, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use futures::Stream;
use nomenta_api::intake::{Intake, IntakeEvent, IntakeProgress, IntakeQuery};
use nomenta_api::problem::{FieldCode, Problem, ProblemKind};
use nomenta_api::role::Role;
use tokio::sync::{OwnedSemaphorePermit, watch};
use tokio::task::JoinHandle;

use super::EVENT_STREAM;
use crate::App;
use crate::access::Caller;
use crate::intake::Rows;
use crate::negotiation;
use crate::problem::{Params, Refusal};
use crate::reach::Reach;
use crate::shown::Shown;

const JSON: &str = "application/json";
const CSV: &str = "text/csv";
/// After how many seconds to come again where others are being served.
const AGAIN: u32 = 5;

/// Takes in the domains of a table (CSV, RFC 4180, in UTF-8), whose first line names its
/// columns: `host` and `site`, and `account`, `pair` and `by_zone` where they are wanted.
/// Each row is judged, and all that are accepted are taken in at once, or none. The same
/// table again changes nothing. As `text/csv` the answer is the same table with what became
/// of each row; as `text/event-stream` it tells how far it has come, and then the rest.
#[utoipa::path(post, path = "/api/v1/intake", params(IntakeQuery),
    request_body(content = String, content_type = "text/csv", example = json!("host,site\ntimetable.onswick.example,onswick\n")),
    responses((status = 200, content(
            (Intake = "application/json"), (String = "text/csv"), (IntakeProgress = "text/event-stream"))),
        (status = 422, body = Problem), (status = 429, body = Problem)))]
pub(super) async fn intake(
    State(app): State<Arc<App>>,
    caller: Caller,
    headers: HeaderMap,
    Params(query): Params<IntakeQuery>,
    TableOctets(octets): TableOctets,
) -> Result<Response, Refusal> {
    let reach = caller.bulk(&app, Role::Operator)?;
    let form = negotiation::wanted(&headers, &[JSON, CSV, EVENT_STREAM])?;
    let turn = app.intakes.clone().try_acquire_owned().map_err(|_| {
        metrics::counter!("nomenta_intakes_refused_total").increment(1);
        let detail = "Other tables are being taken in. Give this one again in a moment.";
        Refusal::new(StatusCode::TOO_MANY_REQUESTS, ProblemKind::UnderWay, detail).again_after(AGAIN)
    })?;

    let rows = Arc::new(Rows::read(&app, octets).await?);
    let (progress, heard) = watch::channel(IntakeProgress { done: 0, total: 0 });
    let done = begin(reach, query.dry_run, rows.clone(), progress, turn);
    if form == EVENT_STREAM {
        return Ok(Sse::new(told(heard, done)).keep_alive(KeepAlive::default()).into_response());
    }

    let intake = ended(done).await?;
    match form {
        CSV => {
            let kind = HeaderValue::from_static("text/csv; charset=utf-8");
            Ok(([(header::CONTENT_TYPE, kind)], rows.written(&intake)).into_response())
        }
        _ => Ok(Shown::plain(intake).into_response()),
    }
}

/// Begins; what is begun is brought to its end, whether or not anybody waits for it.
fn begin(
    reach: Reach,
    is_dry: bool,
    rows: Arc<Rows>,
    progress: watch::Sender<IntakeProgress>,
    turn: OwnedSemaphorePermit,
) -> JoinHandle<Result<Intake, Refusal>> {
    tokio::spawn(async move {
        let done = match is_dry {
            true => rows.judged(&reach).await,
            false => rows.taken_in(&reach, &progress).await,
        };
        drop(turn);
        done
    })
}

async fn ended(done: JoinHandle<Result<Intake, Refusal>>) -> Result<Intake, Refusal> {
    done.await.map_err(|error| Refusal::internal(error.to_string()))?
}

/// How far it has come, and what became of it.
fn told(
    mut heard: watch::Receiver<IntakeProgress>,
    done: JoinHandle<Result<Intake, Refusal>>,
) -> impl Stream<Item = Result<sse::Event, Infallible>> {
    stream! {
        while heard.changed().await.is_ok() {
            let progress = *heard.borrow_and_update();
            yield Ok(event(IntakeEvent::Progress, progress));
        }
        match ended(done).await {
            Ok(intake) => yield Ok(event(IntakeEvent::Done, intake)),
            Err(refusal) => yield Ok(event(IntakeEvent::Failed, refusal.problem)),
        }
    }
}

fn event(name: IntakeEvent, data: impl serde::Serialize) -> sse::Event {
    sse::Event::default().event(name.as_str()).json_data(data).unwrap_or_default()
}

/// A body that is a table.
pub(super) struct TableOctets(Vec<u8>);

impl<S: Send + Sync> FromRequest<S> for TableOctets {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &S) -> Result<Self, Refusal> {
        let octets = Bytes::from_request(request, state).await;
        let octets =
            octets.map_err(|rejection| Refusal::field("table", FieldCode::Form, rejection.body_text()))?;
        Ok(Self(octets.into()))
    }
}

//! What the platform's edge servers need: routes, certificates, challenge
//! answers. For `edge` keys alone, since private keys are in it; of the accounts that a key opens.

use std::collections::HashMap;
use std::convert::Infallible;
use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;

use async_stream::stream;
use axum::extract::State;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::sse::{self, KeepAlive, Sse};
use axum::response::{IntoResponse, Response};
use futures::{Stream, StreamExt};
use nomenta_api::edge::{ChangesQuery, EdgeCertificate, EdgeChange, EdgeFeed, EdgeRoute, FeedQuery};
use nomenta_api::problem::Problem;
use nomenta_api::role::Role;
use nomenta_certs::seal::SealError;
use nomenta_core::name::dns::DnsName;
use nomenta_store::{EdgeRow, TlsAnswer};
use tokio::time::{Instant, timeout_at};

use crate::App;
use crate::access::Caller;
use crate::look::PRIVATE_KEY;
use crate::ordering::TLS_ANSWER;
use crate::problem::{Named, Params, Refusal};
use crate::reach::Reach;
use crate::shown::Shown;

const LONGEST_WAIT: u64 = 55;
/// Changes sent at once.
const BATCH: i64 = 100;

/// Routes and certificates, whole. With `If-None-Match` and `wait`, answers as
/// soon as they change, or with 304 when the time is up.
#[utoipa::path(get, path = "/api/v1/edge/feed", params(FeedQuery),
    responses((status = 200, body = EdgeFeed), (status = 304), (status = 403, body = Problem)))]
pub(super) async fn feed(
    State(app): State<Arc<App>>,
    caller: Caller,
    headers: HeaderMap,
    Params(query): Params<FeedQuery>,
) -> Result<Response, Refusal> {
    let reach = caller.reach(&app, Role::Edge)?;
    let known = headers.get(header::IF_NONE_MATCH).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let deadline = Instant::now() + Duration::from_secs(query.wait.unwrap_or(0).min(LONGEST_WAIT));
    let mut ticks = app.hub.edge();
    let mut shut_out = pin!(caller.clone().shut_out(app.clone()));

    loop {
        ticks.mark_unchanged();
        // Read first: what changes meanwhile is sent again rather than lost.
        let position = reach.edge_position().await?;
        let etag = HeaderValue::try_from(format!("\"{position}\""));
        let etag = etag.map_err(|error| Refusal::internal(error.to_string()))?;
        if etag != known {
            let feed = snapshot(&app, &reach, position).await?;
            return Ok(([(header::ETAG, etag)], Shown::secret(feed, &caller)?).into_response());
        }

        let changed = tokio::select! {
            () = app.stop.cancelled() => false,
            () = &mut shut_out => return Err(Refusal::unauthorized("This key opens nothing any more.")),
            changed = timeout_at(deadline, ticks.changed()) => matches!(changed, Ok(Ok(()))),
        };

        if !changed {
            return Ok((StatusCode::NOT_MODIFIED, [(header::ETAG, etag)]).into_response());
        }
    }
}

async fn snapshot(app: &App, reach: &Reach, position: i64) -> Result<EdgeFeed, Refusal> {
    let rows = reach.edge_rows(None).await?;
    let answers = reach.tls_answers(None).await?;
    let mut challenges = Vec::with_capacity(answers.len());
    for answer in answers {
        challenges.extend(answering(app, answer)?);
    }

    let mut routes = Vec::with_capacity(rows.len());
    let mut certificates = Vec::new();
    for row in rows {
        let (route, certificate) = unsealed(app, row)?;
        routes.push(route);
        certificates.extend(certificate);
    }

    Ok(EdgeFeed { position, routes, certificates, challenges })
}

fn answering(app: &App, answer: TlsAnswer) -> Result<Option<EdgeCertificate>, Refusal> {
    let key = opened(app, &answer.name, TLS_ANSWER, &answer.sealed_key)?;
    Ok(key.map(|key_pem| EdgeCertificate { host: answer.name.into(), chain_pem: answer.chain_pem, key_pem }))
}

/// A private key for the edge. One that is damaged costs its own host the certificate, and no
/// other; a sealing key that is missing here costs the whole answer, so that no edge drops what it
/// has.
fn opened(app: &App, host: &str, purpose: &'static str, sealed: &[u8]) -> Result<Option<String>, Refusal> {
    match app.sealer.open(purpose, sealed) {
        Ok(key) => Ok(String::from_utf8(key.to_vec()).ok()),
        Err(error @ SealError::UnknownKey(_)) => Err(Refusal::unavailable(error.to_string())),
        Err(error) => {
            tracing::error!(host, %error, "a certificate is kept from the edge");
            Ok(None)
        }
    }
}

/// A host's route and certificate.
fn unsealed(app: &App, row: EdgeRow) -> Result<(EdgeRoute, Option<EdgeCertificate>), Refusal> {
    let key = match &row.sealed_key {
        Some(sealed) => opened(app, &row.host, PRIVATE_KEY, sealed)?,
        None => None,
    };

    let host = DnsName::from(row.host);
    let certificate = row.chain_pem.zip(key).map(|(chain_pem, key_pem)| EdgeCertificate {
        host: host.clone(),
        chain_pem,
        key_pem,
    });

    let route = EdgeRoute {
        host,
        site: row.site,
        default_host: row.default_host.into(),
        entry_path: row.entry_path,
        error_path: row.error_path,
        redirect_to: row.redirect_to.map(DnsName::from),
        is_staged: row.is_staged,
        noindex: row.is_default,
    };

    Ok((route, certificate))
}

/// Changes as they happen, as server-sent events of the type `change`. Starts
/// after `after` or the `Last-Event-ID` header; an event of the type `reset`
/// says that changes that old are no longer kept, and the feed is to be read
/// whole.
#[utoipa::path(get, path = "/api/v1/edge/changes", params(ChangesQuery),
    responses((status = 200, content_type = "text/event-stream", body = EdgeChange), (status = 403, body = Problem)))]
pub(super) async fn changes(
    State(app): State<Arc<App>>,
    caller: Caller,
    headers: HeaderMap,
    Params(query): Params<ChangesQuery>,
) -> Result<Sse<impl Stream<Item = Result<sse::Event, Infallible>>>, Refusal> {
    let reach = caller.reach(&app, Role::Edge)?;
    let turn = app.stream_turn().await;
    let last_id = headers.get("last-event-id").and_then(|value| value.to_str().ok()?.parse().ok());
    let after = match last_id.or(query.after) {
        Some(after) => after,
        None => reach.edge_position().await?,
    };
    drop(turn);

    let shut_out = Box::pin(caller.shut_out(app.clone()));
    Ok(Sse::new(follow(app, reach, after).take_until(shut_out)).keep_alive(KeepAlive::default()))
}

fn follow(app: Arc<App>, reach: Reach, mut after: i64) -> impl Stream<Item = Result<sse::Event, Infallible>> {
    stream! {
        let mut ticks = app.hub.edge();

        yield Ok(sse::Event::default().comment("listening"));
        while !app.stop.is_cancelled() {
            let turn = app.stream_turn().await;
            // Written in the turn too, which takes longer than to read.
            let told = changed(&app, &reach, after).await.map(|batch| batch.map(written));
            drop(turn);
            match told {
                Ok(None) => {
                    yield Ok(sse::Event::default().event("reset").data("read the feed whole"));
                    break;
                }
                Ok(Some(batch)) if !batch.is_empty() => {
                    for (number, event) in batch {
                        after = number;
                        yield Ok(event);
                    }
                }
                // Whoever follows comes again, from where they were.
                Err(error) => {
                    tracing::warn!(?error, "a stream of changes ends");
                    break;
                }
                Ok(Some(_)) => tokio::select! {
                    () = app.stop.cancelled() => {}
                    changed = ticks.changed() => if changed.is_err() { break },
                },
            }
        }
    }
}

fn written(batch: Vec<(i64, EdgeChange)>) -> Vec<(i64, sse::Event)> {
    let event = |(number, change): (i64, EdgeChange)| {
        let event = sse::Event::default().id(number.to_string()).event("change");
        (number, event.json_data(change).unwrap_or_default())
    };
    batch.into_iter().map(event).collect()
}

/// What the edge needs for the hosts that changed after `after`.
async fn changed(app: &App, reach: &Reach, after: i64) -> Result<Option<Vec<(i64, EdgeChange)>>, Refusal> {
    let Some(numbered) = reach.edge_changes(after, BATCH).await? else { return Ok(None) };
    if numbered.is_empty() {
        return Ok(Some(Vec::new()));
    }

    let hosts: Vec<String> = numbered.iter().map(|(_, host)| host.clone()).collect();
    let rows = reach.edge_rows(Some(&hosts)).await?;
    let mut rows: HashMap<_, _> = rows.into_iter().map(|row| (row.host.clone(), row)).collect();
    let answers = reach.tls_answers(Some(&hosts)).await?;
    let mut answers: HashMap<_, _> =
        answers.into_iter().map(|answer| (answer.name.clone(), answer)).collect();

    let mut changes = Vec::with_capacity(numbered.len());
    for (number, host) in numbered {
        let row = rows.remove(&host).map(|row| unsealed(app, row)).transpose()?;
        let (route, certificate) = row.unzip();
        let answer = answers.remove(&host).map(|answer| answering(app, answer)).transpose()?;
        let challenge = answer.flatten();
        let change = EdgeChange { host: host.into(), route, certificate: certificate.flatten(), challenge };
        changes.push((number, change));
    }

    Ok(Some(changes))
}

/// What to answer under `/.well-known/acme-challenge/`, to a CA or to our own
/// canary.
#[utoipa::path(get, path = "/api/v1/edge/challenges/{token}",
    params(("token" = String, Path, description = "Last part of the path")),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 404, body = Problem)))]
pub(super) async fn challenge(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(token): Named<String>,
) -> Result<String, Refusal> {
    let reach = caller.reach(&app, Role::Edge)?;
    let answer = match app.sealer.canary_answer(&token) {
        Some(answer) => Some(answer),
        None => reach.challenge(&token).await?,
    };

    answer.ok_or_else(|| Refusal::not_found("No open order has this challenge."))
}

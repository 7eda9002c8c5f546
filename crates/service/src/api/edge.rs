//! What the platform's edge servers need: routes, certificates, challenge
//! answers. For `edge` keys alone, since private keys are in it.

use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use data_encoding::HEXLOWER;
use nomenta_store::FeedRow;
use sha2::{Digest, Sha256};
use tokio::time::{Instant, timeout_at};

use super::dto::{EdgeCertificate, EdgeFeed, EdgeRoute, FeedQuery};
use crate::App;
use crate::access::Caller;
use crate::look::PRIVATE_KEY;
use crate::problem::{Params, Problem};
use crate::role::Role;

const LONGEST_WAIT: u64 = 55;

/// Routes and certificates. With `If-None-Match` and `wait`, answers as soon
/// as they change, or with 304 when the time is up.
#[utoipa::path(get, path = "/api/v1/edge/feed", params(FeedQuery),
    responses((status = 200, body = EdgeFeed), (status = 304), (status = 403, body = Problem)))]
pub(super) async fn feed(
    State(app): State<Arc<App>>,
    caller: Caller,
    headers: HeaderMap,
    Params(query): Params<FeedQuery>,
) -> Result<Response, Problem> {
    caller.needs(Role::Edge)?;
    let known = headers.get(header::IF_NONE_MATCH).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let deadline = Instant::now() + Duration::from_secs(query.wait.unwrap_or(0).min(LONGEST_WAIT));
    let mut ticks = app.hub.events();
    loop {
        ticks.mark_unchanged();
        let feed = EdgeFeed::from_rows(&app, app.store.feed().await?)?;
        let etag = etag(&feed)?;
        if etag != known {
            return Ok(([(header::ETAG, etag)], Json(feed)).into_response());
        }
        let changed = tokio::select! {
            () = app.stop.cancelled() => false,
            changed = timeout_at(deadline, ticks.changed()) => matches!(changed, Ok(Ok(()))),
        };
        if !changed {
            return Ok((StatusCode::NOT_MODIFIED, [(header::ETAG, etag)]).into_response());
        }
    }
}

impl EdgeFeed {
    fn from_rows(app: &App, rows: Vec<FeedRow>) -> Result<Self, Problem> {
        let (mut routes, mut certificates) = (Vec::new(), Vec::new());
        for row in rows {
            if let (Some(chain_pem), Some(sealed)) = (row.chain_pem, row.sealed_key) {
                let key =
                    app.sealer.open(PRIVATE_KEY, &sealed).map_err(|e| Problem::internal(e.to_string()))?;
                let key_pem = String::from_utf8_lossy(&key).into_owned();
                certificates.push(EdgeCertificate { host: row.host.clone(), chain_pem, key_pem });
            }
            routes.push(EdgeRoute { host: row.host, site: row.site, default_host: row.default_host });
        }
        Ok(Self { routes, certificates })
    }
}

fn etag(feed: &EdgeFeed) -> Result<HeaderValue, Problem> {
    let bytes = serde_json::to_vec(feed).map_err(|e| Problem::internal(e.to_string()))?;
    let tag = format!("\"{}\"", HEXLOWER.encode(&Sha256::digest(bytes)[..16]));
    HeaderValue::from_str(&tag).map_err(|e| Problem::internal(e.to_string()))
}

/// What to answer under `/.well-known/acme-challenge/`, to a CA or to our own
/// canary.
#[utoipa::path(get, path = "/api/v1/edge/challenges/{token}",
    params(("token" = String, Path, description = "Last part of the path")),
    responses((status = 200, body = String, content_type = "text/plain"), (status = 404, body = Problem)))]
pub(super) async fn challenge(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(token): Path<String>,
) -> Result<String, Problem> {
    caller.needs(Role::Edge)?;
    if token.starts_with("canary-") {
        return Ok(app.sealer.canary_answer(&token));
    }
    let answer = app.store.challenge(&token).await?;
    answer.ok_or_else(|| Problem::not_found("No open order has this challenge."))
}

//! Rehearsals: judging a zone file before the customer changes anything.

use std::sync::Arc;

use axum::body::Bytes;
use axum::extract::{FromRequest, Request, State};
use chrono::Utc;
use nomenta_api::domain::{ClaimQuery, RevealQuery};
use nomenta_api::problem::FieldCode;
use nomenta_api::problem::Problem;
use nomenta_core::rehearsal::{self, Rehearsal, RehearsalError};
use nomenta_core::zonefile::ZoneFile;

use super::access::{Asked, find};
use crate::App;
use crate::access::Caller;
use crate::problem::{Params, Refusal};
use crate::shown::Shown;

/// Judges a master file (RFC 1035, section 5) as the zone of a domain: what
/// would be found, and the file amended so that it would pass. Nothing is
/// changed or kept.
#[utoipa::path(post, path = "/api/v1/domains/{host}/rehearsal",
    params(("host" = String, Path, description = "The domain"), ClaimQuery, RevealQuery),
    request_body(content = String, content_type = "text/dns"),
    responses((status = 200, body = Rehearsal), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn rehearse(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    Params(query): Params<RevealQuery>,
    ZoneText(zone): ZoneText,
) -> Result<Shown<Rehearsal>, Refusal> {
    let turn = app.lengthy_turn().await?;
    let domain = find(&app, &caller, &asked).await?.into_record().domain;
    let mask = domain.mask();
    let token = domain.token.txt_value();

    // A large file takes a while, in which others are to be served.
    let judged = tokio::task::spawn_blocking(move || {
        let config = &app.config;
        let judged = rehearsal::rehearse(&domain, &config.platform, &config.policy, &zone, Utc::now());
        drop(turn);
        judged
    });
    let judged = judged.await.map_err(|error| Refusal::internal(error.to_string()))?;

    let mut judged = judged.map_err(refused)?;
    if !query.reveal {
        judged.refer_to_sheet(&token);
    }
    Shown::as_asked(judged, &mask, &caller, &query)
}

/// A body that is a zone file.
pub(super) struct ZoneText(String);

impl<S: Send + Sync> FromRequest<S> for ZoneText {
    type Rejection = Refusal;

    async fn from_request(request: Request, state: &S) -> Result<Self, Refusal> {
        let octets = Bytes::from_request(request, state).await;
        let octets =
            octets.map_err(|rejection| Refusal::field("zone", FieldCode::ZoneFile, rejection.body_text()))?;
        ZoneFile::text_of(octets.into()).map(Self).map_err(|error| refused(error.into()))
    }
}

fn refused(error: RehearsalError) -> Refusal {
    let code = match &error {
        RehearsalError::Unreadable(_) => FieldCode::ZoneFile,
        RehearsalError::OtherZone { .. } => FieldCode::OtherZone,
        RehearsalError::Empty => FieldCode::Empty,
        RehearsalError::TooLarge { .. } => FieldCode::TooLarge,
        RehearsalError::NotAmended(_) => FieldCode::NotAmended,
    };

    let problem = Refusal::field("zone", code, &error);
    match error {
        RehearsalError::Unreadable(at) => problem.on_line(at.line),
        _ => problem,
    }
}

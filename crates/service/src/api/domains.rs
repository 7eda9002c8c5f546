//! Domains: taking in, listing, and everything about one.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use nomenta_api::domain::{
    BaselineView, ClaimQuery, DomainDetail, NewDomain as TypedDomain, RevealQuery, SheetView, SurveyView,
};
use nomenta_api::problem::{FieldCode, Problem};
use nomenta_api::role::Role;
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::judge::code::Code;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_store::{Enrolment, NewDomain, StoreError};

use super::access::{Asked, find, find_open, masked};
use super::sheets::sheet_view;
use crate::App;
use crate::access::Caller;
use crate::detail::detail;
use crate::masking::{hidden, mask_of_others};
use crate::precondition::{Tagged, tagged};
use crate::problem::{Body, Params, Refusal};
use crate::token_end;

/// A recorded host in its own script.
pub(super) fn shown(host: &str) -> String {
    Subject::kept(host).to_unicode()
}

/// Takes a domain in; the answer is what the customer must publish.
#[utoipa::path(post, path = "/api/v1/domains", request_body = TypedDomain,
    responses((status = 201, body = SheetView), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(super) async fn enrol(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<TypedDomain>,
) -> Result<(StatusCode, Json<SheetView>), Refusal> {
    caller.needs(Role::Operator)?;
    let subject = Subject::parse_for(&new.host, &app.config.platform)
        .map_err(|error| Refusal::field("host", error.code(), error))?;

    let mut subjects = vec![subject.clone()];
    if new.pair {
        subjects.push(counterpart(&subject)?);
    }

    let domains: Vec<_> = subjects
        .into_iter()
        .map(|subject| NewDomain { subject, token: Token::from_random(rand::random()) })
        .collect();

    let whose = caller.whose();
    let enrolment = Enrolment {
        site: &new.site,
        whose: &whose,
        domains: &domains,
        is_pair: new.pair,
        is_proved_by_zone: new.by_zone,
        token_expires_at: token_end(Utc::now()),
    };
    let id = caller.records(&app).enrol(&enrolment).await.map_err(|error| {
        let field = if matches!(error, StoreError::Missing { .. }) { "site" } else { "host" };
        Refusal::of_record(error, field)
    })?;

    let sheet = app.done(|| async { sheet_view(&app, &app.calls.domain(id).await?).await }).await?;
    Ok((StatusCode::CREATED, Json(sheet)))
}

fn counterpart(subject: &Subject) -> Result<Subject, Refusal> {
    if subject.wildcard {
        let message = "A wildcard has no pair. Take the names in one by one.";
        return Err(Refusal::field("pair", FieldCode::Wildcard, message));
    }

    let host = subject.host.counterpart().map_err(|error| Refusal::field("pair", error.code(), error))?;
    Ok(Subject { host, wildcard: false })
}

#[utoipa::path(get, path = "/api/v1/domains/{host}",
    params(("host" = String, Path, description = "The domain"), ClaimQuery, RevealQuery),
    responses((status = 200, body = DomainDetail), (status = 404, body = Problem)))]
pub(super) async fn domain(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    Params(query): Params<RevealQuery>,
) -> Result<(Tagged, Json<DomainDetail>), Refusal> {
    let record = find(&app, &caller, &asked).await?;
    let mut open = app.calls.findings(record.id).await?;
    if caller.is_narrow() {
        // What lies around it is of others.
        open.retain(|row| row.finding.code != Code::InsideHeldName);
    }

    let others = mask_of_others(&record);
    let own = record.domain.mask();
    let token = record.domain.token.txt_value();
    let tag = tagged(record.id, record.version);

    let Json(mut detail) = hidden(detail(&app, record, open).await?, &others)?;
    if !query.reveal {
        detail.refer_to_sheet(&token);
    }
    Ok((tag, masked(detail, &own, &caller, &query)?))
}

/// The customer's records as they were at enrolment, beside those of now,
/// which are read while the caller waits.
#[utoipa::path(get, path = "/api/v1/domains/{host}/baseline",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = BaselineView), (status = 404, body = Problem)))]
pub(super) async fn baseline(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<Json<BaselineView>, Refusal> {
    let record = find(&app, &caller, &asked).await?;
    let target = record.domain.target(&app.config.platform);
    let now = app.surveyor.baseline(&target).await;

    let compared = match (&record.baseline, &now) {
        (Some(then), Some(now)) => then.compare(now),
        _ => Vec::new(),
    };

    let zone_lines = record.baseline.as_ref().map(Baseline::zone_lines).unwrap_or_default();
    let view = BaselineView { baseline: record.baseline, compared, zone_lines };
    masked(view, &record.domain.mask(), &caller, &RevealQuery::default())
}

/// The latest survey: every answer of every server.
#[utoipa::path(get, path = "/api/v1/domains/{host}/survey",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = SurveyView), (status = 404, body = Problem)))]
pub(super) async fn survey(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<Json<SurveyView>, Refusal> {
    let record = find(&app, &caller, &asked).await?;
    let others = mask_of_others(&record);
    let own = record.domain.mask();

    let Json(view) = hidden(SurveyView { survey: record.survey, next_look: record.next_look }, &others)?;
    hidden(view, &own)
}

/// Asks for a look now; it comes within moments, and the events tell.
#[utoipa::path(post, path = "/api/v1/domains/{host}/survey",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 202), (status = 404, body = Problem)))]
pub(super) async fn look(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<StatusCode, Refusal> {
    let record = find_open(&app, &caller, &asked).await?;
    caller.records(&app).look_now(record.id).await?;
    Ok(StatusCode::ACCEPTED)
}

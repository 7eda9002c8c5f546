//! Domains: taking in, listing, and everything about one.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use nomenta_api::domain::{
    BaselineView, ClaimQuery, DomainDetail, NewDomain as TypedDomain, RevealQuery, SheetView, SurveyView,
};
use nomenta_api::problem::{FieldCode, Problem};
use nomenta_api::role::Role;
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_store::{Enrolment, NewDomain, StoreError};

use super::access::{Asked, find, find_open};
use super::sheets::sheet_view;
use crate::App;
use crate::access::Caller;
use crate::detail::detail;
use crate::precondition::{Tagged, tagged};
use crate::problem::{Body, Params, Refusal};
use crate::shown::{Hides, Shown};
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
) -> Result<(StatusCode, Shown<SheetView>), Refusal> {
    let reach = caller.reach(&app, Role::Operator)?;
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

    let enrolment = Enrolment {
        is_pair: new.pair,
        is_proved_by_zone: new.by_zone,
        ..Enrolment::new(&new.site, &domains, token_end(Utc::now()))
    };
    let made = reach.enrol(enrolment).await.map_err(|error| {
        let field = if matches!(error, StoreError::Missing { .. }) { "site" } else { "host" };
        Refusal::of_record(error, field)
    })?;

    let sheet = app.done(|| async { sheet_view(&app, &reach.enrolled(made).await?).await }).await?;
    Ok((StatusCode::CREATED, Shown::secret(sheet, &caller)?))
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
) -> Result<(Tagged, Shown<DomainDetail>), Refusal> {
    if query.reveal {
        caller.needs(Role::Operator)?;
    }
    let found = find(&app, &caller, &asked).await?;
    let open = found.findings().await?;
    let hides = Hides::of(&found);
    let tag = tagged(found.id, found.version);

    let detail = detail(&app, found.into_record(), open).await?;
    Ok((tag, Shown::detail(detail, &hides, &caller, &query)?))
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
) -> Result<Shown<BaselineView>, Refusal> {
    let record = find(&app, &caller, &asked).await?.into_record();
    let target = record.domain.target(&app.config.platform);
    let now = app.surveyor.baseline(&target).await;

    let compared = match (&record.baseline, &now) {
        (Some(then), Some(now)) => then.compare(now),
        _ => Vec::new(),
    };

    let zone_lines = record.baseline.as_ref().map(Baseline::zone_lines).unwrap_or_default();
    let view = BaselineView { baseline: record.baseline, compared, zone_lines };
    Shown::masked(view, &record.domain.mask())
}

/// The latest survey: every answer of every server.
#[utoipa::path(get, path = "/api/v1/domains/{host}/survey",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = SurveyView), (status = 404, body = Problem)))]
pub(super) async fn survey(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<Shown<SurveyView>, Refusal> {
    let record = find(&app, &caller, &asked).await?.into_record();
    let hides = Hides::of(&record);
    Shown::survey(SurveyView { survey: record.survey, next_look: record.next_look }, &hides)
}

/// Says that somebody waits for the domain, as whoever has its page open does: for the minute that
/// follows it is looked at every few seconds, as far as its servers bear that. To be said again
/// twice a minute.
#[utoipa::path(post, path = "/api/v1/domains/{host}/waiting",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn wait(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<StatusCode, Refusal> {
    find_open(&app, &caller, &asked).await?.wait(&app).await?;
    Ok(StatusCode::NO_CONTENT)
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
    find_open(&app, &caller, &asked).await?.look_now().await?;
    Ok(StatusCode::ACCEPTED)
}

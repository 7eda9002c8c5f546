//! Domains: taking in, listing, and everything about one.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::Utc;
use nomenta_api::domain::{
    BaselineView, ClaimQuery, DomainDetail, Ended, LookalikeView, NewDomain as TypedDomain, OpenFinding,
    RevealQuery, SheetView, Shows, SpreadPoint, SurveyView,
};
use nomenta_api::problem::{FieldCode, Problem};
use nomenta_api::role::Role;
use nomenta_api::view::{DomainView, JudgedLine};
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::judge::case::Case;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::edit::Edit;
use nomenta_core::judge::evidence::Evidence;
use nomenta_core::judge::gate::Stage;
use nomenta_core::judge::todo;
use nomenta_core::judge::verdict;
use nomenta_core::judge::waiting::{self, Wait};
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::line::Line;
use nomenta_store::{DomainRecord, Enrolment, FindingRow, NewDomain, SpreadRow, StoreError};

use super::access::{Asked, find, find_open, hidden, mask_of_others, masked};
use super::sheets::{draw, sheet_view};
use crate::App;
use crate::access::Caller;
use crate::look as looking;
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

    let record = app.calls.domain(id).await?;
    Ok((StatusCode::CREATED, Json(sheet_view(&app, &record).await?)))
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

/// Everything about a domain as its customer may know it: its own token is there to be typed, and
/// nothing of anybody else's.
pub(crate) async fn customer_detail(app: &App, record: DomainRecord) -> Result<DomainDetail, Refusal> {
    let open = app.calls.findings(record.id).await?;
    let others = mask_of_others(&record);
    let Json(detail) = hidden(detail(app, record, open).await?, &others)?;
    Ok(detail)
}

async fn detail(app: &App, record: DomainRecord, open: Vec<FindingRow>) -> Result<DomainDetail, Refusal> {
    let sheet = draw(app, &record);
    let held = app.calls.certificate(record.id).await?;
    let refusal = app.calls.refusal(record.id).await?;
    let spreads = app.calls.spreads(record.id).await?;

    let lines: Vec<_> = sheet.lines.iter().map(|line| judged_line(&record, &sheet, line)).collect();
    let Judged { todo, waits } = judged(app, &record, &open);
    let findings: Vec<_> = open.iter().map(|row| &row.finding).collect();
    let view = DomainView::of(&record.domain.gates, &lines, &findings, &todo);

    let stage = stage(&record);
    let domain = record.domain;
    Ok(DomainDetail {
        host: domain.routed(),
        shown: domain.subject().to_unicode(),
        lookalike: LookalikeView::of(&domain.routed()),
        account: record.account,
        default_host: record.default_host,
        stage,
        shows: Shows {
            entry_path: record.entry_path,
            error_path: record.error_path,
            next_site: record.next_site,
            switch_at: record.switch_at,
        },
        held_since: record.held_since,
        contest: domain.ties.standing.contest(),
        ended: record.ended.map(|(at, ending)| Ended { at, ending }),
        paused_at: record.paused_at,
        suspended_at: record.suspended_at,
        site: domain.site,
        gates: domain.gates,
        pair: domain.pair,
        zone: sheet.zone,
        lines,
        findings: open.into_iter().map(open_finding).collect(),
        todo,
        form: sheet.form,
        waits,
        spread: record.spread,
        spreads: spreads.into_iter().map(spread_point).collect(),
        token_expires_at: domain.token_expires_at,
        enrolled_at: domain.enrolled_at,
        looked_at: record.looked_at,
        next_look: record.next_look,
        certificate: held.map(|held| held.facts),
        refusal,
        view,
    })
}

fn stage(record: &DomainRecord) -> Stage {
    match (record.ended, record.paused_at) {
        (Some(_), _) => Stage::Released,
        (None, Some(_)) => Stage::Paused,
        (None, None) => record.domain.gates.stage(),
    }
}

/// A line of the sheet with what each source says of it.
fn judged_line(record: &DomainRecord, sheet: &Sheet, line: &Line) -> JudgedLine {
    let cells = match &record.survey {
        Some(survey) => verdict::judge(sheet, line, survey),
        None => Vec::new(),
    };
    JudgedLine { line: line.clone(), cells }
}

/// What is told from the latest survey, beside the lines.
#[derive(Default)]
struct Judged {
    /// The customer's list.
    todo: Vec<Edit>,
    waits: Vec<Wait>,
}

fn judged(app: &App, record: &DomainRecord, open: &[FindingRow]) -> Judged {
    let Some(survey) = &record.survey else { return Judged::default() };
    let config = &app.config;
    let evidence = Evidence { form: looking::form(app, survey), ..Evidence::default() };
    let case = Case::new(&record.domain, &config.platform, survey, &evidence, &config.policy, Utc::now());

    let findings: Vec<_> = open.iter().map(|row| row.finding.clone()).collect();
    if record.ended.is_some() {
        let todo = findings.into_iter().flat_map(|finding| finding.edits);
        return Judged { todo: todo.collect(), waits: Vec::new() };
    }
    Judged { todo: todo::list(&case, &findings), waits: waiting::waits(&case) }
}

fn spread_point(row: SpreadRow) -> SpreadPoint {
    SpreadPoint { at: row.at, seeing: row.seeing, asked: row.asked }
}

fn open_finding(row: FindingRow) -> OpenFinding {
    OpenFinding { finding: row.finding, first_seen: row.first_seen, last_seen: row.last_seen }
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

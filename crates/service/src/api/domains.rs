//! Domains: taking in, listing, and everything about one.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use chrono::{Duration, Utc};
use nomenta_core::evidence::OrderState;
use nomenta_core::gate::Stage;
use nomenta_core::hostname::Hostname;
use nomenta_core::sheet::Sheet;
use nomenta_core::token::Token;
use nomenta_core::verdict;
use nomenta_store::{DomainRecord, FindingRow, NewDomain as Enrolment, RosterFilter, RosterRow, StoreError};

use super::dto::{
    DomainDetail, JudgedLine, NewDomain, OpenFinding, RosterLine, RosterQuery, SheetView, StageCount,
    SurveyView,
};
use super::registry::host_in_path;
use crate::App;
use crate::access::Caller;
use crate::problem::{Body, Params, Problem};
use crate::role::Role;

const PAGE: i64 = 100;
const LARGEST_PAGE: i64 = 500;
const TOKEN_DAYS: i64 = 30;

/// Domains by name, a page at a time; the `Link` header leads to the next
/// (RFC 8288).
#[utoipa::path(get, path = "/api/v1/domains", params(RosterQuery),
    responses((status = 200, body = [RosterLine]), (status = 422, body = Problem)))]
pub(super) async fn roster(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<RosterQuery>,
) -> Result<(HeaderMap, Json<Vec<RosterLine>>), Problem> {
    caller.needs(Role::Viewer)?;
    let limit = query.limit.unwrap_or(PAGE).clamp(1, LARGEST_PAGE);
    let stage = query.stage.as_deref().map(str::parse::<Stage>).transpose();
    let filter = RosterFilter {
        stage: stage.map_err(|e| Problem::field("stage", "stage", e))?,
        account: query.account.clone(),
        text: query.text.as_deref().map(str::to_lowercase),
        after: query.after.clone(),
    };
    let rows = app.store.roster(&filter, limit + 1).await?;
    let more = rows.len() > usize::try_from(limit).unwrap_or(usize::MAX);
    let lines: Vec<_> =
        rows.into_iter().take(limit.try_into().unwrap_or(0)).map(roster_line).collect::<Result<_, _>>()?;
    let mut headers = HeaderMap::new();
    if more && let Some(last) = lines.last() {
        headers.insert(header::LINK, next_link(&query, &last.host, limit)?);
    }
    Ok((headers, Json(lines)))
}

fn next_link(query: &RosterQuery, after: &str, limit: i64) -> Result<HeaderValue, Problem> {
    let encode = |v: &str| v.bytes().map(percent).collect::<String>();
    let mut link = format!("/api/v1/domains?after={after}&limit={limit}");
    for (name, value) in [("stage", &query.stage), ("account", &query.account), ("text", &query.text)] {
        if let Some(value) = value {
            link.push_str(&format!("&{name}={}", encode(value)));
        }
    }
    HeaderValue::from_str(&format!("<{link}>; rel=\"next\"")).map_err(|e| Problem::internal(e.to_string()))
}

/// RFC 3986, section 2.1.
fn percent(byte: u8) -> String {
    match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => char::from(byte).to_string(),
        other => format!("%{other:02X}"),
    }
}

fn roster_line(row: RosterRow) -> Result<RosterLine, Problem> {
    let shown = Hostname::parse(&row.host).map_or_else(|_| row.host.clone(), |h| h.to_unicode());
    let gates = serde_json::from_value(row.gates)
        .map_err(|e| StoreError::Unreadable { what: "gate", cause: e.to_string() })?;
    Ok(RosterLine {
        shown,
        gates,
        host: row.host,
        account: row.account,
        site: row.site,
        stage: row.stage,
        findings: row.findings,
        spread: row.spread,
        enrolled_at: row.enrolled_at,
        looked_at: row.looked_at,
    })
}

/// How many domains stand at each stage, in order, empty ones too.
#[utoipa::path(get, path = "/api/v1/stages", responses((status = 200, body = [StageCount])))]
pub(super) async fn stages(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<Vec<StageCount>>, Problem> {
    caller.needs(Role::Viewer)?;
    let counts = app.store.stage_counts().await?;
    let count = |stage: &str| counts.iter().find(|(s, _)| s == stage).map_or(0, |(_, n)| *n);
    let line = |stage: Stage| {
        let stage = stage.to_string();
        StageCount { count: count(&stage), stage }
    };
    Ok(Json(Stage::ALL.into_iter().map(line).collect()))
}

/// Takes a domain in; the answer is what the customer must publish.
#[utoipa::path(post, path = "/api/v1/domains", request_body = NewDomain,
    responses((status = 201, body = SheetView), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(super) async fn enrol(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewDomain>,
) -> Result<(StatusCode, Json<SheetView>), Problem> {
    caller.needs(Role::Operator)?;
    let host = Hostname::parse_for(&new.host, &app.config.platform.zone)
        .map_err(|e| Problem::field("host", e.code(), e))?;
    let token = Token::from_random(rand::random());
    let token_expires_at = Utc::now() + Duration::days(TOKEN_DAYS);
    let enrolment = Enrolment { host: &host, site: &new.site, token: &token, token_expires_at };
    app.store.enrol(enrolment).await.map_err(|e| {
        let field = if matches!(e, StoreError::Missing { .. }) { "site" } else { "host" };
        Problem::from(e).at(field)
    })?;
    let record = app.store.domain_named(host.as_str()).await?;
    Ok((StatusCode::CREATED, Json(sheet_view(&app, &record))))
}

async fn find(app: &App, caller: &Caller, typed: &str) -> Result<DomainRecord, Problem> {
    caller.needs(Role::Viewer)?;
    Ok(app.store.domain_named(host_in_path(typed)?.as_str()).await?)
}

fn draw(app: &App, record: &DomainRecord) -> Sheet {
    record.domain.sheet(&app.config.platform, &record.domain.zone)
}

fn sheet_view(app: &App, record: &DomainRecord) -> SheetView {
    SheetView { sheet: draw(app, record), token_expires_at: record.token_expires_at }
}

/// Everything about a domain: gates, sheet beside what was read, findings.
#[utoipa::path(get, path = "/api/v1/domains/{host}", params(("host" = String, Path, description = "The domain")),
    responses((status = 200, body = DomainDetail), (status = 404, body = Problem)))]
pub(super) async fn domain(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(host): Path<String>,
) -> Result<Json<DomainDetail>, Problem> {
    let record = find(&app, &caller, &host).await?;
    let findings = app.store.findings(record.id).await?;
    let held = app.store.certificate(record.id).await?;
    let order = app.store.order_state(record.id).await?;
    let sheet = draw(&app, &record);
    let judge = |line| match &record.survey {
        Some(survey) => verdict::judge(&sheet, line, survey),
        None => Vec::new(),
    };
    let lines =
        sheet.lines.iter().map(|line| JudgedLine { line: line.clone(), cells: judge(line) }).collect();
    let domain = record.domain;
    Ok(Json(DomainDetail {
        host: domain.host.to_string(),
        shown: domain.host.to_unicode(),
        account: record.account,
        site: domain.site,
        default_host: record.default_host,
        stage: domain.gates.stage().to_string(),
        gates: domain.gates,
        zone: sheet.zone.clone(),
        lines,
        findings: findings.into_iter().map(open_finding).collect(),
        spread: record.spread,
        token_expires_at: record.token_expires_at,
        enrolled_at: domain.enrolled_at,
        looked_at: record.looked_at,
        next_look: record.next_look,
        certificate: held.map(|h| h.facts),
        refusal: match order {
            OrderState::Refused { problem, .. } => Some(problem),
            _ => None,
        },
    }))
}

fn open_finding(row: FindingRow) -> OpenFinding {
    OpenFinding { finding: row.finding, first_seen: row.first_seen, last_seen: row.last_seen }
}

/// What the customer must publish.
#[utoipa::path(get, path = "/api/v1/domains/{host}/sheet",
    params(("host" = String, Path, description = "The domain")),
    responses((status = 200, body = SheetView), (status = 404, body = Problem)))]
pub(super) async fn sheet(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(host): Path<String>,
) -> Result<Json<SheetView>, Problem> {
    let record = find(&app, &caller, &host).await?;
    Ok(Json(sheet_view(&app, &record)))
}

/// The latest survey: every answer of every server.
#[utoipa::path(get, path = "/api/v1/domains/{host}/survey",
    params(("host" = String, Path, description = "The domain")),
    responses((status = 200, body = SurveyView), (status = 404, body = Problem)))]
pub(super) async fn survey(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(host): Path<String>,
) -> Result<Json<SurveyView>, Problem> {
    let record = find(&app, &caller, &host).await?;
    Ok(Json(SurveyView { survey: record.survey, next_look: record.next_look }))
}

/// Asks for a look now; it comes within moments, and the events tell.
#[utoipa::path(post, path = "/api/v1/domains/{host}/survey",
    params(("host" = String, Path, description = "The domain")),
    responses((status = 202), (status = 404, body = Problem)))]
pub(super) async fn look(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(host): Path<String>,
) -> Result<StatusCode, Problem> {
    caller.needs(Role::Operator)?;
    app.store.look_now(host_in_path(&host)?.as_str()).await?;
    Ok(StatusCode::ACCEPTED)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_next_page_keeps_the_filter_and_is_safely_written() {
        let query = RosterQuery {
            stage: Some("live".into()),
            text: Some("a b&c=\u{e4}".into()),
            ..RosterQuery::default()
        };
        let link = next_link(&query, "w1.onswick.example", 50).expect("a link");
        assert_eq!(
            link.to_str().expect("text"),
            "</api/v1/domains?after=w1.onswick.example&limit=50&stage=live&text=a%20b%26c%3D%C3%A4>; rel=\"next\""
        );
    }
}

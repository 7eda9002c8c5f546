//! Domains: taking in, listing, and everything about one.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use chrono::{DateTime, Duration, Utc};
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::judge::evidence::{Evidence, OrderState};
use nomenta_core::judge::finding::{Case, Edit};
use nomenta_core::judge::gate::Stage;
use nomenta_core::judge::todo;
use nomenta_core::judge::verdict;
use nomenta_core::judge::waiting::{self, Wait};
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::rendering;
use nomenta_store::{
    DomainRecord, FindingRow, NewDomain as Enrolment, RosterFilter, RosterRow, SpreadRow, StoreError,
};
use serde::Serialize;
use serde::de::DeserializeOwned;

use super::dto::{
    BaselineView, DomainDetail, JudgedLine, NewDomain, OpenFinding, PairedSheet, RevealQuery, RosterLine,
    RosterQuery, SheetView, SpreadPoint, StageCount, SurveyView,
};
use super::registry::host_in_path;
use crate::App;
use crate::access::Caller;
use crate::look as looking;
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
    let mut link = format!("/api/v1/domains?after={after}&limit={limit}");
    for (name, value) in [("stage", &query.stage), ("account", &query.account), ("text", &query.text)] {
        if let Some(value) = value {
            link.push_str(&format!("&{name}={}", encode(value)));
        }
    }
    HeaderValue::from_str(&format!("<{link}>; rel=\"next\"")).map_err(|e| Problem::internal(e.to_string()))
}

/// A value as it may stand in a query.
pub(super) fn encode(value: &str) -> String {
    value.bytes().map(percent).collect()
}

/// RFC 3986, section 2.1.
fn percent(byte: u8) -> String {
    match byte {
        b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => char::from(byte).to_string(),
        other => format!("%{other:02X}"),
    }
}

/// A recorded host in its own script.
pub(super) fn shown(host: &str) -> String {
    Subject::parse(host).map_or_else(|_| host.to_owned(), |subject| subject.to_unicode())
}

fn roster_line(row: RosterRow) -> Result<RosterLine, Problem> {
    let shown = shown(&row.host);
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
    let subject = Subject::parse_for(&new.host, &app.config.platform.zone)
        .map_err(|e| Problem::field("host", e.code(), e))?;
    let tokens = [(); 2].map(|()| Token::from_random(rand::random()));
    let token_expires_at = token_end();
    let enrolment = |subject, index: usize| Enrolment {
        subject,
        site: &new.site,
        token: &tokens[index],
        token_expires_at,
    };
    let enrolled = match new.pair.then(|| counterpart(&subject)).transpose()? {
        Some(other) => app.store.enrol_pair(enrolment(&subject, 0), enrolment(&other, 1)).await,
        None => app.store.enrol(enrolment(&subject, 0)).await,
    };
    enrolled.map_err(|e| {
        let field = if matches!(e, StoreError::Missing { .. }) { "site" } else { "host" };
        Problem::from(e).at(field)
    })?;
    let record = with_form(&app, app.store.domain_named(&subject.to_string()).await?);
    Ok((StatusCode::CREATED, Json(sheet_view(&app, &record).await?)))
}

fn counterpart(subject: &Subject) -> Result<Subject, Problem> {
    if subject.wildcard {
        let message = "A wildcard has no pair. Take the names in one by one.";
        return Err(Problem::field("pair", "wildcard", message));
    }
    let host = subject.host.counterpart().map_err(|e| Problem::field("pair", e.code(), e))?;
    Ok(Subject { host, wildcard: false })
}

fn token_end() -> DateTime<Utc> {
    Utc::now() + Duration::days(TOKEN_DAYS)
}

pub(super) async fn find(app: &App, caller: &Caller, typed: &str) -> Result<DomainRecord, Problem> {
    caller.needs(Role::Viewer)?;
    Ok(with_form(app, app.store.domain_named(&host_in_path(typed)?).await?))
}

/// Fills in how the customer's DNS editor wants lines typed, by the name
/// servers that the latest survey found.
fn with_form(app: &App, mut record: DomainRecord) -> DomainRecord {
    record.domain.form = record.survey.as_ref().and_then(|survey| looking::form(app, survey));
    record
}

fn draw(app: &App, record: &DomainRecord) -> Sheet {
    record.domain.sheet(&app.config.platform, &record.domain.zone)
}

async fn sheet_view(app: &App, record: &DomainRecord) -> Result<SheetView, Problem> {
    let pair = paired(app, record).await?;
    let pair = pair.map(|(is_primary, sheet, _)| PairedSheet { is_primary, sheet });
    Ok(SheetView { sheet: draw(app, record), token_expires_at: record.domain.token_expires_at, pair })
}

/// The other domain of the pair: whether it is the primary, its sheet and its
/// token.
async fn paired(app: &App, record: &DomainRecord) -> Result<Option<(bool, Sheet, Token)>, Problem> {
    let Some(pair) = &record.domain.pair else { return Ok(None) };
    let other = with_form(app, app.store.domain_named(&pair.other).await?);
    Ok(Some((!pair.is_primary, draw(app, &other), other.domain.token)))
}

/// An answer in which tokens are masked unless they were asked for.
pub(super) fn masked<'a, T: Serialize + DeserializeOwned>(
    value: T,
    tokens: impl IntoIterator<Item = &'a Token>,
    caller: &Caller,
    query: &RevealQuery,
) -> Result<Json<T>, Problem> {
    if query.reveal {
        caller.needs(Role::Operator)?;
        return Ok(Json(value));
    }
    let text = serde_json::to_string(&value).map_err(|e| Problem::internal(e.to_string()))?;
    let text = tokens.into_iter().fold(text, |text, token| token.mask_in(&text));
    let value = serde_json::from_str(&text).map_err(|e| Problem::internal(e.to_string()))?;
    Ok(Json(value))
}

/// Everything about a domain: gates, sheet beside what was read, findings.
#[utoipa::path(get, path = "/api/v1/domains/{host}",
    params(("host" = String, Path, description = "The domain"), RevealQuery),
    responses((status = 200, body = DomainDetail), (status = 404, body = Problem)))]
pub(super) async fn domain(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(host): Path<String>,
    Params(query): Params<RevealQuery>,
) -> Result<Json<DomainDetail>, Problem> {
    let record = find(&app, &caller, &host).await?;
    let findings = app.store.findings(record.id).await?;
    let held = app.store.certificate(record.id).await?;
    let order = app.store.order_state(record.id).await?;
    let spreads = app.store.spreads(record.id).await?;
    let sheet = draw(&app, &record);
    let judge = |line| match &record.survey {
        Some(survey) => verdict::judge(&sheet, line, survey),
        None => Vec::new(),
    };
    let lines =
        sheet.lines.iter().map(|line| JudgedLine { line: line.clone(), cells: judge(line) }).collect();
    let (todo, waits) = judged(&app, &record, &sheet, &findings);
    let domain = record.domain;
    let tokens = [&[domain.token.clone()][..], &domain.superseded].concat();
    let detail = DomainDetail {
        host: domain.routed(),
        shown: domain.subject().to_unicode(),
        account: record.account,
        site: domain.site,
        default_host: record.default_host,
        stage: record.released_at.map_or_else(|| domain.gates.stage(), |_| Stage::Released).to_string(),
        gates: domain.gates,
        pair: domain.pair,
        zone: sheet.zone.clone(),
        lines,
        findings: findings.into_iter().map(open_finding).collect(),
        todo,
        form: domain.form,
        waits,
        spread: record.spread,
        spreads: spreads.into_iter().map(spread_point).collect(),
        token_expires_at: domain.token_expires_at,
        enrolled_at: domain.enrolled_at,
        looked_at: record.looked_at,
        next_look: record.next_look,
        certificate: held.map(|h| h.facts),
        refusal: match order {
            OrderState::Refused { problem, .. } => Some(problem),
            _ => None,
        },
    };
    masked(detail, &tokens, &caller, &query)
}

/// The customer's list and the vantages' waits, from the latest survey.
fn judged(
    app: &App,
    record: &DomainRecord,
    sheet: &Sheet,
    findings: &[FindingRow],
) -> (Vec<Edit>, Vec<Wait>) {
    let Some(survey) = &record.survey else { return (Vec::new(), Vec::new()) };
    let (evidence, config) = (Evidence::default(), &app.config);
    let case = Case {
        domain: &record.domain,
        platform: &config.platform,
        sheet,
        survey,
        evidence: &evidence,
        policy: &config.policy,
        now: Utc::now(),
    };
    let findings: Vec<_> = findings.iter().map(|row| row.finding.clone()).collect();
    (todo::list(&case, &findings), waiting::waits(&case))
}

fn spread_point(row: SpreadRow) -> SpreadPoint {
    SpreadPoint { at: row.at, seeing: row.seeing, asked: row.asked }
}

fn open_finding(row: FindingRow) -> OpenFinding {
    OpenFinding { finding: row.finding, first_seen: row.first_seen, last_seen: row.last_seen }
}

/// What the customer must publish: as JSON, or by `Accept` as plain text,
/// Markdown, CSV or lines of a master file (`text/dns`, RFC 4027), which are
/// for handing over and show the token.
#[utoipa::path(get, path = "/api/v1/domains/{host}/sheet",
    params(("host" = String, Path, description = "The domain"), RevealQuery),
    responses((status = 200, body = SheetView), (status = 404, body = Problem)))]
pub(super) async fn sheet(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(host): Path<String>,
    Params(query): Params<RevealQuery>,
    headers: HeaderMap,
) -> Result<Response, Problem> {
    let record = find(&app, &caller, &host).await?;
    let accept = headers.get(header::ACCEPT).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let known = RENDERINGS.iter().find(|(kind, _)| accept.split([',', ';']).any(|a| a.trim() == *kind));
    if let Some((kind, render)) = known {
        caller.needs(Role::Operator)?;
        let kind = format!("{kind}; charset=utf-8");
        let mut sheets = vec![draw(&app, &record)];
        sheets.extend(paired(&app, &record).await?.map(|(_, sheet, _)| sheet));
        return Ok(([(header::CONTENT_TYPE, kind)], render(&sheets)).into_response());
    }
    let other = paired(&app, &record).await?.map(|(_, _, token)| token);
    let tokens = other.iter().chain([&record.domain.token]);
    Ok(masked(sheet_view(&app, &record).await?, tokens, &caller, &query)?.into_response())
}

type Render = fn(&[Sheet]) -> String;

/// Renderings of the sheet by media type.
const RENDERINGS: [(&str, Render); 4] = [
    ("text/plain", rendering::plain),
    ("text/markdown", rendering::markdown),
    ("text/csv", rendering::csv),
    ("text/dns", rendering::zone),
];

/// Gives the domain a new token; the answer is the new sheet.
#[utoipa::path(post, path = "/api/v1/domains/{host}/token",
    params(("host" = String, Path, description = "The domain")),
    responses((status = 200, body = SheetView), (status = 404, body = Problem)))]
pub(super) async fn rotate(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(host): Path<String>,
) -> Result<Json<SheetView>, Problem> {
    caller.needs(Role::Operator)?;
    let token = Token::from_random(rand::random());
    app.store.rotate_token(&host_in_path(&host)?, &token, token_end()).await?;
    Ok(Json(sheet_view(&app, &find(&app, &caller, &host).await?).await?))
}

/// The customer's records as they were at enrolment, beside those of now,
/// which are read while the caller waits.
#[utoipa::path(get, path = "/api/v1/domains/{host}/baseline",
    params(("host" = String, Path, description = "The domain")),
    responses((status = 200, body = BaselineView), (status = 404, body = Problem)))]
pub(super) async fn baseline(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(host): Path<String>,
) -> Result<Json<BaselineView>, Problem> {
    let record = find(&app, &caller, &host).await?;
    let target = record.domain.target(&app.config.platform);
    let now = app.surveyor.baseline(&target).await;
    let compared = match (&record.baseline, &now) {
        (Some(then), Some(now)) => then.compare(now),
        _ => Vec::new(),
    };
    let zone_lines = record.baseline.as_ref().map(Baseline::zone_lines).unwrap_or_default();
    let view = BaselineView { baseline: record.baseline, compared, zone_lines };
    masked(view, [&record.domain.token], &caller, &RevealQuery::default())
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
    app.store.look_now(&host_in_path(&host)?).await?;
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

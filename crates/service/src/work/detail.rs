//! Everything about a domain, put together for whoever asks.

use chrono::Utc;
use nomenta_api::domain::{DomainDetail, Ended, LookalikeView, OpenFinding, Shows, SpreadPoint};
use nomenta_api::view::{DomainView, JudgedLine, NoLook};
use nomenta_core::judge::case::Case;
use nomenta_core::judge::edit::Edit;
use nomenta_core::judge::evidence::Evidence;
use nomenta_core::judge::gate::Stage;
use nomenta_core::judge::todo;
use nomenta_core::judge::verdict;
use nomenta_core::judge::waiting::{self, Wait};
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::form::Form;
use nomenta_core::sheet::line::Line;
use nomenta_store::{DomainRecord, FindingRow, SpreadRow, Whose};

use crate::App;
use crate::learning;
use crate::look as looking;
use crate::problem::Refusal;
use crate::shown::{hidden, mask_of_others};

/// How the customer's DNS editor wants lines typed, by the name servers that the
/// latest survey found.
fn form(app: &App, record: &DomainRecord) -> Option<Form> {
    looking::form(app, record.survey.as_ref()?)
}

/// What the customer must publish.
pub(crate) fn draw(app: &App, record: &DomainRecord) -> Sheet {
    record.domain.sheet(&app.config.platform, &record.domain.zone, form(app, record).as_ref())
}

/// Everything about a domain as its customer may know it: its own token is there to be typed, and
/// nothing of anybody else's.
pub(crate) async fn customer_detail(app: &App, record: DomainRecord) -> Result<DomainDetail, Refusal> {
    let open = app.calls.findings(&Whose::NOBODYS, record.id).await?;
    let others = mask_of_others(&record);
    hidden(detail(app, record, open).await?, &others)
}

/// Everything about a domain, tokens and all.
pub(crate) async fn detail(
    app: &App,
    record: DomainRecord,
    open: Vec<FindingRow>,
) -> Result<DomainDetail, Refusal> {
    let sheet = draw(app, &record);
    let held = app.calls.certificate(record.id).await?;
    let refusal = app.calls.refusal(record.id).await?;
    let spreads = app.calls.spreads(record.id).await?;
    let operator = learning::of(app, &record).await?;
    let registration = app.calls.registration(record.domain.host.registered()).await?;

    let lines: Vec<_> = sheet.lines.iter().map(|line| judged_line(&record, &sheet, line)).collect();
    let Judged { todo, waits } = judged(app, &record, &open);
    let findings: Vec<_> = open.iter().map(|row| &row.finding).collect();
    let mut view = DomainView::of(&record.domain.gates, &lines, &findings, &todo);
    view.no_look = no_look(&record).map(|why| why.to_string());

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
        operator,
        waits,
        spread: record.spread,
        spreads: spreads.into_iter().map(spread_point).collect(),
        token_expires_at: domain.token_expires_at,
        registration: registration.and_then(|row| row.told),
        enrolled_at: domain.enrolled_at,
        looked_at: record.looked_at,
        next_look: record.next_look,
        certificate: held.map(|held| held.facts),
        refusal,
        view,
    })
}

/// Why no next look comes, where none does.
fn no_look(record: &DomainRecord) -> Option<NoLook> {
    match record.next_look {
        Some(_) => None,
        None if record.ended.is_some() => Some(NoLook::Over),
        None if record.suspended_at.is_some() => Some(NoLook::Suspended),
        None => record.paused_at.map(|_| NoLook::Paused),
    }
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

/// The customer's list, by the latest survey.
pub(crate) async fn todo(app: &App, record: &DomainRecord) -> Result<Vec<Edit>, Refusal> {
    let open = app.calls.findings(&Whose::NOBODYS, record.id).await?;
    Ok(judged(app, record, &open).todo)
}

fn spread_point(row: SpreadRow) -> SpreadPoint {
    SpreadPoint { at: row.at, seeing: row.seeing, asked: row.asked }
}

fn open_finding(row: FindingRow) -> OpenFinding {
    OpenFinding { finding: row.finding, first_seen: row.first_seen, last_seen: row.last_seen }
}

//! `enrol`, `sheet`, `baseline`, `survey`, `explain`, `roster` and `history`.

use std::time::Duration;

use chrono::{DateTime, Utc};
use nomenta_api::domain::{
    BaselineView, Counts, CountsQuery, DomainDetail, NewDomain, RosterLine, RosterQuery, SheetView,
    SurveyView,
};
use nomenta_api::event::CloudEvent;
use nomenta_core::name::subject::Subject;
use reqwest::Method;
use serde_json::{Value, json};
use tokio::time::{Instant, sleep};

use crate::Done;
use crate::args::{EnrolOptions, RosterOptions, Shape, SheetOptions, SurveyOptions};
use crate::client::Client;
use crate::follow;
use crate::render::{event_line, explain, listing, sheet, shown};

/// Lines asked for at once.
const PAGE: i64 = 500;

pub(crate) async fn enrol(client: &Client, shape: Shape, options: EnrolOptions) -> anyhow::Result<Done> {
    let new =
        NewDomain { host: options.host, site: options.site, pair: options.pair, by_zone: options.by_zone };
    let view: SheetView = client.post("domains", &new).await?;
    shown(shape, &view, || sheet::print(&view))?;
    follow::wait(client, &view.sheet.routed, &options.waiting).await
}

pub(crate) async fn show_sheet(client: &Client, shape: Shape, options: SheetOptions) -> anyhow::Result<Done> {
    let SheetOptions { host, reveal, rotate } = options;
    if rotate {
        let _: SheetView = client.post(&path(&host, "/token"), &json!({})).await?;
    }

    let accept = match shape {
        Shape::Text => "text/plain",
        Shape::Markdown => "text/markdown",
        Shape::Csv => "text/csv",
        Shape::Zone => "text/dns",
        Shape::Json | Shape::Table | Shape::Lines => {
            let view: SheetView = client.get(&path(&host, &format!("/sheet?reveal={reveal}"))).await?;
            return shown(shape, &view, || sheet::print(&view));
        }
    };

    print!("{}", client.text(&path(&host, "/sheet"), accept).await?);
    Ok(Done::Yes)
}

pub(crate) async fn baseline(client: &Client, shape: Shape, host: &str) -> anyhow::Result<Done> {
    let view: BaselineView = client.get(&path(host, "/baseline")).await?;
    match shape {
        Shape::Zone => {
            print!("{}", view.zone_lines);
            Ok(Done::Yes)
        }
        other => shown(other, &view, || sheet::print_baseline(&view)),
    }
}

pub(crate) async fn survey(client: &Client, shape: Shape, options: SurveyOptions) -> anyhow::Result<Done> {
    let SurveyOptions { host, waiting } = options;
    let view = look(client, &host).await?;

    let done = follow::wait(client, &encoded(&host), &waiting).await?;
    let view = if waiting.until.is_some() { client.get(&path(&host, "/survey")).await? } else { view };
    shown(shape, &view, || explain::print_survey(&view))?;
    Ok(done)
}

/// Asks for a look, and waits until it has been made.
async fn look(client: &Client, host: &str) -> anyhow::Result<SurveyView> {
    let before: SurveyView = client.get(&path(host, "/survey")).await?;
    client.ask(Method::POST, &path(host, "/survey")).await?;

    let deadline = Instant::now() + Duration::from_secs(60);
    loop {
        let now: SurveyView = client.get(&path(host, "/survey")).await?;
        if made_at(&now) != made_at(&before) {
            return Ok(now);
        }

        anyhow::ensure!(Instant::now() < deadline, "The look was not made within 60 s. Is a worker running?");
        sleep(Duration::from_millis(150)).await;
    }
}

fn made_at(view: &SurveyView) -> Option<DateTime<Utc>> {
    view.survey.as_ref().map(|survey| survey.at)
}

pub(crate) async fn tell(client: &Client, shape: Shape, host: &str, reveal: bool) -> anyhow::Result<Done> {
    let detail: DomainDetail = client.get(&path(host, &format!("?reveal={reveal}"))).await?;
    shown(shape, &detail, || explain::print(&detail))
}

pub(crate) async fn roster(client: &Client, shape: Shape, options: RosterOptions) -> anyhow::Result<Done> {
    if options.counts {
        let account = client.account().map(str::to_owned);
        let counts: Counts = client.get_with("counts", &CountsQuery { account }).await?;
        return shown(shape, &counts, || explain::print_counts(&counts));
    }

    let most = options.most.unwrap_or(usize::MAX);
    let query = RosterQuery {
        sort: Some(options.sort.to_string()),
        descending: options.descending,
        limit: Some(i64::try_from(most).unwrap_or(PAGE).clamp(1, PAGE)),
        ..options.filter.query(client.account())
    };
    let lines: Vec<RosterLine> = client.pages("domains", &query, most).await?;
    listing(shape, &lines, ["DOMAIN", "ACCOUNT", "GATES", "STAGE", "FINDINGS", "FOR"], explain::roster_line)
}

pub(crate) async fn history(client: &Client, shape: Shape, host: &str) -> anyhow::Result<Done> {
    let mut events: Vec<CloudEvent> = Vec::new();
    loop {
        let after = events.last().map_or(0, |event| event.sequence);
        let page: Vec<CloudEvent> = client.get(&format!("{}?after={after}", path(host, "/events"))).await?;
        if page.is_empty() {
            break;
        }
        events.extend(page);
    }

    shown(shape, &events, || events.iter().for_each(|event| println!("{}", event_line(event))))
}

pub(super) fn path(host: &str, rest: &str) -> String {
    format!("domains/{}{rest}", encoded(host))
}

/// A host as it may stand in a path, whatever was pasted: the service gives
/// the same answer to a bad one as to a bad one typed in a form.
fn encoded(host: &str) -> String {
    match Subject::parse(host) {
        Ok(subject) => subject.to_string(),
        Err(_) => Value::from(host).to_string().bytes().map(|byte| format!("%{byte:02X}")).collect(),
    }
}

//! `bulk` and `job`.

use std::io::{self, IsTerminal, Write};
use std::time::Duration;

use anyhow::bail;
use nomenta_api::job::{ItemResult, ItemsQuery, Job, JobItem, JobPreview, JobState, JobsQuery, NewJob};
use reqwest::Method;
use serde_json::json;
use tokio::time::sleep;
use uuid::Uuid;

use crate::Done;
use crate::args::{BulkVerb, JobVerb, Shape};
use crate::client::Client;
use crate::render::{listing, moment, progress, shown};

/// How often a job is looked at that is waited for.
const LOOKED_AT: Duration = Duration::from_millis(300);
/// Lines asked for at once.
const PAGE: i64 = 500;
/// Names that are said of a job's domains.
const FIRST: usize = 5;

pub(crate) async fn bulk(client: &Client, shape: Shape, verb: BulkVerb) -> anyhow::Result<Done> {
    let (act, options) = verb.parts();
    let new = NewJob { act, domains: options.filter.selection(client.account()) };
    let preview: JobPreview = client.post("jobs/preview", &new).await?;

    if !options.yes {
        shown(shape, &preview, || print_preview(&new, &preview))?;
        if shape != Shape::Table || preview.changes == 0 || !is_wanted()? {
            eprintln!("Nothing was done. Give --yes to do it.");
            return Ok(Done::Yes);
        }
    }

    let job: Job = client.post("jobs", &new).await?;
    if options.leave {
        return shown(shape, &job, || println!("Begun as job {}.", job.id));
    }
    let job = follow(client, job.id).await?;
    told(client, shape, &job).await
}

/// Asks whoever sits at the terminal.
pub(super) fn is_wanted() -> anyhow::Result<bool> {
    if !(io::stdin().is_terminal() && io::stderr().is_terminal()) {
        return Ok(false);
    }
    eprint!("Do it? Type yes: ");
    io::stderr().flush()?;
    let mut line = String::new();
    io::stdin().read_line(&mut line)?;
    Ok(line.trim().eq_ignore_ascii_case("yes"))
}

fn print_preview(new: &NewJob, preview: &JobPreview) {
    let more = if preview.is_more { " or more" } else { "" };
    let which = match new.domains.words() {
        words if words.is_empty() => "the whole roster".to_owned(),
        words => words.join(", "),
    };
    println!("To {}: {}{more} domains ({which}).", new.act.words(), preview.total);

    let parts = [
        (preview.changes, "would be changed"),
        (preview.nothing, "are so already"),
        (preview.refused, "cannot be, as they stand"),
    ];
    for (count, words) in parts.into_iter().filter(|(count, _)| *count > 0) {
        println!("  {count} {words}");
    }
    let stages: Vec<_> = preview.stages.iter().map(|one| format!("{} at {}", one.count, one.stage)).collect();
    if !stages.is_empty() {
        println!("  {}", stages.join(", "));
    }
    let first: Vec<_> = preview.first.iter().take(FIRST).map(ToString::to_string).collect();
    if !first.is_empty() {
        println!("  first by name: {}", first.join(", "));
    }
}

pub(crate) async fn run(client: &Client, shape: Shape, verb: JobVerb) -> anyhow::Result<Done> {
    match verb {
        JobVerb::List => {
            let query = JobsQuery { limit: Some(PAGE), ..JobsQuery::default() };
            let rows: Vec<Job> = client.pages("jobs", &query, usize::MAX).await?;
            listing(shape, &rows, ["JOB", "BEGUN", "BY", "WHAT", "DOMAINS", "STATE"], |job| {
                [
                    job.id.to_string(),
                    moment(job.created_at),
                    job.by.clone().unwrap_or_default(),
                    job.act.words(),
                    format!("{} of {}", job.done(), job.total),
                    job.state.to_string(),
                ]
            })
        }
        JobVerb::Show { id, result } => show(client, shape, id, result).await,
        JobVerb::Follow { id } => {
            let job = follow(client, id).await?;
            told(client, shape, &job).await
        }
        JobVerb::Stop { id } => {
            let job: Job = client.call(Method::DELETE, &format!("jobs/{id}")).await?;
            shown(shape, &job, || println!("{}", sentence(&job)))
        }
    }
}

async fn show(client: &Client, shape: Shape, id: Uuid, result: Option<ItemResult>) -> anyhow::Result<Done> {
    let job: Job = client.get(&format!("jobs/{id}")).await?;
    let items = items(client, id, result).await?;
    if shape == Shape::Json {
        return shown(shape, &json!({ "job": job, "domains": items }), || {});
    }
    if shape == Shape::Table {
        println!("{}\n", sentence(&job));
    }
    listing(shape, &items, ["DOMAIN", "RESULT", "BECAUSE"], |item| {
        let result = item.result.map(|result| result.to_string()).unwrap_or_else(|| "not yet".into());
        [item.host.to_string(), result, item.because.clone().unwrap_or_default()]
    })
}

async fn items(client: &Client, id: Uuid, result: Option<ItemResult>) -> anyhow::Result<Vec<JobItem>> {
    let query =
        ItemsQuery { result: result.map(|result| result.to_string()), after: None, limit: Some(PAGE) };
    client.pages(&format!("jobs/{id}/domains"), &query, usize::MAX).await
}

/// Waits until a job has ended, showing how far it has come.
async fn follow(client: &Client, id: Uuid) -> anyhow::Result<Job> {
    let bar = progress("domains");
    loop {
        let job: Job = client.get(&format!("jobs/{id}")).await?;
        bar.set_length(u64::try_from(job.total)?);
        bar.set_position(u64::try_from(job.done())?);
        if job.ended_at.is_some() {
            bar.finish_and_clear();
            return Ok(job);
        }
        sleep(LOOKED_AT).await;
    }
}

/// Says what a job has done, and to which domains it could not be done.
async fn told(client: &Client, shape: Shape, job: &Job) -> anyhow::Result<Done> {
    shown(shape, job, || println!("{}", sentence(job)))?;
    if job.refused == 0 {
        return Ok(Done::Yes);
    }
    for item in items(client, job.id, Some(ItemResult::Refused)).await? {
        eprintln!("{}: {}", item.host, item.because.unwrap_or_default());
    }
    bail!("For {} of {} domains it could not be done.", job.refused, job.total)
}

fn sentence(job: &Job) -> String {
    let state = match job.state {
        JobState::Gathering => "its domains are gathered",
        JobState::Running => "under way",
        JobState::Stopped => "stopped",
        JobState::Done => "done",
    };
    format!(
        "To {}: {state}. Of {} domains {} were changed, {} were so already, {} could not be.",
        job.act.words(),
        job.total,
        job.changed,
        job.unchanged,
        job.refused
    )
}

//! Jobs: bulk work over part of the roster.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use nomenta_api::job::{Act, ItemResult, ItemsQuery, Job, JobItem, JobPreview, JobsQuery, NewJob, Outlook};
use nomenta_api::problem::{FieldCode, Problem};
use nomenta_api::role::Role;
use nomenta_store::{ItemRow, Place, RosterFilter};
use uuid::Uuid;

use super::paging::{self, Cursor};
use super::roster;
use crate::App;
use crate::access::Caller;
use crate::jobs::MOST_COUNTED;
use crate::problem::{Body, Named, Params, Refusal};
use crate::reach::Reach;
use crate::shown::Shown;

/// Names that a preview shows.
const FIRST: i64 = 10;

/// What is asked for, once it is known that the caller may do it.
async fn read(app: &App, caller: &Caller, new: &NewJob) -> Result<(Reach, RosterFilter), Refusal> {
    let asked = new.domains.query();
    if let Act::Move { site } = &new.act {
        let site = caller.reach(app, Role::Operator)?.site(site).await;
        site.map_err(|error| Refusal::of_record(error, "site"))?;
    }
    let reach = caller.part(app, Role::Operator, asked.account.as_deref()).await?;
    Ok((reach, roster::filter(&asked)?))
}

/// What a job would do, and to how many domains. Nothing is changed.
#[utoipa::path(post, path = "/api/v1/jobs/preview", request_body = NewJob,
    responses((status = 200, body = JobPreview), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn preview(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewJob>,
) -> Result<Shown<JobPreview>, Refusal> {
    let (reach, filter) = read(&app, &caller, &new).await?;
    let counted = reach.selected(&filter, MOST_COUNTED).await?;
    let first = reach.first(&filter, FIRST).await?;

    let of = |outlook| {
        let alike = counted.iter().filter(|one| new.act.outlook(one.of) == outlook);
        alike.map(|one| one.count).sum()
    };
    let total = counted.iter().map(|one| one.count).sum();
    let mut stages = roster::by_stage(&counted);
    stages.retain(|one| one.count > 0);
    Ok(Shown::plain(JobPreview {
        total,
        is_more: total >= MOST_COUNTED,
        changes: of(Outlook::Changes),
        nothing: of(Outlook::Nothing),
        refused: of(Outlook::Refused),
        stages,
        first: first.into_iter().map(|row| row.host.into()).collect(),
    }))
}

/// Begins a job; it goes on by itself, over every restart, until it is done or stopped.
#[utoipa::path(post, path = "/api/v1/jobs", request_body = NewJob,
    responses((status = 202, body = Job), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn begin(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewJob>,
) -> Result<(StatusCode, Shown<Job>), Refusal> {
    let (reach, filter) = read(&app, &caller, &new).await?;
    let job = reach.begin_job(&new.act, &new.domains, &filter).await?;
    Ok((StatusCode::ACCEPTED, Shown::plain(job)))
}

/// Jobs, newest first, a page at a time; the `Link` header leads to the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/jobs", params(JobsQuery),
    responses((status = 200, body = [Job]), (status = 422, body = Problem)))]
pub(super) async fn jobs(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<JobsQuery>,
) -> Result<(HeaderMap, Shown<Vec<Job>>), Refusal> {
    let reach = caller.reach(&app, Role::Viewer)?;
    let limit = paging::limit(query.limit)?;
    let rows = reach.jobs(query.after, limit + 1).await?;
    let place = |job: &Job| job.id.to_string();
    let (headers, rows) = paging::page(rows, limit, "jobs", place, &paging::asked(&query)?)?;
    Ok((headers, Shown::plain(rows)))
}

/// One job, and how far it has come.
#[utoipa::path(get, path = "/api/v1/jobs/{id}", params(("id" = Uuid, Path, description = "The job")),
    responses((status = 200, body = Job), (status = 404, body = Problem)))]
pub(super) async fn one(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<Shown<Job>, Refusal> {
    Ok(Shown::plain(caller.reach(&app, Role::Viewer)?.job(id).await?))
}

/// Stops a job. What it has done to some domains stays done.
#[utoipa::path(delete, path = "/api/v1/jobs/{id}", params(("id" = Uuid, Path, description = "The job")),
    responses((status = 200, body = Job), (status = 404, body = Problem)))]
pub(super) async fn stop(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<Shown<Job>, Refusal> {
    Ok(Shown::plain(caller.reach(&app, Role::Operator)?.stop_job(id).await?))
}

/// What a job did to each domain, by name, a page at a time; the `Link` header leads to the
/// next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/jobs/{id}/domains",
    params(("id" = Uuid, Path, description = "The job"), ItemsQuery),
    responses((status = 200, body = [JobItem]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn items(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
    Params(query): Params<ItemsQuery>,
) -> Result<(HeaderMap, Shown<Vec<JobItem>>), Refusal> {
    let reach = caller.reach(&app, Role::Viewer)?;
    let job = reach.job(id).await?;
    let limit = paging::limit(query.limit)?;
    let result = query.result.as_deref().map(str::parse::<ItemResult>).transpose();
    let result = result.map_err(|unknown| Refusal::field("result", FieldCode::UnknownWord, unknown))?;
    let after = query.after.as_deref().map(Place::read).transpose()?;

    let rows = reach.job_items(&job, result, after.as_ref(), limit + 1).await?;
    let place = |row: &ItemRow| Place::after(row.host.clone(), row.domain_id).written();
    let path = format!("jobs/{id}/domains");
    let (headers, rows) = paging::page(rows, limit, &path, place, &paging::asked(&query)?)?;
    Ok((headers, Shown::plain(rows.into_iter().map(item_of).collect())))
}

fn item_of(row: ItemRow) -> JobItem {
    JobItem { host: row.host.into(), result: row.result, because: row.because, done_at: row.done_at }
}

//! Jobs: bulk work over part of the roster.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use nomenta_api::job::{Act, ItemResult, ItemsQuery, Job, JobItem, JobPreview, JobsQuery, NewJob, Outlook};
use nomenta_api::problem::{FieldCode, Problem};
use nomenta_api::role::Role;
use nomenta_store::{ItemRow, Order, Place, RosterFilter};
use uuid::Uuid;

use super::accounts::site_for;
use super::paging::{self, Cursor};
use super::roster;
use crate::App;
use crate::access::Caller;
use crate::jobs::MOST_COUNTED;
use crate::problem::{Body, Named, Params, Refusal};

/// Names that a preview shows.
const FIRST: i64 = 10;

/// What is asked for, once it is known that the caller may do it.
async fn read(app: &App, caller: &Caller, new: &NewJob) -> Result<RosterFilter, Refusal> {
    caller.needs(Role::Operator)?;
    if let Act::Move { site } = &new.act {
        site_for(app, caller, site).await.map_err(|error| Refusal::of_record(error, "site"))?;
    }
    roster::filter(app, caller, &new.domains.query()).await
}

/// What a job would do, and to how many domains. Nothing is changed.
#[utoipa::path(post, path = "/api/v1/jobs/preview", request_body = NewJob,
    responses((status = 200, body = JobPreview), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn preview(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewJob>,
) -> Result<Json<JobPreview>, Refusal> {
    let filter = read(&app, &caller, &new).await?;
    let counted = app.calls.selected(&filter, MOST_COUNTED).await?;
    let first = app.calls.roster(&filter, &Order::default(), FIRST).await?;

    let of = |outlook| {
        let alike = counted.iter().filter(|one| new.act.outlook(one.of) == outlook);
        alike.map(|one| one.count).sum()
    };
    let total = counted.iter().map(|one| one.count).sum();
    let mut stages = roster::by_stage(&counted);
    stages.retain(|one| one.count > 0);
    Ok(Json(JobPreview {
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
) -> Result<(StatusCode, Json<Job>), Refusal> {
    let filter = read(&app, &caller, &new).await?;
    let job = nomenta_store::NewJob { act: &new.act, asked: &new.domains, filter: &filter };
    let id = caller.records(&app).begin_job(job).await?;
    Ok((StatusCode::ACCEPTED, Json(app.calls.job(&caller.whose(), id).await?)))
}

/// Jobs, newest first, a page at a time; the `Link` header leads to the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/jobs", params(JobsQuery),
    responses((status = 200, body = [Job]), (status = 422, body = Problem)))]
pub(super) async fn jobs(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<JobsQuery>,
) -> Result<(HeaderMap, Json<Vec<Job>>), Refusal> {
    caller.needs(Role::Viewer)?;
    let limit = paging::limit(query.limit)?;
    let rows = app.calls.jobs(&caller.whose(), query.after, limit + 1).await?;
    let place = |job: &Job| job.id.to_string();
    let (headers, rows) = paging::page(rows, limit, "jobs", place, &paging::asked(&query)?)?;
    Ok((headers, Json(rows)))
}

/// One job, and how far it has come.
#[utoipa::path(get, path = "/api/v1/jobs/{id}", params(("id" = Uuid, Path, description = "The job")),
    responses((status = 200, body = Job), (status = 404, body = Problem)))]
pub(super) async fn one(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<Json<Job>, Refusal> {
    caller.needs(Role::Viewer)?;
    Ok(Json(app.calls.job(&caller.whose(), id).await?))
}

/// Stops a job. What it has done to some domains stays done.
#[utoipa::path(delete, path = "/api/v1/jobs/{id}", params(("id" = Uuid, Path, description = "The job")),
    responses((status = 200, body = Job), (status = 404, body = Problem)))]
pub(super) async fn stop(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<Json<Job>, Refusal> {
    caller.needs(Role::Operator)?;
    caller.records(&app).stop_job(&caller.whose(), id).await?;
    Ok(Json(app.calls.job(&caller.whose(), id).await?))
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
) -> Result<(HeaderMap, Json<Vec<JobItem>>), Refusal> {
    caller.needs(Role::Viewer)?;
    app.calls.job(&caller.whose(), id).await?;
    let limit = paging::limit(query.limit)?;
    let result = query.result.as_deref().map(str::parse::<ItemResult>).transpose();
    let result = result.map_err(|unknown| Refusal::field("result", FieldCode::UnknownWord, unknown))?;
    let after = query.after.as_deref().map(Place::read).transpose()?;

    let rows = app.calls.job_items(id, result, after.as_ref(), limit + 1).await?;
    let place = |row: &ItemRow| Place::after(row.host.clone(), row.domain_id).written();
    let path = format!("jobs/{id}/domains");
    let (headers, rows) = paging::page(rows, limit, &path, place, &paging::asked(&query)?)?;
    Ok((headers, Json(rows.into_iter().map(item_of).collect())))
}

fn item_of(row: ItemRow) -> JobItem {
    JobItem { host: row.host.into(), result: row.result, because: row.because, done_at: row.done_at }
}

//! Who is told what happens, and what came of it.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use chrono::{TimeDelta, Utc};
use nomenta_api::handoff::Language;
use nomenta_api::notice::{
    DeliveriesQuery, Delivery, DeliveryState, MadeHook, Means, NewHook, NewRecipient, PreviewQuery, Receiver,
    ReceiversQuery, Redelivered, Redelivery, WrittenMail,
};
use nomenta_api::problem::{FieldCode, Problem, ProblemKind};
use nomenta_api::role::Role;
use nomenta_core::notice::NoticeKind;
use nomenta_store::{DeliveryFilter, DeliveryRow, NewReceiver, ReceiverRow};
use uuid::Uuid;

use super::paging;
use super::registry::Created;
use crate::App;
use crate::access::Caller;
use crate::notices::{self, HOOK_SECRET, Reader, UNASKED};
use crate::problem::{Body, Named, Params, Refusal};
use crate::reach::Reach;
use crate::shown::Shown;

/// For how long calls are signed with the former secret too.
const OVERLAP: TimeDelta = TimeDelta::hours(24);
/// Strangers who are written to for an account by keys that do not open every account.
const MOST_MAILED: i64 = 50;
pub(super) const MAILED_WITHIN: TimeDelta = TimeDelta::days(1);
/// Things that a sample mail tells at most.
const MOST_SAMPLES: usize = 100;

/// Has a system of the platform called when something happens; the secret that calls are signed
/// with is shown this once.
#[utoipa::path(post, path = "/api/v1/hooks", request_body = NewHook,
    responses((status = 201, body = MadeHook), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add_hook(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewHook>,
) -> Result<Created<MadeHook>, Refusal> {
    let reach = tells(&app, &caller, new.account.as_deref()).await?;
    app.notices
        .vetted(&new.url)
        .map_err(|what| Refusal::field("url", FieldCode::Form, format!("{what}.")))?;

    let secret = notices::new_secret();
    let receiver = NewReceiver {
        way: Means::Hook,
        target: &new.url,
        account: new.account.as_deref(),
        domain_id: None,
        kinds: &new.kinds,
        language: None,
        quiet: None,
        sealed: Some(&app.sealer.seal(HOOK_SECRET, secret.as_bytes())),
        sealed_link: None,
        handoff_id: None,
        reader: None,
        is_unconfirmed: false,
    };
    let id = reach.add_receiver(receiver).await?.id();
    Ok((StatusCode::CREATED, Shown::secret(MadeHook { id, secret, former_until: None }, &caller)?))
}

/// Hooks, newest first, a page at a time; the `Link` header leads to the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/hooks", params(ReceiversQuery),
    responses((status = 200, body = [Receiver]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn hooks(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<ReceiversQuery>,
) -> Result<(HeaderMap, Shown<Vec<Receiver>>), Refusal> {
    listed(&app, &caller, Means::Hook, "hooks", &query).await
}

/// Gives a hook another secret. For a day its calls are signed with the former one too.
#[utoipa::path(post, path = "/api/v1/hooks/{id}/rotation", params(("id" = Uuid, Path, description = "The hook")),
    responses((status = 200, body = MadeHook), (status = 404, body = Problem)))]
pub(super) async fn rotate(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<Shown<MadeHook>, Refusal> {
    let reach = caller.reach(&app, Role::Admin)?;
    let secret = notices::new_secret();
    let until = Utc::now() + OVERLAP;
    let sealed = app.sealer.seal(HOOK_SECRET, secret.as_bytes());
    reach.rotate_secret(id, &sealed, until).await?;
    Shown::secret(MadeHook { id, secret, former_until: Some(until) }, &caller)
}

/// Calls a hook no more; what was to be told is forgotten.
#[utoipa::path(delete, path = "/api/v1/hooks/{id}", params(("id" = Uuid, Path, description = "The hook")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn remove_hook(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<StatusCode, Refusal> {
    caller.reach(&app, Role::Admin)?.end_receiver(id, "removed").await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Has somebody written to when something happens.
#[utoipa::path(post, path = "/api/v1/recipients", request_body = NewRecipient,
    responses((status = 201, body = Receiver), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(super) async fn add_recipient(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(new): Body<NewRecipient>,
) -> Result<Created<Receiver>, Refusal> {
    let reach = tells(&app, &caller, new.account.as_deref()).await?;
    if !app.notices.has_mail() {
        let detail = "This service sends no mail. Give it a server: serve --mail-server.";
        return Err(Refusal::conflict(ProblemKind::Unavailable, detail));
    }
    let address = mail_address("address", &new.address)?;
    // Whoever runs the platform is believed that somebody wants to be told; others' are asked.
    let asked_for = new.account.as_deref().filter(|_| caller.is_narrow());
    if asked_for.is_some() {
        may_mail(reach.mailed_within(MAILED_WITHIN).await?)?;
    }

    let reader = Reader::new(&app);
    let receiver = NewReceiver {
        way: Means::Mail,
        target: &address,
        account: new.account.as_deref(),
        domain_id: None,
        kinds: &new.kinds,
        language: new.language,
        quiet: new.quiet,
        sealed: None,
        sealed_link: None,
        handoff_id: None,
        reader: Some(reader.kept()),
        is_unconfirmed: asked_for.is_some(),
    };
    let made = reach.add_receiver(receiver).await?;
    if let Some(account) = asked_for {
        let language = new.language.unwrap_or(app.config.reception.language);
        if let Err(error) = app.notices.ask(&app, made.id(), &reader, &address, account, language).await {
            reach.end_receiver(made.id(), UNASKED).await?;
            let detail = format!("The mail to {address} was not taken, so nobody is told: {error}.");
            return Err(Refusal::conflict(ProblemKind::Unavailable, detail));
        }
    }
    let added = app.done(|| async { Ok(reach.added_receiver(made).await?) }).await?;
    Ok((StatusCode::CREATED, Shown::plain(receiver_of(added))))
}

/// Whoever is written to, newest first, a page at a time; the `Link` header leads to the next
/// (RFC 8288).
#[utoipa::path(get, path = "/api/v1/recipients", params(ReceiversQuery),
    responses((status = 200, body = [Receiver]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn recipients(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<ReceiversQuery>,
) -> Result<(HeaderMap, Shown<Vec<Receiver>>), Refusal> {
    listed(&app, &caller, Means::Mail, "recipients", &query).await
}

/// Writes to somebody no more.
#[utoipa::path(delete, path = "/api/v1/recipients/{id}", params(("id" = Uuid, Path, description = "The recipient")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn remove_recipient(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<StatusCode, Refusal> {
    caller.reach(&app, Role::Operator)?.end_receiver(id, "removed").await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What was told to whom, newest first, a page at a time; the `Link` header leads to the next
/// (RFC 8288).
#[utoipa::path(get, path = "/api/v1/notices", params(DeliveriesQuery),
    responses((status = 200, body = [Delivery]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<DeliveriesQuery>,
) -> Result<(HeaderMap, Shown<Vec<Delivery>>), Refusal> {
    let reach = caller.part(&app, Role::Viewer, query.account.as_deref()).await?;
    let limit = paging::limit(query.limit)?;
    let state = query.state.as_deref().map(str::parse).transpose();
    let state =
        state.map_err(|error| Refusal::field("state", FieldCode::UnknownWord, format!("{error}.")))?;
    let filter =
        DeliveryFilter { state, receiver: query.receiver, after: query.after, ..DeliveryFilter::default() };
    let rows = reach.deliveries(filter, limit + 1).await?;
    let place = |row: &DeliveryRow| row.id.to_string();
    let (headers, rows) = paging::page(rows, limit, "notices", place, &paging::asked(&query)?)?;
    Ok((headers, Shown::plain(rows.into_iter().map(delivery_of).collect())))
}

/// Sends a notice again that nobody took.
#[utoipa::path(post, path = "/api/v1/notices/{id}/redelivery", params(("id" = Uuid, Path, description = "The notice")),
    responses((status = 202, body = Redelivered), (status = 404, body = Problem)))]
pub(super) async fn redeliver(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<(StatusCode, Shown<Redelivered>), Refusal> {
    let count = caller.reach(&app, Role::Operator)?.redeliver(Some(id), None).await?;
    match count {
        0 => Err(Refusal::not_found("There is no such notice that nobody took.")),
        count => Ok((StatusCode::ACCEPTED, Shown::plain(Redelivered { count }))),
    }
}

/// Sends everything again that a receiver did not take.
#[utoipa::path(post, path = "/api/v1/notices/redelivery", request_body = Redelivery,
    responses((status = 202, body = Redelivered), (status = 422, body = Problem)))]
pub(super) async fn redeliver_all(
    State(app): State<Arc<App>>,
    caller: Caller,
    Body(asked): Body<Redelivery>,
) -> Result<(StatusCode, Shown<Redelivered>), Refusal> {
    let count = caller.bulk(&app, Role::Operator)?.redeliver(None, Some(asked.receiver)).await?;
    Ok((StatusCode::ACCEPTED, Shown::plain(Redelivered { count })))
}

/// A mail as it would be written, with the templates that are in force.
#[utoipa::path(get, path = "/api/v1/notices/preview", params(PreviewQuery),
    responses((status = 200, body = WrittenMail), (status = 422, body = Problem)))]
pub(super) async fn preview(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<PreviewQuery>,
) -> Result<Shown<WrittenMail>, Refusal> {
    caller.needs(Role::Viewer)?;
    let word =
        |field: &str, error: String| Refusal::field(field, FieldCode::UnknownWord, format!("{error}."));
    let kind: NoticeKind = query.kind.parse().map_err(|error| word("kind", format!("{error}")))?;
    let language = query.language.as_deref().map(str::parse::<Language>).transpose();
    let language = language.map_err(|error| word("language", error.to_string()))?.unwrap_or_default();
    let count = query.count.unwrap_or(1);
    if !(1..=MOST_SAMPLES).contains(&count) {
        let message = format!("A sample tells of 1 to {MOST_SAMPLES} things.");
        return Err(Refusal::field("count", FieldCode::OutOfRange, message));
    }
    let written = app.notices.sample(&app, &notices::samples(kind, count), language);
    Ok(Shown::plain(written.map_err(|error| Refusal::internal(error.to_string()))?))
}

/// A field as an address that a mail can be sent to.
pub(super) fn mail_address(field: &str, address: &str) -> Result<String, Refusal> {
    notices::checked(address).map_err(|error| {
        let message = format!("{address} is no mail address: {error}.");
        Refusal::field(field, FieldCode::Form, message)
    })
}

/// Whether one more stranger may be written to for an account, by somebody who runs a part of it.
pub(super) fn may_mail(mailed: i64) -> Result<(), Refusal> {
    if mailed < MOST_MAILED {
        return Ok(());
    }
    metrics::counter!("nomenta_mails_refused_total").increment(1);
    Err(Refusal::too_many_mails(MOST_MAILED))
}

/// Whoever changes what is told of every account is an admin of all of them.
async fn tells(app: &App, caller: &Caller, account: Option<&str>) -> Result<Reach, Refusal> {
    match account {
        Some(_) => caller.part(app, Role::Operator, account).await,
        None => Ok(caller.whole(app, Role::Admin)?.reach()),
    }
}

async fn listed(
    app: &App,
    caller: &Caller,
    way: Means,
    path: &str,
    query: &ReceiversQuery,
) -> Result<(HeaderMap, Shown<Vec<Receiver>>), Refusal> {
    let reach = caller.part(app, Role::Viewer, query.account.as_deref()).await?;
    let limit = paging::limit(query.limit)?;
    let rows = reach.receivers(way, query.after, limit + 1).await?;
    let place = |row: &ReceiverRow| row.id.to_string();
    let (headers, rows) = paging::page(rows, limit, path, place, &paging::asked(query)?)?;
    Ok((headers, Shown::plain(rows.into_iter().map(receiver_of).collect())))
}

fn receiver_of(row: ReceiverRow) -> Receiver {
    Receiver {
        id: row.id,
        way: row.way,
        target: row.target,
        account: row.account,
        host: row.host,
        kinds: row.kinds,
        language: row.language,
        quiet: row.quiet,
        created_at: row.created_at,
        is_unconfirmed: !row.is_confirmed,
        ended_at: row.ended_at,
        because: row.because,
        failures: row.failures,
        last_error: row.last_error,
    }
}

fn delivery_of(row: DeliveryRow) -> Delivery {
    Delivery {
        id: row.id,
        event_id: row.event_id,
        way: row.way,
        target: row.target,
        host: row.host,
        kind: row.kind,
        at: row.at,
        state: row.state,
        due: (row.state == DeliveryState::Due).then_some(row.due),
        tries: row.tries,
        last_error: row.last_error,
        ended_at: row.ended_at,
    }
}

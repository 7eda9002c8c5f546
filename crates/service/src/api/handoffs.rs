//! Handoff links: made, listed and taken back by whoever runs the onboarding, and read by
//! whoever holds one.

use std::sync::Arc;

use anyhow::Context;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use chrono::{TimeDelta, Utc};
use nomenta_api::domain::ClaimQuery;
use nomenta_api::handoff::{
    Handoff, HandoffView, HandoffsQuery, Language, MadeHandoff, NewHandoff, OfferQuery, Offered,
    OneClickOffer, OneClickTemplates, ShowQuery,
};
use nomenta_api::problem::{Problem, ProblemKind};
use nomenta_api::role::Role;
use nomenta_core::one_click::apply::key_texts;
use nomenta_core::one_click::template::{Shape, Template};
use nomenta_store::{HandoffFilter, HandoffRow};
use uuid::Uuid;

use super::access::{Asked, find};
use super::notices::{MAILED_WITHIN, mail_address, may_mail};
use super::paging;
use super::registry::Created;
use crate::App;
use crate::access::{self, Caller};
use crate::guest::{self, Bearer, Guest};
use crate::handoff;
use crate::negotiation;
use crate::one_click::{self, Way};
use crate::problem::{Body, Named, Params, Refusal};
use crate::shown::Shown;

/// Days for which a link shows anything, if nothing else is asked for.
const USUAL_DAYS: u32 = 30;
const JSON: &str = "application/json";
const MARKDOWN: &str = "text/markdown";

/// Makes a link by which the customer sees what to do, and how it goes; it is shown this once.
#[utoipa::path(post, path = "/api/v1/domains/{host}/handoffs", request_body = NewHandoff,
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 201, body = MadeHandoff), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 422, body = Problem)))]
pub(super) async fn add(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    Body(new): Body<NewHandoff>,
) -> Result<Created<MadeHandoff>, Refusal> {
    let found = find(&app, &caller, &asked).await?;
    caller.needs(Role::Operator)?;

    let secret = guest::secret();
    let expires_at = Utc::now() + TimeDelta::days(new.days.unwrap_or(USUAL_DAYS).into());
    let link = nomenta_store::NewHandoff {
        domain_id: found.id,
        is_for_zone: new.whole_zone,
        language: new.language,
        hash: &access::hash(&secret),
        hint: &access::hint(&secret),
        expires_at,
        is_mailed: new.mail_to.is_some(),
    };
    if new.mail_to.is_some() && caller.is_narrow() {
        may_mail(found.mailed_within(MAILED_WITHIN).await?)?;
    }
    let mailed_to = new.mail_to.as_deref().map(|address| mail_address("mail_to", address)).transpose()?;
    let id = found.add_handoff(&caller, link).await?;

    let link = format!("{}/handoff/{secret}", app.config.reception.public_url);
    if let Some(address) = &mailed_to
        && let Err(error) = hand_over(&app, &secret, &link, address).await
    {
        // Nobody has it, so nobody misses it.
        found.revoke_handoff(id).await?;
        let detail = format!("The mail to {address} was not taken, so no link was made: {error}.");
        return Err(Refusal::conflict(ProblemKind::Unavailable, detail));
    }
    let made = MadeHandoff { id, link, secret, expires_at, mailed_to };
    Ok((StatusCode::CREATED, Shown::secret(made, &caller)?))
}

/// Sends what a link shows to whom it is for.
async fn hand_over(app: &App, secret: &str, link: &str, address: &str) -> anyhow::Result<()> {
    let guest = Guest::known(app, secret).await?.context("The link is gone already")?;
    let language = guest.language(app, None, &HeaderMap::new());
    let shown = async {
        let state = handoff::changed(app, &guest, language, None, None).await?;
        handoff::view(app, &guest, language, &state).await
    };
    let view = shown.await.map_err(|refusal: Refusal| anyhow::anyhow!("{}", refusal.problem.detail))?;
    Ok(app.notices.hand_over(&view, address, link).await?)
}

/// Links, newest first, a page at a time; the `Link` header leads to the next (RFC 8288).
#[utoipa::path(get, path = "/api/v1/handoffs", params(HandoffsQuery),
    responses((status = 200, body = [Handoff]), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn list(
    State(app): State<Arc<App>>,
    caller: Caller,
    Params(query): Params<HandoffsQuery>,
) -> Result<(HeaderMap, Shown<Vec<Handoff>>), Refusal> {
    let reach = caller.part(&app, Role::Viewer, query.account.as_deref()).await?;
    let limit = paging::limit(query.limit)?;
    let host = query.host.as_deref().map(str::to_lowercase);
    let filter = HandoffFilter { host: host.as_deref(), after: query.after, ..HandoffFilter::default() };

    let rows = reach.handoffs(filter, limit + 1).await?;
    let place = |link: &HandoffRow| link.id.to_string();
    let (headers, rows) = paging::page(rows, limit, "handoffs", place, &paging::asked(&query)?)?;
    Ok((headers, Shown::plain(rows.into_iter().map(handoff_of).collect())))
}

fn handoff_of(row: HandoffRow) -> Handoff {
    Handoff {
        id: row.id,
        account: row.account,
        host: row.host,
        zone: row.zone,
        language: row.language,
        hint: row.hint,
        created_at: row.created_at,
        expires_at: row.expires_at,
        opened_at: row.opened_at,
        revoked_at: row.revoked_at,
    }
}

/// Makes a link show nothing from now on, wherever it is open.
#[utoipa::path(delete, path = "/api/v1/handoffs/{id}", params(("id" = Uuid, Path, description = "The link")),
    responses((status = 204), (status = 404, body = Problem)))]
pub(super) async fn revoke(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(id): Named<Uuid>,
) -> Result<StatusCode, Refusal> {
    caller.reach(&app, Role::Operator)?.revoke_handoff(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What a link shows, for a platform's own pages: the link's secret is the bearer token. With
/// `If-None-Match` and `wait`, answers as soon as that changes, or with 304 when the time is
/// up. As Markdown for a ticket, by `Accept`.
#[utoipa::path(get, path = "/api/v1/handoff", params(ShowQuery), security(("link" = [])),
    responses(
        (status = 200, content((HandoffView = "application/json"), (String = "text/markdown"))),
        (status = 304), (status = 406, body = Problem)))]
pub(super) async fn show(
    State(app): State<Arc<App>>,
    guest: Guest,
    headers: HeaderMap,
    Params(query): Params<ShowQuery>,
) -> Result<Response, Refusal> {
    let kind = negotiation::wanted(&headers, &[JSON, MARKDOWN])?.to_owned();
    let language = guest.language(&app, query.language.as_deref(), &headers);

    let known = headers.get(header::IF_NONE_MATCH);
    let state = handoff::changed(&app, &guest, language, known, query.wait).await?;
    let about = [(header::ETAG, state.tag.clone()), (header::VARY, VARY)];
    if known == Some(&state.tag) {
        return Ok((StatusCode::NOT_MODIFIED, about).into_response());
    }

    let view = handoff::view(&app, &guest, language, &state).await?;
    if kind == MARKDOWN {
        let kind = [(header::CONTENT_TYPE, "text/markdown; charset=utf-8")];
        return Ok((about, kind, view.markdown()).into_response());
    }
    Ok((about, Shown::to_guest(view, &guest)).into_response())
}

/// What the answer hangs on beside the path.
const VARY: header::HeaderValue = header::HeaderValue::from_static("Accept, Accept-Language, Authorization");

/// Whether what a link shows can be set up in one click at the operator of its DNS (Domain
/// Connect), and where.
#[utoipa::path(get, path = "/api/v1/handoff/one-click", params(OfferQuery), security(("link" = [])),
    responses((status = 200, body = OneClickOffer)))]
pub(super) async fn offer(
    State(app): State<Arc<App>>,
    guest: Guest,
    headers: HeaderMap,
    bearer: Bearer,
    Params(query): Params<OfferQuery>,
) -> Result<(AppendHeaders<[(header::HeaderName, String); 1]>, Shown<OneClickOffer>), Refusal> {
    let language = guest.language(&app, query.language.as_deref(), &headers);
    let record = handoff::shown(&app, &guest, query.host.as_deref()).await?;

    let redirect = format!("{}/handoff/returned", app.config.reception.public_url);
    let way = Way::of(&bearer.0, &headers, app.config.is_by_https());
    let offered = one_click::offered(&app, &record, &redirect, &way.state).await;
    // Why it is not to be had is nothing that a customer can mend.
    let offer = OneClickOffer::of(Offered { because: None, ..offered }, language);
    Ok((AppendHeaders([(header::SET_COOKIE, way.cookie)]), Shown::to_guest(offer, &guest)))
}

/// Whether a domain can be set up in one click at the operator of its DNS (Domain Connect), and
/// if not, why.
#[utoipa::path(get, path = "/api/v1/domains/{host}/one-click",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = OneClickOffer), (status = 404, body = Problem)))]
pub(super) async fn offer_for(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
) -> Result<Shown<OneClickOffer>, Refusal> {
    let record = find(&app, &caller, &asked).await?;
    let offered = one_click::offered(&app, &record, "", "").await;
    Ok(Shown::without_link(OneClickOffer::of(offered, Language::English)))
}

/// What a DNS operator is given, so that its customers can set domains up in one click: the
/// templates of an ingress in the format of the Domain Connect protocol, and the public key.
#[utoipa::path(get, path = "/api/v1/ingresses/{name}/one-click",
    params(("name" = String, Path, description = "The ingress")),
    responses((status = 200, body = OneClickTemplates), (status = 404, body = Problem)))]
pub(super) async fn templates(
    State(app): State<Arc<App>>,
    caller: Caller,
    Named(name): Named<String>,
) -> Result<Shown<OneClickTemplates>, Refusal> {
    let ingress = caller.reach(&app, Role::Viewer)?.ingress(&name).await?.ingress;
    let one_click = app.config.one_click.as_ref().ok_or_else(|| {
        Refusal::not_found(
            "This service signs nothing for DNS operators. Give it a key: serve --one-click-key.",
        )
    })?;

    let platform = &app.config.platform;
    let of = |shape: &Shape| Template::of(&ingress, *shape, platform, &one_click.provider);
    Ok(Shown::plain(OneClickTemplates {
        templates: Shape::ALL.iter().map(of).collect(),
        key_name: one_click.key_name(),
        key_texts: key_texts(one_click.signer.public_key()),
    }))
}

/// Asks for a look at what a link shows; it comes within moments. Once in half a minute.
#[utoipa::path(post, path = "/api/v1/handoff/look", security(("link" = [])),
    responses((status = 202), (status = 429, body = Problem)))]
pub(super) async fn look(State(app): State<Arc<App>>, guest: Guest) -> Result<StatusCode, Refusal> {
    handoff::look(&app, &guest).await?;
    Ok(StatusCode::ACCEPTED)
}

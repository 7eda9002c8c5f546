//! The API under `/api/v1`, and its OpenAPI document.

// A call takes as much room as the largest of its steps for as long as it waits, and thousands may:
// what needs more than the threshold in `clippy.toml` is boxed, and let go once it is done.
#![deny(clippy::large_futures)]

mod access;
mod accounts;
mod audit;
mod certificates;
mod contests;
mod document;
mod domains;
mod edge;
mod events;
mod handoffs;
mod intake;
mod jobs;
mod lives;
mod notices;
mod operations;
mod operators;
mod paging;
mod publications;
mod registry;
mod rehearsals;
mod roster;
mod session;
mod sheets;

use std::panic::resume_unwind;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::{DefaultBodyLimit, MatchedPath, Request, State};
use axum::http::{HeaderName, HeaderValue, Method, StatusCode, header};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use nomenta_api::domain::RosterSort;
use tower::util::option_layer;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::cors::CorsLayer;
use tower_http::set_header::SetResponseHeaderLayer;
use tower_http::trace::TraceLayer;
use tracing::Span;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::App;
use crate::admission::admit;
use crate::answers;
use crate::console;
use crate::described;
use crate::guest::Reception;
use crate::handoff_page;
use crate::key_page;
use crate::peer;
use crate::problem::{PROBLEM, Refusal};
use crate::told_page;

/// The form of what is told as it happens.
pub(crate) const EVENT_STREAM: &str = "text/event-stream";
/// For how long a browser that was here by HTTPS comes by nothing else: a year (RFC 6797).
const HTTPS_ALONE: &str = "max-age=31536000";
/// How long a browser remembers what other origins may do.
const PREFLIGHT: Duration = Duration::from_secs(3600);

#[derive(OpenApi)]
#[openapi(
    info(title = "Nomenta", description = "Custom-domain onboarding: sheets, surveys, findings, gates."),
    // What stands in parameters alone.
    components(schemas(RosterSort)),
    security(("key" = []))
)]
struct Document;

fn calls() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(rehearsals::rehearse))
        .routes(routes!(intake::intake))
        .routes(routes!(jobs::jobs, jobs::begin))
        .routes(routes!(jobs::preview))
        .routes(routes!(jobs::one, jobs::stop))
        .routes(routes!(jobs::items))
        .routes(routes!(audit::audit))
        .routes(routes!(session::sessions))
        .routes(routes!(session::end))
        .routes(routes!(accounts::accounts, accounts::add_account))
        .routes(routes!(accounts::account, accounts::change_account))
        .routes(routes!(accounts::suspend, accounts::unsuspend))
        .routes(routes!(accounts::sites, accounts::add_site))
        .routes(routes!(accounts::site, accounts::change_site))
        .routes(routes!(registry::ingresses, registry::add_ingress))
        .routes(routes!(registry::ingress, registry::revise_ingress))
        .routes(routes!(registry::keys, registry::add_key))
        .routes(routes!(registry::revoke_key))
        .routes(routes!(roster::roster, domains::enrol))
        .routes(routes!(roster::counts))
        .routes(routes!(domains::domain, lives::change, lives::release))
        .routes(routes!(lives::pause, lives::resume))
        .routes(routes!(sheets::sheet))
        .routes(routes!(sheets::rotate))
        .routes(routes!(domains::baseline))
        .routes(routes!(domains::survey, domains::look))
        .routes(routes!(domains::wait))
        .routes(routes!(contests::contests))
        .routes(routes!(contests::one))
        .routes(routes!(contests::rule))
        .routes(routes!(certificates::fleet))
        .routes(routes!(certificates::days))
        .routes(routes!(certificates::issuers))
        .routes(routes!(certificates::account))
        .routes(routes!(certificates::change_account_key))
        .routes(routes!(certificates::certificate, certificates::bring))
        .routes(routes!(certificates::chain))
        .routes(routes!(certificates::preflight))
        .routes(routes!(certificates::renew))
        .routes(routes!(certificates::revoke))
        .routes(routes!(events::history))
        .routes(routes!(events::live))
        .routes(routes!(operations::catalogue))
        .routes(routes!(operators::operators))
        .routes(routes!(operators::operator))
        .routes(routes!(session::who, session::sign_in, session::sign_out))
        .routes(routes!(handoffs::list))
        .routes(routes!(handoffs::revoke))
        .routes(routes!(handoffs::add))
        .routes(routes!(handoffs::offer_for))
        .routes(routes!(handoffs::templates))
        .routes(routes!(publications::give_key, publications::key, publications::forget_key))
        .routes(routes!(notices::add_hook, notices::hooks))
        .routes(routes!(notices::rotate))
        .routes(routes!(notices::remove_hook))
        .routes(routes!(notices::add_recipient, notices::recipients))
        .routes(routes!(notices::remove_recipient))
        .routes(routes!(notices::list))
        .routes(routes!(notices::redeliver))
        .routes(routes!(notices::redeliver_all))
        .routes(routes!(notices::preview))
        .routes(routes!(publications::plan))
        .routes(routes!(publications::add, publications::list))
        .routes(routes!(publications::undo))
        .routes(routes!(edge::feed))
        .routes(routes!(edge::changes))
        .routes(routes!(edge::challenge))
}

/// Calls by whoever holds a handoff link, which pages of other origins may make.
fn guests() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(handoffs::show))
        .routes(routes!(handoffs::look))
        .routes(routes!(handoffs::offer))
}

/// The OpenAPI 3.1 document.
pub fn document() -> serde_json::Value {
    document::finished(&calls().merge(guests()).into_openapi())
}

/// Lets pages of the configured origins read what links show.
fn for_other_origins(reception: &Reception) -> CorsLayer {
    let origins = reception.origins.iter().filter_map(|origin| HeaderValue::from_str(origin).ok());
    CorsLayer::new()
        .allow_origin(origins.collect::<Vec<_>>())
        .allow_methods([Method::GET, Method::POST])
        .allow_headers([
            header::ACCEPT,
            header::ACCEPT_LANGUAGE,
            header::AUTHORIZATION,
            header::IF_NONE_MATCH,
        ])
        .expose_headers([header::ETAG, header::RETRY_AFTER])
        .max_age(PREFLIGHT)
}

/// Everything that is served.
pub(crate) fn router(app: Arc<App>) -> Router {
    let (api, _) = calls().split_for_parts();
    let (guests, _) = guests().split_for_parts();
    // Where nothing is done by a method, it is the layer that answers other origins first.
    let guests =
        guests.method_not_allowed_fallback(no_such_method).layer(for_other_origins(&app.config.reception));
    let header = |name: HeaderName, value| {
        SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value))
    };
    // Behind a proxy it is the proxy that says so.
    let https_alone = app.config.tls.as_ref().map(|_| header(header::STRICT_TRANSPORT_SECURITY, HTTPS_ALONE));

    api.merge(guests)
        .route("/handoff/returned", get(handoff_page::returned))
        .route("/handoff/{secret}", get(handoff_page::page))
        .route("/told/{token}", get(told_page::reader).post(told_page::answer))
        .route("/handoff/{secret}/tell", get(told_page::open).post(told_page::ask))
        .route("/handoff/{secret}/key", get(key_page::open).post(key_page::press))
        .route("/api/v1/openapi.json", get(operations::document))
        .route("/healthz", get(operations::healthz))
        .route("/readyz", get(operations::readyz))
        .route("/metrics", get(operations::metrics))
        .route_layer(middleware::from_fn_with_state(app.clone(), answers::keep))
        .route_layer(middleware::from_fn_with_state(app.clone(), check))
        .route_layer(middleware::from_fn_with_state(app.clone(), while_there))
        .fallback(console::serve)
        .method_not_allowed_fallback(no_such_method)
        // A body is read when its call is let in, no larger than that call may have.
        .layer(DefaultBodyLimit::disable())
        .layer(CompressionLayer::new())
        .layer(middleware::from_fn(conduct))
        .layer(CatchPanicLayer::custom(|_| Refusal::internal("A fault of the service.").into_response()))
        .layer(header(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(header(header::REFERRER_POLICY, "no-referrer"))
        .layer(header(
            header::CONTENT_SECURITY_POLICY,
            "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; \
             base-uri 'none'; form-action 'self'",
        ))
        .layer(option_layer(https_alone))
        .layer(TraceLayer::new_for_http().make_span_with(call_span))
        .layer(middleware::from_fn_with_state(app.clone(), peer::behind_proxies))
        .with_state(app)
}

async fn check(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    described::check(&app.described, request, next).await
}

/// Waits for no records that are not to be had. What changes them goes on all the same, and when
/// its caller is gone: it is done or not done, and its answer is kept for whoever repeats it.
async fn while_there(State(app): State<Arc<App>>, request: Request, next: Next) -> Response {
    if request.method().is_safe() {
        return tokio::select! {
            answer = next.run(request) => answer,
            () = app.watchman.away() => Refusal::away().into_response(),
        };
    }

    let admitted = tokio::select! {
        admitted = admit(&app, request) => admitted,
        () = app.watchman.away() => Err(Refusal::away()),
    };
    let (request, turn) = match admitted {
        Ok(admitted) => admitted,
        Err(refusal) => return refusal.into_response(),
    };
    let change = tokio::spawn(async move {
        let answer = next.run(request).await;
        drop(turn);
        answer
    });
    tokio::select! {
        answer = change => answer.unwrap_or_else(|fault| match fault.try_into_panic() {
            Ok(panic) => resume_unwind(panic),
            Err(_) => Refusal::away().into_response(),
        }),
        () = app.watchman.away() => Refusal::away().into_response(),
    }
}

/// What is logged of a call: never its path, in which the secret of a link may be.
fn call_span(request: &Request) -> Span {
    let path = request.extensions().get::<MatchedPath>().map_or("(none)", MatchedPath::as_str);
    tracing::debug_span!("call", method = %request.method(), path)
}

async fn no_such_method(request: Request) -> Refusal {
    Refusal::no_such_method(request.method().as_str(), request.uri().path())
}

/// What holds for every answer of the API: a refusal is a problem document, whoever
/// refuses; what may be secret is not kept by anybody on the way.
async fn conduct(request: Request, next: Next) -> Response {
    let path = request.uri().path().to_owned();
    let response = next.run(request).await;
    let mut response = as_problem(&path, response);
    if path.starts_with("/api/") {
        response.headers_mut().entry(header::CACHE_CONTROL).or_insert(HeaderValue::from_static("no-store"));
    }
    response
}

/// A refusal of something in between, told as all others are.
fn as_problem(path: &str, response: Response) -> Response {
    let status = response.status();
    let kind = response.headers().get(header::CONTENT_TYPE);
    // A page that people open says by itself what they can do.
    let is_told = kind.is_some_and(|kind| kind == PROBLEM || kind == handoff_page::HTML);
    if is_told || !(status.is_client_error() || status.is_server_error()) {
        return response;
    }

    let refusal = match status {
        StatusCode::NOT_FOUND => Refusal::no_such_call(path),
        other => Refusal::of_status(other),
    };
    let allow = response.headers().get(header::ALLOW).cloned();
    let mut told = refusal.into_response();
    if let Some(allow) = allow {
        told.headers_mut().insert(header::ALLOW, allow);
    }
    told
}

//! The API under `/api/v1`, and its OpenAPI document.

mod access;
mod accounts;
mod certificates;
mod contests;
mod domains;
mod edge;
mod events;
mod lives;
mod operations;
mod paging;
mod registry;
mod rehearsals;
mod session;
mod sheets;

use std::sync::Arc;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::http::{HeaderName, HeaderValue, header};
use axum::routing::get;
use tower_http::set_header::SetResponseHeaderLayer;
use tower_http::trace::TraceLayer;
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
use utoipa::{Modify, OpenApi};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::App;
use crate::console;

/// Largest body taken, in octets.
const MOST_BODY: usize = 1 << 20;

#[derive(OpenApi)]
#[openapi(
    info(title = "Nomenta", description = "Custom-domain onboarding: sheets, surveys, findings, gates."),
    modifiers(&BearerKey),
    security(("key" = []))
)]
struct Document;

struct BearerKey;

impl Modify for BearerKey {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        let scheme = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
        document.components.get_or_insert_default().add_security_scheme("key", scheme);
    }
}

fn described() -> OpenApiRouter<Arc<App>> {
    let large = OpenApiRouter::new()
        .routes(routes!(rehearsals::rehearse))
        .layer(DefaultBodyLimit::max(rehearsals::MOST_ZONE));

    OpenApiRouter::with_openapi(Document::openapi())
        .merge(large)
        .routes(routes!(accounts::accounts, accounts::add_account))
        .routes(routes!(accounts::account, accounts::change_account))
        .routes(routes!(accounts::suspend, accounts::unsuspend))
        .routes(routes!(accounts::sites, accounts::add_site))
        .routes(routes!(accounts::change_site))
        .routes(routes!(registry::ingresses, registry::add_ingress))
        .routes(routes!(registry::revise_ingress))
        .routes(routes!(registry::keys, registry::add_key))
        .routes(routes!(registry::revoke_key))
        .routes(routes!(domains::roster, domains::enrol))
        .routes(routes!(domains::stages))
        .routes(routes!(domains::domain, lives::change, lives::release))
        .routes(routes!(lives::pause, lives::resume))
        .routes(routes!(sheets::sheet))
        .routes(routes!(sheets::rotate))
        .routes(routes!(domains::baseline))
        .routes(routes!(domains::survey, domains::look))
        .routes(routes!(contests::contests))
        .routes(routes!(contests::one))
        .routes(routes!(contests::rule))
        .routes(routes!(certificates::fleet))
        .routes(routes!(certificates::days))
        .routes(routes!(certificates::account))
        .routes(routes!(certificates::certificate, certificates::bring))
        .routes(routes!(certificates::chain))
        .routes(routes!(certificates::preflight))
        .routes(routes!(certificates::renew))
        .routes(routes!(certificates::revoke))
        .routes(routes!(events::history))
        .routes(routes!(events::live))
        .routes(routes!(operations::catalogue))
        .routes(routes!(session::who, session::sign_in, session::sign_out))
        .routes(routes!(edge::feed))
        .routes(routes!(edge::changes))
        .routes(routes!(edge::challenge))
}

/// The OpenAPI 3.1 document.
pub fn document() -> utoipa::openapi::OpenApi {
    described().into_openapi()
}

/// Everything that is served.
pub(crate) fn router(app: Arc<App>) -> Router {
    let (api, document) = described().split_for_parts();
    let header = |name: HeaderName, value| {
        SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value))
    };

    api.route("/api/v1/openapi.json", get(move || async { axum::Json(document) }))
        .route("/healthz", get(operations::healthz))
        .route("/readyz", get(operations::readyz))
        .route("/metrics", get(operations::metrics))
        .fallback(console::serve)
        .layer(DefaultBodyLimit::max(MOST_BODY))
        .layer(header(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(header(header::REFERRER_POLICY, "no-referrer"))
        .layer(header(
            header::CONTENT_SECURITY_POLICY,
            "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'",
        ))
        .layer(TraceLayer::new_for_http())
        .with_state(app)
}

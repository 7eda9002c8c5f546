//! Sheets: what the customer must publish, in every shape.

use std::sync::Arc;

use axum::extract::State;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use chrono::Utc;
use nomenta_api::domain::{ClaimQuery, PairedSheet, RevealQuery, SheetView};
use nomenta_api::problem::Problem;
use nomenta_api::role::Role;
use nomenta_core::name::mask::Mask;
use nomenta_core::name::token::Token;
use nomenta_core::sheet::{Sheet, rendering};
use nomenta_store::DomainRecord;

use super::access::{Asked, find, find_open};
use crate::App;
use crate::access::Caller;
use crate::detail::draw;
use crate::negotiation;
use crate::precondition::IfMatch;
use crate::problem::{Params, Refusal};
use crate::reach::Found;
use crate::shown::Shown;
use crate::token_end;

pub(super) async fn sheet_view(app: &App, found: &Found) -> Result<SheetView, Refusal> {
    Ok(view_of(app, found, paired(app, found).await?))
}

fn view_of(app: &App, record: &DomainRecord, other: Option<Paired>) -> SheetView {
    let pair = other.map(|other| PairedSheet { is_primary: other.is_primary, sheet: other.sheet });
    SheetView::new(draw(app, record), record.domain.token_expires_at, pair)
}

/// The other domain of a pair.
struct Paired {
    is_primary: bool,
    sheet: Sheet,
    token: Token,
}

async fn paired(app: &App, found: &Found) -> Result<Option<Paired>, Refusal> {
    let (Some(pair), Some(other)) = (&found.domain.pair, found.paired().await?) else { return Ok(None) };
    Ok(Some(Paired { is_primary: !pair.is_primary, sheet: draw(app, &other), token: other.domain.token }))
}

/// What the customer must publish: as JSON, or by `Accept` as plain text,
/// Markdown, CSV or lines of a master file (`text/dns`, RFC 4027), which are
/// for handing over and show the token.
#[utoipa::path(get, path = "/api/v1/domains/{host}/sheet",
    params(("host" = String, Path, description = "The domain"), ClaimQuery, RevealQuery),
    responses(
        (status = 200, content(
            (SheetView = "application/json"), (String = "text/plain"), (String = "text/markdown"),
            (String = "text/csv"), (String = "text/dns"))),
        (status = 404, body = Problem), (status = 406, body = Problem)))]
pub(super) async fn sheet(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    Params(query): Params<RevealQuery>,
    headers: HeaderMap,
) -> Result<Response, Refusal> {
    let record = find(&app, &caller, &asked).await?;
    let other = paired(&app, &record).await?;

    let kind = negotiation::wanted(&headers, &FORMS)?;
    if let Some((_, render)) = RENDERINGS.iter().find(|(rendered, _)| *rendered == kind) {
        caller.needs(Role::Operator)?;
        let kind = format!("{kind}; charset=utf-8");
        let mut sheets = vec![draw(&app, &record)];
        sheets.extend(other.map(|other| other.sheet));
        let headers = [(header::CONTENT_TYPE, kind), (header::VARY, "Accept".into())];
        return Ok((headers, render(&sheets)).into_response());
    }

    let tokens: Vec<_> =
        other.iter().map(|other| other.token.clone()).chain([record.domain.token.clone()]).collect();
    let view = Shown::as_asked(view_of(&app, &record, other), &Mask::of(&tokens), &caller, &query)?;
    Ok(([(header::VARY, "Accept")], view).into_response())
}

type Render = fn(&[Sheet]) -> String;

/// Forms of the sheet by media type, the usual one first.
const FORMS: [&str; 5] = ["application/json", "text/plain", "text/markdown", "text/csv", "text/dns"];

/// Its renderings.
const RENDERINGS: [(&str, Render); 4] = [
    ("text/plain", rendering::plain),
    ("text/markdown", rendering::markdown),
    ("text/csv", rendering::csv),
    ("text/dns", rendering::zone),
];

/// Gives the domain a new token; the answer is the new sheet.
#[utoipa::path(post, path = "/api/v1/domains/{host}/token",
    params(("host" = String, Path, description = "The domain"), ClaimQuery),
    responses((status = 200, body = SheetView), (status = 404, body = Problem)))]
pub(super) async fn rotate(
    State(app): State<Arc<App>>,
    caller: Caller,
    asked: Asked,
    wanted: IfMatch,
) -> Result<Shown<SheetView>, Refusal> {
    let token = Token::from_random(rand::random());
    let record = find_open(&app, &caller, &asked).await?;
    let renewed = record.rotate_token(&token, token_end(Utc::now()), wanted.0).await?;
    Shown::secret(sheet_view(&app, &renewed).await?, &caller)
}

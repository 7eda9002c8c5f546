//! The page of a handoff link. It is whole without any script: the service writes all of it,
//! and the script of the page only copies, asks, and fetches it anew when something changes.

// For the reason that the API has: thousands of them may wait.
#![deny(clippy::large_futures)]

use std::sync::Arc;

use axum::body::Body;
use axum::extract::rejection::QueryRejection;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Redirect, Response};
use maud::{Markup, html};
use nomenta_api::handoff::{
    BoxKind, BoxView, CustomerDomain, Face, Found, HandoffView, Language, Link, Piece, PlaceView, Post,
    Returned, Row, Said, Step, ended,
};
use serde::Deserialize;

use crate::App;
use crate::console;
use crate::guest::{self, Guest, Reception};
use crate::handoff;
use crate::one_click::Way;
use crate::problem::Refusal;

/// Domains for which one click is asked for at most; each is a question to their operator.
const MOST_OFFERED: usize = 4;
/// The page as it was built, without what is on it.
const TEMPLATE: &str = "handoff.html";
/// Its media type.
pub(crate) const HTML: &str = "text/html; charset=utf-8";

/// What a page is asked for.
#[derive(Clone, Debug, Default, Deserialize)]
pub(crate) struct PageQuery {
    language: Option<String>,
    wait: Option<u64>,
    /// How somebody has come back from their DNS operator.
    returned: Option<Returned>,
}

impl PageQuery {
    /// The language that is asked for.
    pub(crate) fn language(&self) -> Option<&str> {
        self.language.as_deref()
    }
}

/// What a DNS operator sends somebody back with.
#[derive(Clone, Debug, Default, Deserialize)]
pub(crate) struct ReturnQuery {
    state: Option<String>,
    error: Option<String>,
}

/// Leads whoever comes back from their DNS operator to the page of their link.
pub(crate) async fn returned(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
    query: Result<Query<ReturnQuery>, QueryRejection>,
) -> Result<Response, Refusal> {
    let Query(query) = query.unwrap_or_default();
    let is_by_https = app.config.is_by_https();
    let way = query.state.as_deref().and_then(|state| Way::back(state, &headers, is_by_https));
    match way {
        Some((secret, forgotten)) => {
            let how = if query.error.is_some() { Returned::Refused } else { Returned::Done };
            if how == Returned::Done {
                begun(&app, &secret).await;
            }
            let page = Redirect::to(&format!("/handoff/{secret}?returned={how}"));
            Ok((AppendHeaders([(header::SET_COOKIE, forgotten)]), page).into_response())
        }
        None => strayed(&app, &headers),
    }
}

/// The operator has just published what the link is for. Whoever comes back is not kept from
/// their page where that cannot be written down.
async fn begun(app: &App, secret: &str) {
    let written = async {
        if let Some(guest) = Guest::known(app, secret).await? {
            guest.edit_begun(app).await?;
        }
        Ok::<_, Refusal>(())
    };
    if let Err(refusal) = written.await {
        app.repeats.warn("an edit was not timed", &refusal.problem.title);
    }
}

/// A page that shows what a link shows, in a language and a direction.
pub(crate) struct Page<'a> {
    pub language: Language,
    pub face: &'a Face,
    pub title: String,
    pub main: Markup,
}

/// The page of a link; waits for a change like the same call of the API.
pub(crate) async fn page(
    State(app): State<Arc<App>>,
    Path(secret): Path<String>,
    headers: HeaderMap,
    query: Result<Query<PageQuery>, QueryRejection>,
) -> Result<Response, Refusal> {
    let reception = &app.config.reception;
    // A query that cannot be read asks for nothing: a person typed it.
    let Query(query) = query.unwrap_or_default();
    let asked = query.language.as_deref();
    let Some(guest) = Guest::known(&app, &secret).await? else {
        return gone(&app, asked, &headers);
    };

    let language = guest.language(&app, asked, &headers);
    let known = headers.get(header::IF_NONE_MATCH);
    let state = match handoff::changed(&app, &guest, language, known, query.wait).await {
        Ok(state) => state,
        // It was taken back while it was open.
        Err(refusal) if refusal.problem.status == StatusCode::UNAUTHORIZED => {
            return gone(&app, asked, &headers);
        }
        Err(refusal) => return Err(refusal),
    };

    let tag = [(header::ETAG, state.tag.clone())];
    if known == Some(&state.tag) {
        return Ok((StatusCode::NOT_MODIFIED, tag).into_response());
    }
    let view = handoff::view(&app, &guest, language, &state).await?;
    if query.returned == Some(Returned::Done) {
        // Whether one was asked for a moment ago is no matter to whoever comes back.
        let _ = handoff::look(&app, &guest).await;
    }
    let returned = query.returned.map(|returned| returned.said(language));
    let main = main(&view, returned.as_ref(), &secret);
    let page = Page { language, face: &view.face, title: view.title.plain(), main };
    Ok((tag, page.response(StatusCode::OK, reception)?).into_response())
}

/// Of a link that shows nothing, or no more.
pub(crate) fn gone(app: &App, asked: Option<&str>, headers: &HeaderMap) -> Result<Response, Refusal> {
    let language = spoken(app, asked, headers);
    let [heading, what] = ended(language, &app.config.reception.face.name);
    bare(app, language, &heading, Some(&what))
}

/// Of somebody who has come back with what belongs to no link.
fn strayed(app: &App, headers: &HeaderMap) -> Result<Response, Refusal> {
    let language = spoken(app, None, headers);
    bare(app, language, &Returned::Other.said(language), None)
}

pub(crate) fn spoken(app: &App, asked: Option<&str>, headers: &HeaderMap) -> Language {
    guest::known(asked).or_else(|| guest::accepted(headers)).unwrap_or(app.config.reception.language)
}

/// A page that says one thing.
fn bare(app: &App, language: Language, heading: &Said, what: Option<&Said>) -> Result<Response, Refusal> {
    let reception = &app.config.reception;
    let main = html! {
        main #handoff data-ended {
            (masthead(&reception.face))
            h1 { (said(heading)) }
            @if let Some(what) = what {
                p { (said(what)) }
            }
        }
    };
    let page = Page { language, face: &reception.face, title: heading.plain(), main };
    page.response(StatusCode::NOT_FOUND, reception)
}

impl Page<'_> {
    pub(crate) fn response(self, status: StatusCode, reception: &Reception) -> Result<Response, Refusal> {
        let template = console::file(TEMPLATE).ok_or_else(|| {
            Refusal::unavailable("The console was not built into this service, and this page belongs to it.")
        })?;
        let template = String::from_utf8_lossy(&template).into_owned();

        let language = self.language.as_str();
        let direction = self.language.direction();
        let title = html! { title { (self.title) } }.into_string();
        let style = self.face.colour.as_ref().map(|colour| format!("--face: {colour}"));
        let body = html! { body style=[style] { (self.main) } }.into_string();
        let text = template
            .replace("<html>", &format!("<html lang=\"{language}\" dir=\"{direction}\">"))
            .replace("<title></title>", &title)
            .replace("<body></body>", &body);

        let mut response = (status, Body::from(text)).into_response();
        let headers = response.headers_mut();
        for (name, value) in about(reception) {
            headers.insert(
                name,
                HeaderValue::from_str(&value).map_err(|error| Refusal::internal(error.to_string()))?,
            );
        }
        Ok(response)
    }
}

/// What holds for the page whatever is on it: nobody keeps it, nobody lists it, and only the
/// configured origins show it in a frame.
fn about(reception: &Reception) -> [(HeaderName, String); 5] {
    let framed_by =
        if reception.framed_by.is_empty() { "'none'".to_owned() } else { reception.framed_by.join(" ") };
    let policy = format!(
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; base-uri 'none'; \
         form-action 'self'; frame-ancestors {framed_by}"
    );
    [
        (header::CONTENT_TYPE, HTML.into()),
        (header::CACHE_CONTROL, "no-store".into()),
        (header::VARY, "Accept-Language".into()),
        (header::CONTENT_SECURITY_POLICY, policy),
        (HeaderName::from_static("x-robots-tag"), "noindex, nofollow".into()),
    ]
}

fn main(view: &HandoffView, returned: Option<&Said>, secret: &str) -> Markup {
    let labels = &view.labels;
    html! {
        main #handoff data-copied=(labels.copied) data-looking=(labels.looking) data-soon=(labels.look_soon) {
            (masthead(&view.face))
            (languages(view))
            h1 { (said(&view.title)) }
            @if let Some(intro) = &view.intro {
                p.intro { (said(intro)) }
            }
            @if let Some(returned) = returned {
                // With an id, so that no newer page takes it for another paragraph.
                p.returned #returned role="status" { (said(returned)) }
            }
            p.offline #offline role="status" hidden { (labels.offline) }
            noscript { p.offline { (labels.reload) } }
            @for (place, domain) in view.domains.iter().enumerate() {
                (one(view, domain, place < MOST_OFFERED))
            }
            @if let Some(more) = &view.more {
                p { (said(more)) }
            }
            (foot(view, secret))
        }
    }
}

pub(crate) fn masthead(face: &Face) -> Markup {
    html! {
        header.masthead {
            @if let Some(logo) = &face.logo {
                img src=(logo) alt=(face.name) height="32";
            } @else {
                bdi { (face.name) }
            }
        }
    }
}

fn languages(view: &HandoffView) -> Markup {
    html! {
        nav.languages {
            @for one in &view.languages {
                @let is_own = (one.language == view.language).then_some("true");
                a href=(format!("?language={}", one.language)) lang=(one.language) hreflang=(one.language)
                    aria-current=[is_own] { (one.name) }
            }
        }
    }
}

/// A domain; one click is offered for the first few: both of a pair.
fn one(view: &HandoffView, domain: &CustomerDomain, is_offered: bool) -> Markup {
    let labels = &view.labels;
    let id = format!("domain-{}", domain.host.as_str().replace(['.', '*'], "-"));
    html! {
        section.domain #(id) data-standing=(domain.standing) data-host=(domain.host) {
            @if view.domains.len() > 1 {
                p.name { bdi.record dir="ltr" { (domain.shown) } }
            }
            div.standing role="status" {
                h2 { (said(&domain.heading)) }
                @for one in &domain.said {
                    p { (said(one)) }
                }
                @if !domain.looks.is_empty() {
                    p.looks { @for one in &domain.looks { (said(one)) " " } }
                }
                @if let Some(link) = &domain.link {
                    p { (open(link)) }
                }
            }
            (posts(&domain.posts))
            @if !domain.found.is_empty() {
                section.found {
                    h3 { (labels.found) }
                    ul { @for one in &domain.found { (found(one)) } }
                }
            }
            @if !domain.steps.is_empty() {
                @if is_offered {
                    section.one-click #(format!("one-click-{id}")) data-host=(domain.host) hidden {}
                }
                (place(&domain.place, &labels.beware))
            }
            @if let Some(warning) = &domain.warning {
                p.warning { (said(warning)) }
            }
            @if !domain.steps.is_empty() {
                ol.steps { @for (place, one) in domain.steps.iter().enumerate() { (step(view, &id, place, one)) } }
            }
            (rows("done", &labels.done, &domain.done))
            (rows("keep", &labels.keep, &domain.keep))
        }
    }
}

/// The line with its four posts.
fn posts(posts: &[Post]) -> Markup {
    html! {
        ol.posts {
            @for post in posts {
                li data-gate=(post.gate) data-state=(post.state) {
                    span.post aria-hidden="true" {}
                    b { (post.name) }
                    span.word { (post.word) }
                    @if let Some(since) = &post.since {
                        small { (said(since)) }
                    }
                }
            }
        }
    }
}

fn found(found: &Found) -> Markup {
    html! { li data-code=(found.code) data-severity=(found.severity) { (said(&found.said)) } }
}

fn place(place: &PlaceView, beware: &str) -> Markup {
    html! {
        section.place {
            h3 { (said(&place.heading)) }
            p { (said(&place.said)) }
            @if let Some(link) = &place.link {
                p { (open(link)) }
            }
            @for one in &place.usual {
                p.usual { (said(one)) }
            }
            @if !place.beware.is_empty() {
                div.beware {
                    h4 { (beware) }
                    ul { @for one in &place.beware { li data-code=(one.code) { (said(&one.said)) } } }
                }
            }
        }
    }
}

fn open(link: &Link) -> Markup {
    html! { a.open href=(link.url) target="_blank" rel="noopener noreferrer" { (said(&link.said)) } }
}

/// A step; the first is open, and one at a time.
fn step(view: &HandoffView, domain: &str, place: usize, step: &Step) -> Markup {
    // What it is of, so that it stays open when another before it is done.
    let about: Vec<_> =
        step.boxes.iter().filter(|one| one.kind != BoxKind::Ttl).map(|one| one.value.as_str()).collect();
    let id = format!(
        "{domain}-{}-{}",
        step.kind,
        about.join("-").replace(|c: char| !c.is_ascii_alphanumeric(), "-")
    );
    html! {
        li data-edit=(step.kind) {
            details #(id) name=(domain) open[place == 0] {
                summary {
                    span.count { (said(&step.count)) }
                    span.what { (said(&step.heading)) }
                }
                p { (said(&step.why)) }
                @for note in &step.notes {
                    p { (said(note)) }
                }
                dl { @for one in &step.boxes { (edited(view, one)) } }
            }
        }
    }
}

/// A box of the editor, with what goes in.
fn edited(view: &HandoffView, one: &BoxView) -> Markup {
    html! {
        div.box data-box=(one.kind) {
            dt { (one.label) }
            dd {
                @if one.value.is_empty() {
                    span.empty { (view.labels.empty) }
                } @else {
                    bdi.record dir="ltr" { (one.value) }
                }
                @if let Some(copy) = &one.copy {
                    button.copy type="button" data-copy=(one.value) aria-label=(copy) hidden { (view.labels.copy) }
                }
            }
            @if let Some(hint) = &one.hint {
                dd.hint { (said(hint)) }
            }
        }
    }
}

fn rows(kind: &str, heading: &str, rows: &[Row]) -> Markup {
    html! {
        @if !rows.is_empty() {
            section class=(kind) {
                h3 { (heading) }
                ul {
                    @for row in rows {
                        li {
                            bdi.record dir="ltr" { (row.rtype) " " (row.host) }
                            " "
                            bdi.record dir="ltr" { (row.value) }
                        }
                    }
                }
            }
        }
    }
}

fn foot(view: &HandoffView, secret: &str) -> Markup {
    let support = view.face.support.as_deref();
    let href = support.map(|to| if to.contains("://") { to.to_owned() } else { format!("mailto:{to}") });
    html! {
        footer {
            p.tools hidden {
                button #look type="button" { (view.labels.look_again) }
                button #print type="button" { (view.labels.print) }
            }
            p #told role="status" {}
            @if let Some(ask) = &view.ask {
                p { a href=[href] { (said(ask)) } }
            }
            @if let Some(tell_me) = &view.tell_me {
                p { a.tell-me href=(format!("/handoff/{secret}/tell?language={}", view.language)) { (said(tell_me)) } }
            }
            p { a.by-key href=(format!("/handoff/{secret}/key?language={}", view.language)) { (said(&view.by_key)) } }
            p.soft { (said(&view.expires)) }
        }
    }
}

/// A sentence: records and names are kept from turning the line around, and the script tells
/// times by the reader's clock.
pub(crate) fn said(said: &Said) -> Markup {
    html! { @for piece in &said.0 { (part(piece)) } }
}

fn part(piece: &Piece) -> Markup {
    match piece {
        Piece::Text(text) => html! { (text) },
        Piece::Name(name) => html! { bdi { (name) } },
        Piece::Record(record) => html! { bdi.record dir="ltr" { (record) } },
        Piece::Time(at) => html! { time datetime=(at.to_rfc3339()) { (piece.plain()) } },
    }
}

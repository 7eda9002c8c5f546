//! The pages on which somebody asks to be told by mail, says from their mailbox that they want
//! it, and ends it (RFC 8058). They need no script.

use std::sync::Arc;

use anyhow::ensure;
use axum::Form;
use axum::body::Bytes;
use axum::extract::rejection::FormRejection;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use chrono::TimeDelta;
use maud::{Markup, html};
use nomenta_api::handoff::{Language, TellPage};
use nomenta_api::notice::Means;
use nomenta_store::NewReceiver;
use serde::Deserialize;

use crate::App;
use crate::guest::{Guest, Mailbox};
use crate::handoff_page::{Page, PageQuery, gone, masthead, said, spoken};
use crate::notices::{self, LINK, Reader, UNASKED};
use crate::problem::Refusal;

/// How long after one question the next may go to the same address.
const ASKED_WITHIN: TimeDelta = TimeDelta::hours(12);
/// Questions about one domain in that time: whoever has its link cannot have many strangers asked.
const MOST_ASKED: i64 = 5;
/// What the button that says yes sends.
const YES: &[u8] = b"press=yes";
/// Why somebody is told no more.
const UNWANTED: &str = "ended by whoever reads the mails";

/// What is sent by the form of the page.
#[derive(Debug, Default, Deserialize)]
pub(crate) struct Asked {
    #[serde(default)]
    address: String,
}

/// Where somebody asks to be told.
pub(crate) async fn open(
    State(app): State<Arc<App>>,
    Path(secret): Path<String>,
    headers: HeaderMap,
    Query(query): Query<PageQuery>,
) -> Result<Response, Refusal> {
    let Some(guest) = Guest::known(&app, &secret).await? else {
        return gone(&app, query.language(), &headers);
    };
    let language = guest.language(&app, query.language(), &headers);
    let words = TellPage::of(language, &app.config.reception.face.name);
    asking(&app, language, &words, &secret, "", None)
}

/// Asks whoever has the mailbox whether they want it.
pub(crate) async fn ask(
    State(app): State<Arc<App>>,
    Path(secret): Path<String>,
    headers: HeaderMap,
    Query(query): Query<PageQuery>,
    asked: Result<Form<Asked>, FormRejection>,
) -> Result<Response, Refusal> {
    // Whatever was sent that is no form asks for nothing.
    let asked = asked.map(|Form(asked)| asked).unwrap_or_default();
    let Some(guest) = Guest::known(&app, &secret).await? else {
        return gone(&app, query.language(), &headers);
    };
    let language = guest.language(&app, query.language(), &headers);
    let words = TellPage::of(language, &app.config.reception.face.name);

    match question(&app, &guest, language, &secret, &asked.address).await {
        Ok(()) => one(&app, language, &words.ask, &words.sent),
        Err(error) => {
            tracing::info!(%error, "nobody was asked whether they want to be told");
            asking(&app, language, &words, &secret, &asked.address, Some(&words.refused))
        }
    }
}

/// Somebody may be asked by anybody who has a link, so they are asked once, and told nothing
/// until they say so.
async fn question(
    app: &App,
    guest: &Guest,
    language: Language,
    secret: &str,
    address: &str,
) -> anyhow::Result<()> {
    let address = notices::checked(address)?;
    let (of_address, of_domain) = guest.asked_within(app, &address, ASKED_WITHIN).await?;
    if of_address > 0 {
        // They have the mail; whether they have is nobody else's business.
        return Ok(());
    }
    ensure!(of_domain < MOST_ASKED, "{of_domain} addresses were asked about this domain already");

    let reader = Reader::new(app);
    let receiver = NewReceiver {
        way: Means::Mail,
        target: &address,
        account: None,
        domain_id: Some(guest.link.domain_id),
        kinds: &[],
        language: Some(language),
        quiet: None,
        sealed: None,
        sealed_link: Some(&app.sealer.seal(LINK, secret.as_bytes())),
        handoff_id: Some(guest.link.id),
        reader: Some(reader.kept()),
        is_unconfirmed: true,
    };
    let id = guest.add_receiver(app, receiver).await?;
    let sent = app.notices.ask(app, id, &reader, &address, guest.link.host.as_str(), language).await;
    if sent.is_err() {
        guest.end_receiver(app, id, UNASKED).await?;
    }
    Ok(sent?)
}

/// The page that a mail leads to: it does nothing before somebody presses a button, since mail
/// programs follow links by themselves.
pub(crate) async fn reader(
    State(app): State<Arc<App>>,
    Path(token): Path<String>,
    headers: HeaderMap,
) -> Result<Response, Refusal> {
    let Some(mailbox) = Mailbox::known(&app, &token).await? else { return gone(&app, None, &headers) };
    let language = mailbox.receiver.language.unwrap_or(spoken(&app, None, &headers));
    let words = TellPage::of(language, &app.config.reception.face.name);
    let (heading, press, button) = match mailbox.receiver.is_confirmed {
        true => (&words.stop, "stop", &words.end),
        false => (&words.ask, "yes", &words.confirm),
    };
    let main = html! {
        (masthead(&app.config.reception.face))
        h1 { (said(heading)) }
        form.keyed method="post" {
            button name="press" value=(press) { (said(button)) }
        }
    };
    page(&app, language, heading.plain(), main)
}

/// Says yes, or ends it: at one press of a mail program too.
pub(crate) async fn answer(
    State(app): State<Arc<App>>,
    Path(token): Path<String>,
    headers: HeaderMap,
    sent: Bytes,
) -> Result<Response, Refusal> {
    let Some(mailbox) = Mailbox::known(&app, &token).await? else { return gone(&app, None, &headers) };
    let language = mailbox.receiver.language.unwrap_or(spoken(&app, None, &headers));
    let words = TellPage::of(language, &app.config.reception.face.name);

    // Mail programs send forms of either kind; whatever is no yes ends it.
    if sent.as_ref() == YES {
        mailbox.confirm(&app).await?;
        return one(&app, language, &words.ask, &words.confirmed);
    }
    mailbox.end(&app, UNWANTED).await?;
    one(&app, language, &words.stop, &words.stopped)
}

fn asking(
    app: &App,
    language: Language,
    words: &TellPage,
    secret: &str,
    address: &str,
    refused: Option<&nomenta_api::handoff::Said>,
) -> Result<Response, Refusal> {
    let path = |below: &str| format!("/handoff/{secret}{below}?language={language}");
    let main = html! {
        (masthead(&app.config.reception.face))
        p { a.open href=(path("")) { (said(&words.back)) } }
        h1 { (said(&words.ask)) }
        @if let Some(refused) = refused {
            p.returned role="alert" { (said(refused)) }
        }
        form.keyed method="post" action=(path("/tell")) {
            label for="address" { (said(&words.field)) }
            input #address name="address" type="email" required dir="ltr" autocomplete="email" value=(address)
                aria-describedby="address-hint";
            p.hint #address-hint { (said(&words.hint)) }
            button { (said(&words.ask)) }
        }
    };
    page(app, language, words.ask.plain(), main)
}

/// A page that says one thing under a heading.
fn one(
    app: &App,
    language: Language,
    heading: &nomenta_api::handoff::Said,
    what: &nomenta_api::handoff::Said,
) -> Result<Response, Refusal> {
    let main = html! {
        (masthead(&app.config.reception.face))
        h1 { (said(heading)) }
        p role="status" { (said(what)) }
    };
    page(app, language, heading.plain(), main)
}

fn page(app: &App, language: Language, title: String, main: Markup) -> Result<Response, Refusal> {
    let reception = &app.config.reception;
    let main = html! { main #handoff data-ended { (main) } };
    Page { language, face: &reception.face, title, main }.response(StatusCode::OK, reception)
}

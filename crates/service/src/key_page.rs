//! The page of a handoff link on which a customer has their list written with a key of their own
//! name server. It needs no script.

use std::sync::Arc;

use axum::Form;
use axum::extract::rejection::FormRejection;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Redirect, Response};
use maud::{Markup, html};
use nomenta_api::handoff::{Face, KeyPage, KeyRefusal, Language, Returned, Said};
use nomenta_api::problem::{FieldCode, ProblemKind};
use nomenta_api::publication::{GiveKey, NewPublication, PublicationPlan, PublicationState};
use nomenta_store::PublicationRow;
use serde::Deserialize;
use uuid::Uuid;

use crate::App;
use crate::guest::Guest;
use crate::handoff_page::{Page, PageQuery, gone, masthead, said};
use crate::problem::Refusal;
use crate::publishing::{self, By, Kept};
use crate::reach::Found;

/// What somebody presses.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Press {
    Show,
    Write,
    Undo,
    Forget,
}

/// What is sent by the forms of the page.
#[derive(Debug, Deserialize)]
pub(crate) struct Sent {
    press: Press,
    #[serde(default)]
    key: String,
    #[serde(default)]
    server: String,
    #[serde(default)]
    plan: String,
    publication: Option<Uuid>,
}

/// Whoever is at the page, and what it is about.
struct Visit {
    app: Arc<App>,
    guest: Guest,
    record: Found,
    language: Language,
    words: KeyPage,
    secret: String,
}

/// What is on the page beside its forms.
#[derive(Default)]
struct Shown {
    plan: Option<PublicationPlan>,
    refused: Option<(KeyRefusal, Refusal)>,
    /// What was typed, so that it need not be typed again.
    server: String,
}

/// The page as it is opened.
pub(crate) async fn open(
    State(app): State<Arc<App>>,
    Path(secret): Path<String>,
    headers: HeaderMap,
    Query(query): Query<PageQuery>,
) -> Result<Response, Refusal> {
    let asked = query.language();
    match Visit::of(&app, secret, asked, &headers).await? {
        Some(visit) => visit.response(Shown::default()).await,
        None => gone(&app, asked, &headers),
    }
}

/// What its forms ask for.
pub(crate) async fn press(
    State(app): State<Arc<App>>,
    Path(secret): Path<String>,
    headers: HeaderMap,
    Query(query): Query<PageQuery>,
    form: Result<Form<Sent>, FormRejection>,
) -> Result<Response, Refusal> {
    let asked = query.language();
    let Some(visit) = Visit::of(&app, secret, asked, &headers).await? else {
        return gone(&app, asked, &headers);
    };
    let Ok(Form(sent)) = form else { return visit.response(Shown::default()).await };

    let by = visit.by();
    let done = match sent.press {
        Press::Show => return visit.show(&by, &sent).await,
        Press::Write => visit.write(&by, sent.plan).await.map(|()| Returned::Written),
        Press::Undo => visit.undo(&by, sent.publication).await.map(|()| Returned::Undone),
        Press::Forget => match publishing::forget_key(&by, &visit.record).await {
            Ok(()) => return Ok(Redirect::to(&visit.path("/key")).into_response()),
            Err(refusal) => Err(refusal),
        },
    };
    match done {
        Ok(returned) => Ok(Redirect::to(&format!("{}&returned={returned}", visit.path(""))).into_response()),
        Err(refusal) => visit.response(Shown::refused(refusal)).await,
    }
}

impl Visit {
    async fn of(
        app: &Arc<App>,
        secret: String,
        asked: Option<&str>,
        headers: &HeaderMap,
    ) -> Result<Option<Self>, Refusal> {
        let Some(guest) = Guest::known(app, &secret).await? else { return Ok(None) };
        let record = guest.domain(app).await?;
        let language = guest.language(app, asked, headers);
        let zone = record.survey.as_ref().and_then(|survey| survey.apex()).unwrap_or(&record.domain.zone);
        let words = KeyPage::of(language, &app.config.reception.face.name, zone);
        Ok(Some(Self { app: app.clone(), guest, language, words, secret, record }))
    }

    /// Changes are recorded as those of whoever holds the link.
    fn by(&self) -> By {
        self.guest.by(&self.app)
    }

    fn path(&self, below: &str) -> String {
        format!("/handoff/{}{below}?language={}", self.secret, self.language)
    }

    /// Keeps a key that is given, and shows what would be written.
    async fn show(&self, by: &By, sent: &Sent) -> Result<Response, Refusal> {
        let server = Some(sent.server.trim().to_owned()).filter(|server| !server.is_empty());
        let planned = async {
            if !sent.key.trim().is_empty() {
                let given = GiveKey { key: sent.key.clone(), server };
                publishing::give_key(&self.app, by, &self.record, &given).await?;
            }
            publishing::preview(&self.app, by, &self.record).await
        };
        let shown = match planned.await {
            Ok(plan) => Shown { plan: Some(plan), ..Shown::default() },
            Err(refusal) => Shown::refused(refusal),
        };
        self.response(Shown { server: sent.server.clone(), ..shown }).await
    }

    async fn write(&self, by: &By, plan: String) -> Result<(), Refusal> {
        let asked = NewPublication { plan: Some(plan) };
        publishing::publish(&self.app, by, &self.record, &asked).await.map(drop)
    }

    async fn undo(&self, by: &By, id: Option<Uuid>) -> Result<(), Refusal> {
        let last = self.last().await?.filter(|row| Some(row.id) == id);
        let row = last.ok_or_else(|| Refusal::not_found("There is nothing to take back."))?;
        publishing::undo(&self.app, by, &self.record, row).await
    }

    /// What was written last by the link, and stands.
    async fn last(&self) -> Result<Option<PublicationRow>, Refusal> {
        let rows = self.record.publications(None, 1).await?;
        let stands =
            |row: &PublicationRow| matches!(row.state, PublicationState::Done | PublicationState::Sent);
        Ok(rows.into_iter().find(|row| stands(row) && row.link == Some(self.guest.link.id)))
    }

    async fn response(&self, shown: Shown) -> Result<Response, Refusal> {
        let kept = publishing::kept_key(&self.by(), &self.record).await?;
        let last = self.last().await?;
        let reception = &self.app.config.reception;
        let status = match &shown.refused {
            Some((_, refusal)) => refusal.status(),
            None => StatusCode::OK,
        };

        let main = self.main(&reception.face, &shown, &kept, last.as_ref());
        let page =
            Page { language: self.language, face: &reception.face, title: self.words.title.plain(), main };
        page.response(status, reception)
    }

    fn main(&self, face: &Face, shown: &Shown, kept: &Kept, last: Option<&PublicationRow>) -> Markup {
        let words = &self.words;
        html! {
            main #handoff data-ended {
                (masthead(face))
                p { a.open href=(self.path("")) { (said(&words.back)) } }
                h1 { (said(&words.title)) }
                @if let Some((why, refusal)) = &shown.refused {
                    p.returned role="alert" { (said(&words.refused(*why))) }
                    // For whoever runs the server: such texts are in English.
                    p.detail lang="en" dir="ltr" { (refusal.problem.detail) }
                }
                @if let Some(plan) = &shown.plan {
                    (self.planned(plan))
                }
                @match kept {
                    Kept::Own(own) => {
                        p { (said(&words.kept(&own.key))) }
                        form.keyed method="post" action=(self.path("/key")) {
                            @if shown.plan.is_none() {
                                (button(Press::Show, &words.show))
                            }
                            @if let Some(last) = last {
                                input type="hidden" name="publication" value=(last.id);
                                (button(Press::Undo, &words.undo))
                            }
                            (button(Press::Forget, &words.forget))
                        }
                    }
                    Kept::Others => p { (said(&words.of_others)) },
                    Kept::None => (self.asked(shown)),
                }
            }
        }
    }

    /// What would be written, and the button that has it written.
    fn planned(&self, plan: &PublicationPlan) -> Markup {
        let words = &self.words;
        html! {
            section.planned {
                h2 { (said(&words.plan(plan))) }
                ul {
                    @for line in &plan.lines {
                        li data-act=(line.act) {
                            b { (said(&words.act(line.act))) }
                            " "
                            bdi.record dir="ltr" { (line.owner) " " (line.rtype) " " (line.value) }
                        }
                    }
                }
                p { (said(&words.whole)) }
                form.keyed method="post" action=(self.path("/key")) {
                    input type="hidden" name="plan" value=(plan.plan);
                    (button(Press::Write, &words.write))
                }
            }
        }
    }

    /// Where a key is given.
    fn asked(&self, shown: &Shown) -> Markup {
        let words = &self.words;
        let [field, hint] = &words.field;
        let [server, server_hint] = &words.server;
        html! {
            p { (said(&words.said)) }
            form.keyed method="post" action=(self.path("/key")) {
                label for="key" { (said(field)) }
                textarea #key name="key" rows="4" required dir="ltr" spellcheck="false" autocomplete="off"
                    aria-describedby="key-hint" {}
                p.hint #key-hint { (said(hint)) }
                label for="server" { (said(server)) }
                input #server name="server" dir="ltr" value=(shown.server) autocomplete="off"
                    aria-describedby="server-hint";
                p.hint #server-hint { (said(server_hint)) }
                (button(Press::Show, &words.show))
            }
        }
    }
}

impl Shown {
    fn refused(refusal: Refusal) -> Self {
        let is_key = refusal.problem.errors.iter().any(|field| field.code == FieldCode::Key.as_str());
        let why = match is_key {
            true => KeyRefusal::Key,
            false if refusal.problem.is(ProblemKind::Changed) => KeyRefusal::Changed,
            false => KeyRefusal::Other,
        };
        Self { refused: Some((why, refusal)), ..Self::default() }
    }
}

fn button(press: Press, words: &Said) -> Markup {
    let name = match press {
        Press::Show => "show",
        Press::Write => "write",
        Press::Undo => "undo",
        Press::Forget => "forget",
    };
    html! { button name="press" value=(name) { (said(words)) } }
}

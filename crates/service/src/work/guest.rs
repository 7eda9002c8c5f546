//! Guests: whoever holds a handoff link sees what it shows, and nothing else.

use std::convert::Infallible;
use std::sync::Arc;

use axum::extract::FromRequestParts;
use axum::http::HeaderMap;
use axum::http::header::{ACCEPT_LANGUAGE, AUTHORIZATION};
use axum::http::request::Parts;
use chrono::TimeDelta;
use nomenta_api::handoff::{Face, Language};
use nomenta_api::role::Role;
use nomenta_store::{Actor, HandoffRow, NewReceiver, ReceiverRow, StoreError, Whose};
use uuid::Uuid;

use crate::App;
use crate::access;
use crate::problem::Refusal;
use crate::publishing::By;
use crate::reach::Found;

/// How the platform's customers are met.
#[derive(Clone, Debug)]
pub struct Reception {
    /// How the platform shows itself.
    pub face: Face,
    /// The language of whoever asks for none that there is.
    pub language: Language,
    /// Base URL at which customers reach the service, without a slash at its end.
    pub public_url: String,
    /// Origins that may show the handoff page in a frame.
    pub framed_by: Vec<String>,
    /// Origins whose pages may read links by script (CORS).
    pub origins: Vec<String>,
}

/// What secrets of links begin with.
const BEGIN: &str = "nmh_";

/// A new secret of a link.
pub(crate) fn secret() -> String {
    access::secret(BEGIN)
}

/// Whoever holds a link.
#[derive(Clone, Debug)]
pub(crate) struct Guest {
    pub link: HandoffRow,
}

impl Guest {
    /// Whether a secret is one of a link.
    pub(crate) fn is_link(secret: &str) -> bool {
        secret.starts_with(BEGIN)
    }

    /// The guest with this secret, if its link shows anything.
    pub(crate) async fn known(app: &App, secret: &str) -> Result<Option<Self>, StoreError> {
        if !Self::is_link(secret) {
            return Ok(None);
        }
        let link = app.calls.handoff_by_hash(&access::hash(secret)).await?;
        Ok(link.map(|link| Self { link }))
    }

    /// The domain that the link was made for.
    pub(crate) async fn domain(&self, app: &App) -> Result<Found, StoreError> {
        Ok(Found::of_guest(app.calls.domain(self.link.domain_id).await?, app.calls.clone()))
    }

    /// Whoever holds the link, who has the zone of its domains written to.
    pub(crate) fn by(&self, app: &App) -> By {
        let records = app.calls.by(Actor {
            key_id: self.link.id,
            who: format!("handoff link …{}", self.link.hint),
            role: Role::Viewer,
            session_id: None,
            came_from: None,
            call: "POST /handoff/{secret}/key".into(),
        });
        By::link(records, self.link.id)
    }

    /// Notes that the customer has begun to edit their zone.
    pub(crate) async fn edit_begun(&self, app: &App) -> Result<(), StoreError> {
        app.calls.edit_begun(self.link.domain_id).await
    }

    /// How many were asked lately whether they want to be told: of this address, and of the domain.
    pub(crate) async fn asked_within(
        &self,
        app: &App,
        address: &str,
        within: TimeDelta,
    ) -> Result<(i64, i64), StoreError> {
        app.calls.asked_within(address, self.link.domain_id, within).await
    }

    /// Tells somebody of the domain for as long as the link shows it.
    pub(crate) async fn add_receiver(&self, app: &App, new: NewReceiver<'_>) -> Result<Uuid, StoreError> {
        let new = NewReceiver {
            account: None,
            domain_id: Some(self.link.domain_id),
            handoff_id: Some(self.link.id),
            ..new
        };
        app.calls.add_receiver(&new).await
    }

    /// Tells somebody no more whom the link has just had told.
    pub(crate) async fn end_receiver(&self, app: &App, id: Uuid, because: &str) -> Result<(), StoreError> {
        ended(app, id, because).await
    }

    /// The language to speak: as asked, else as the link was made, else as the browser wants,
    /// else the account's.
    pub(crate) fn language(&self, app: &App, asked: Option<&str>, headers: &HeaderMap) -> Language {
        let account = Language::of_tag(&self.link.account_language);
        known(asked)
            .or(self.link.language)
            .or_else(|| accepted(headers))
            .or(account)
            .unwrap_or(app.config.reception.language)
    }
}

/// Whoever reads the mails that somebody is sent, and holds the secret of one.
pub(crate) struct Mailbox {
    /// To whom it goes.
    pub receiver: ReceiverRow,
}

impl Mailbox {
    /// The mailbox with this secret, if anything is sent there.
    pub(crate) async fn known(app: &App, secret: &str) -> Result<Option<Self>, StoreError> {
        let receiver = app.calls.receiver_by_reader(&access::hash(secret)).await?;
        Ok(receiver.map(|receiver| Self { receiver }))
    }

    /// Says yes: they want to be told.
    pub(crate) async fn confirm(&self, app: &App) -> Result<(), StoreError> {
        app.calls.confirm_receiver(self.receiver.id).await.map(drop)
    }

    /// Tells them no more. Asked for twice, it has ended all the same.
    pub(crate) async fn end(&self, app: &App, because: &str) -> Result<(), StoreError> {
        ended(app, self.receiver.id, because).await
    }
}

/// Tells a receiver no more.
async fn ended(app: &App, id: Uuid, because: &str) -> Result<(), StoreError> {
    match app.calls.end_receiver(id, &Whose::Everybodys, because).await {
        Err(StoreError::Missing { .. }) => Ok(()),
        ended => ended,
    }
}

/// The language that is asked for, if there is such a one.
pub(crate) fn known(asked: Option<&str>) -> Option<Language> {
    asked?.parse().ok()
}

/// The language that a browser wants, of those that there are.
pub(crate) fn accepted(headers: &HeaderMap) -> Option<Language> {
    Language::accepted(headers.get(ACCEPT_LANGUAGE)?.to_str().ok()?)
}

/// What a call carries as its bearer token; empty without one.
pub(crate) struct Bearer(pub String);

impl<S: Send + Sync> FromRequestParts<S> for Bearer {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Infallible> {
        let header = parts.headers.get(AUTHORIZATION).and_then(|value| value.to_str().ok());
        Ok(Self(access::bearer(header.unwrap_or_default()).unwrap_or_default().to_owned()))
    }
}

impl FromRequestParts<Arc<App>> for Guest {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Refusal> {
        let Ok(Bearer(secret)) = Bearer::from_request_parts(parts, app).await;
        let guest = Self::known(app, &secret).await?;
        guest.ok_or_else(|| Refusal::unauthorized("This link shows nothing, or no more."))
    }
}

//! Guests: whoever holds a handoff link sees what it shows, and nothing else.

use std::convert::Infallible;
use std::sync::Arc;

use axum::extract::FromRequestParts;
use axum::http::HeaderMap;
use axum::http::header::{ACCEPT_LANGUAGE, AUTHORIZATION};
use axum::http::request::Parts;
use nomenta_api::handoff::{Face, Language};
use nomenta_store::{HandoffRow, StoreError};

use crate::App;
use crate::access;
use crate::problem::Refusal;

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
    /// The guest with this secret, if its link shows anything.
    pub(crate) async fn known(app: &App, secret: &str) -> Result<Option<Self>, StoreError> {
        if !secret.starts_with(BEGIN) {
            return Ok(None);
        }
        let link = app.calls.handoff_by_hash(&access::hash(secret)).await?;
        Ok(link.map(|link| Self { link }))
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

//! Who may do what: keys by their hash, and console sessions.

use std::sync::Arc;

use axum::extract::FromRequestParts;
use axum::http::HeaderName;
use axum::http::header::{AUTHORIZATION, COOKIE};
use axum::http::request::Parts;
use chrono::{DateTime, Duration, Utc};
use data_encoding::BASE64URL_NOPAD;
use nomenta_api::role::Role;
use nomenta_store::{KeyAccount, KeyRow, Whose};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::App;
use crate::problem::Refusal;

/// Name of the console's cookie.
pub(crate) const COOKIE_NAME: &str = "nomenta_session";
const SESSION_HOURS: i64 = 12;

/// What is kept of a secret. Secrets are 160 random bits, so one round of
/// SHA-256 is enough.
pub(crate) fn hash(secret: &str) -> Vec<u8> {
    Sha256::digest(secret).to_vec()
}

/// The last four characters, to tell keys apart in listings.
pub(crate) fn hint(secret: &str) -> String {
    secret.chars().skip(secret.chars().count().saturating_sub(4)).collect()
}

/// The caller of a request.
#[derive(Clone, Debug)]
pub(crate) struct Caller {
    pub key: KeyRow,
}

impl Caller {
    /// Lets pass who has `wanted` or more.
    pub(crate) fn needs(&self, wanted: Role) -> Result<(), Refusal> {
        if self.key.role.covers(wanted) {
            return Ok(());
        }
        Err(Refusal::forbidden(self.key.role, wanted))
    }

    /// Whose records the caller sees.
    pub(crate) fn whose(&self) -> Whose {
        self.account().map_or(Whose::Everybodys, |account| Whose::Of(vec![account.id]))
    }

    /// The account that the key opens alone.
    pub(crate) fn account(&self) -> Option<&KeyAccount> {
        self.key.account.as_ref()
    }

    /// Lets pass who has `wanted` or more, for every account.
    pub(crate) fn needs_all(&self, wanted: Role) -> Result<(), Refusal> {
        self.needs(wanted)?;
        match self.account() {
            Some(account) => Err(Refusal::of_one_account(&account.name)),
            None => Ok(()),
        }
    }
}

impl FromRequestParts<Arc<App>> for Caller {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Refusal> {
        let bearer = bearer(header(parts, AUTHORIZATION));
        let key = match (bearer, session_cookie(header(parts, COOKIE))) {
            (Some(secret), _) => app.calls.key_by_hash(&hash(secret)).await?,
            (None, Some(cookie)) => match open_session(app, cookie, Utc::now()) {
                Some(id) => app.calls.key(id).await?,
                None => None,
            },
            (None, None) => return Err(Refusal::unauthorized("No key was given.")),
        };

        let key = key.ok_or_else(|| Refusal::unauthorized("This key or session opens nothing."))?;
        Ok(Self { key })
    }
}

/// The key in an `Authorization` header, however the scheme is spelled (RFC 9110, section
/// 11.1).
fn bearer(header: &str) -> Option<&str> {
    let (scheme, key) = header.trim().split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(key.trim())
}

fn header(parts: &Parts, name: HeaderName) -> &str {
    parts.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
}

fn session_cookie(header: &str) -> Option<&str> {
    header.split(';').find_map(|pair| pair.trim().strip_prefix(COOKIE_NAME)?.strip_prefix('='))
}

/// A sealed note of which key signed in and until when: any process can read
/// it, nobody can make one, and revoking the key ends the session.
pub(crate) fn new_session(app: &App, key: Uuid, now: DateTime<Utc>) -> String {
    let until = (now + Duration::hours(SESSION_HOURS)).timestamp();
    let sealed = app.sealer.seal("session", format!("{key} {until}").as_bytes());
    BASE64URL_NOPAD.encode(&sealed)
}

fn open_session(app: &App, cookie: &str, now: DateTime<Utc>) -> Option<Uuid> {
    let sealed = BASE64URL_NOPAD.decode(cookie.as_bytes()).ok()?;
    let text = String::from_utf8(app.sealer.open("session", &sealed).ok()?).ok()?;
    let (key, until) = text.split_once(' ')?;
    (until.parse::<i64>().ok()? > now.timestamp()).then_some(key.parse().ok()?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_scheme_is_read_in_any_spelling() {
        for header in ["Bearer abc", "bearer  abc", " BEARER abc "] {
            assert_eq!(bearer(header), Some("abc"), "{header}");
        }
        assert_eq!(bearer("Basic abc").or(bearer("Bearer")).or(bearer("")), None);
    }

    #[test]
    fn the_cookie_is_found_among_others() {
        assert_eq!(session_cookie("a=1; nomenta_session=abc; b=2"), Some("abc"));
        assert_eq!(session_cookie("nomenta_sessions=abc"), None);
    }
}

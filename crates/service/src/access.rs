//! Who may do what: keys by their hash, and console sessions.

use std::convert::Infallible;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Instant;

use axum::extract::{ConnectInfo, FromRequestParts};
use axum::http::HeaderName;
use axum::http::header::{AUTHORIZATION, COOKIE, HOST, ORIGIN};
use axum::http::request::Parts;
use chrono::{DateTime, Duration, Utc};
use data_encoding::BASE32_NOPAD;
use nomenta_api::role::Role;
use nomenta_core::name::plain::shown;
use nomenta_store::{Actor, KeyRow, NewSession, SessionRow, Store, StoreError, Whose};
use sha2::{Digest, Sha256};
use tokio::time::sleep;

use crate::App;
use crate::problem::Refusal;

/// Name of the console's cookie.
pub(crate) const COOKIE_NAME: &str = "nomenta_session";
/// Before it, where the console is served by HTTPS: no other host can set such a cookie.
const SECURE_PREFIX: &str = "__Host-";
/// Which site has a browser make a call (Fetch Metadata Request Headers).
const SEC_FETCH_SITE: HeaderName = HeaderName::from_static("sec-fetch-site");
const SESSION_HOURS: i64 = 12;
/// Longest time after which a caller that stays is looked at again, in case a call was
/// missed.
const LONGEST_WAIT: std::time::Duration = std::time::Duration::from_secs(60);

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
    /// The session, if they are signed in to the console.
    pub session: Option<SessionRow>,
    /// Where the call comes from.
    origin: Origin,
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
        match &self.key.accounts {
            Some(accounts) => Whose::Of(accounts.iter().map(|account| account.id).collect()),
            None => Whose::Everybodys,
        }
    }

    /// Whether the key opens some accounts alone.
    pub(crate) fn is_narrow(&self) -> bool {
        self.key.accounts.is_some()
    }

    /// Whether the key opens an account.
    pub(crate) fn opens(&self, account: &str) -> bool {
        self.key.accounts.as_ref().is_none_or(|accounts| accounts.iter().any(|one| one.name == account))
    }

    /// The records, changed for the caller.
    pub(crate) fn records(&self, app: &App) -> Store {
        app.calls.by(self.actor())
    }

    /// The same for bulk work, which takes longer than a call may.
    pub(crate) fn bulk(&self, app: &App) -> Store {
        app.store.by(self.actor())
    }

    fn actor(&self) -> Actor {
        Actor {
            key_id: self.key.id,
            who: self.key.name.clone(),
            role: self.key.role,
            session_id: self.session.as_ref().map(|session| session.id),
            came_from: self.origin.address.clone(),
            call: self.origin.call.clone(),
        }
    }

    /// Until when the caller may stay, if nobody ends it before.
    fn until(&self) -> Option<DateTime<Utc>> {
        let session = self.session.as_ref().map(|session| session.expires_at);
        self.key.expires_at.into_iter().chain(session).min()
    }

    /// Waits until the key, or the session, opens nothing any more: it has ended by itself,
    /// or somebody has ended it.
    pub(crate) async fn shut_out(self, app: Arc<App>) {
        let mut doors = app.hub.access();
        let session_id = self.session.as_ref().map(|session| session.id);

        loop {
            let left =
                self.until().map_or(LONGEST_WAIT, |until| (until - Utc::now()).to_std().unwrap_or_default());
            // By our own clock: the database's may be behind, and would be asked again and again.
            if left.is_zero() {
                return;
            }
            tokio::select! {
                () = sleep(left.min(LONGEST_WAIT)) => {}
                changed = doors.changed() => if changed.is_err() { return },
            }
            // While nothing can be asked, nothing new is sent either.
            if let Ok(false) = app.calls.is_open(self.key.id, session_id).await {
                return;
            }
        }
    }

    /// Lets pass who has `wanted` or more, for every account.
    pub(crate) fn needs_all(&self, wanted: Role) -> Result<(), Refusal> {
        self.needs(wanted)?;
        match &self.key.accounts {
            Some(accounts) => {
                let names: Vec<_> = accounts.iter().map(|account| account.name.as_str()).collect();
                Err(Refusal::of_some_accounts(&names))
            }
            None => Ok(()),
        }
    }
}

impl FromRequestParts<Arc<App>> for Caller {
    type Rejection = Refusal;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Refusal> {
        let origin = Origin::of(parts);
        let bearer = bearer(header(parts, AUTHORIZATION));
        if bearer.is_none() {
            same_site(parts)?;
        }
        let secret = bearer.or_else(|| session_cookie(header(parts, COOKIE)));
        let hash = hash(secret.ok_or_else(|| Refusal::unauthorized("No key was given."))?);

        origin.may_try(app, &hash)?;
        let found = match bearer {
            Some(_) => app.calls.key_by_hash(&hash).await?.map(|key| (key, None)),
            None => app.calls.session(&hash).await?.map(|(session, key)| (key, Some(session))),
        };

        let Some((key, session)) = found else {
            origin.tried(app);
            return Err(Refusal::unauthorized("This key or session opens nothing."));
        };
        app.throttle.right(&hash);
        Ok(Self { key, session, origin })
    }
}

/// Refuses a change that a page of another site has a browser make: the cookie goes with it
/// only where that browser knows no better (Fetch Metadata; RFC 6454).
fn same_site(parts: &Parts) -> Result<(), Refusal> {
    if parts.method.is_safe() {
        return Ok(());
    }

    let is_own = match (header(parts, SEC_FETCH_SITE), header(parts, ORIGIN)) {
        ("same-origin" | "none", _) | ("", "") => true,
        ("", origin) => origin.split_once("://").is_some_and(|(_, host)| host == header(parts, HOST)),
        _ => false,
    };
    if is_own { Ok(()) } else { Err(Refusal::other_site()) }
}

/// The key in an `Authorization` header, however the scheme is spelled (RFC 9110, section
/// 11.1).
pub(crate) fn bearer(header: &str) -> Option<&str> {
    let (scheme, key) = header.trim().split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then_some(key.trim())
}

fn header(parts: &Parts, name: HeaderName) -> &str {
    parts.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
}

fn session_cookie(header: &str) -> Option<&str> {
    let mut pairs = header.split(';').map(str::trim);
    pairs.find_map(|pair| {
        pair.strip_prefix(SECURE_PREFIX).unwrap_or(pair).strip_prefix(COOKIE_NAME)?.strip_prefix('=')
    })
}

/// The console's cookie, strict and HttpOnly: no script reads it and no other site sends it. By
/// HTTPS it goes nowhere else, and no other host can set it.
pub(crate) fn cookie(value: &str, more: &str, is_by_https: bool) -> String {
    let (prefix, secure) = if is_by_https { (SECURE_PREFIX, "; Secure") } else { ("", "") };
    format!("{prefix}{COOKIE_NAME}={value}; Path=/; HttpOnly; SameSite=Strict{secure}{more}")
}

/// A session for a key: what the cookie holds, and nobody else.
pub(crate) async fn begin_session(app: &App, key: KeyRow, origin: Origin) -> Result<String, StoreError> {
    let secret = secret("nms_");
    let caller = Caller { key, session: None, origin };
    let new = NewSession {
        key_id: caller.key.id,
        hash: &hash(&secret),
        came_from: caller.origin.address.as_deref(),
        expires_at: Utc::now() + Duration::hours(SESSION_HOURS),
    };
    caller.records(app).begin_session(&new).await?;
    Ok(secret)
}

/// 160 random bits in letters, behind what tells them from others.
pub(crate) fn secret(begin: &str) -> String {
    let bits: [u8; 20] = rand::random();
    format!("{begin}{}", BASE32_NOPAD.encode(&bits).to_ascii_lowercase())
}

/// Where a call comes from, whoever makes it.
#[derive(Clone, Debug)]
pub(crate) struct Origin {
    /// The address.
    address: Option<String>,
    peer: Option<IpAddr>,
    /// The call: its method and path.
    call: String,
}

impl Origin {
    fn of(parts: &Parts) -> Self {
        let peer = parts.extensions.get::<ConnectInfo<SocketAddr>>();
        Self {
            address: peer.map(|ConnectInfo(peer)| peer.ip().to_canonical().to_string()),
            peer: peer.map(|ConnectInfo(peer)| peer.ip()),
            call: format!("{} {}", parts.method, shown(parts.uri.path())),
        }
    }
}

impl Origin {
    /// Refuses whoever has tried too many keys that open nothing.
    pub(crate) fn may_try(&self, app: &App, hash: &[u8]) -> Result<(), Refusal> {
        let wait = self.peer.and_then(|peer| app.throttle.wait(peer, hash, Instant::now()));
        match wait {
            Some(wait) => {
                Err(Refusal::too_many_keys(u32::try_from(wait.as_secs()).unwrap_or(u32::MAX).max(1)))
            }
            None => Ok(()),
        }
    }

    /// Counts a key that opens nothing.
    pub(crate) fn tried(&self, app: &App) {
        if let Some(peer) = self.peer {
            app.throttle.wrong(peer, Instant::now());
        }
    }
}

impl<S: Send + Sync> FromRequestParts<S> for Origin {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Infallible> {
        Ok(Self::of(parts))
    }
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
        assert_eq!(session_cookie("a=1; __Host-nomenta_session=abc"), Some("abc"));
        assert_eq!(session_cookie("nomenta_sessions=abc"), None);
    }
}

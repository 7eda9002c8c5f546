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
use nomenta_store::{Actor, KeyRow, NewSession, SessionRow, StoreError, Whose};
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
    pub(in crate::work) fn whose(&self) -> Whose {
        match &self.key.accounts {
            Some(accounts) => Whose::Of(accounts.iter().map(|account| account.id).collect()),
            None => Whose::Everybodys,
        }
    }

    /// Whether the key opens some accounts alone.
    pub(crate) fn is_narrow(&self) -> bool {
        self.key.accounts.is_some()
    }

    /// Who it is that changes something.
    pub(in crate::work) fn actor(&self) -> Actor {
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

    /// Ends the caller's session, if they have one; it may have been ended meanwhile.
    pub(crate) async fn end_session(&self, app: &App) -> Result<(), StoreError> {
        let Some(session) = &self.session else { return Ok(()) };
        match app.calls.end_session(session.id).await {
            Err(StoreError::Missing { .. }) => Ok(()),
            ended => ended,
        }
    }

    /// Lets pass who has `wanted` or more, for every account.
    pub(in crate::work) fn needs_all(&self, wanted: Role) -> Result<(), Refusal> {
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
        // Whoever makes a change was known before it was let in.
        if let Some(caller) = parts.extensions.get::<Self>() {
            return Ok(caller.clone());
        }
        let origin = Origin::of(parts);
        let bearer = bearer(header(parts, AUTHORIZATION));
        if bearer.is_none() {
            same_site(parts)?;
        }
        let cookie = || session_cookie(header(parts, COOKIE), app.config.is_by_https());
        let secret = bearer.or_else(cookie);
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

fn session_cookie(header: &str, is_by_https: bool) -> Option<&str> {
    cookie_value(header, COOKIE_NAME, is_by_https)
}

/// The value of a cookie, in the form in which it is set here.
pub(crate) fn cookie_value<'a>(header: &'a str, name: &str, is_by_https: bool) -> Option<&'a str> {
    cookies_of(header, name, is_by_https).find_map(|(rest, value)| rest.is_empty().then_some(value))
}

/// Cookies whose names begin so: the rest of each name, and its value.
pub(crate) fn cookies_of<'a>(
    header: &'a str,
    begin: &str,
    is_by_https: bool,
) -> impl Iterator<Item = (&'a str, &'a str)> {
    let (prefix, _) = guarded(is_by_https);
    let pairs = header.split(';').map(str::trim);
    pairs.filter_map(move |pair| pair.strip_prefix(prefix)?.strip_prefix(begin)?.split_once('='))
}

/// The console's cookie: no other site sends it.
pub(crate) fn cookie(value: &str, more: &str, is_by_https: bool) -> String {
    named_cookie(COOKIE_NAME, value, &format!("; SameSite=Strict{more}"), is_by_https)
}

/// A cookie that no script reads.
pub(crate) fn named_cookie(name: &str, value: &str, more: &str, is_by_https: bool) -> String {
    let (prefix, secure) = guarded(is_by_https);
    format!("{prefix}{name}={value}; Path=/; HttpOnly{secure}{more}")
}

/// What the cookie's name begins with, and what goes behind it: by HTTPS it goes nowhere else, and no
/// other host can set it.
fn guarded(is_by_https: bool) -> (&'static str, &'static str) {
    if is_by_https { (SECURE_PREFIX, "; Secure") } else { ("", "") }
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
    app.calls.by(caller.actor()).begin_session(&new).await?;
    Ok(secret)
}

/// The key that somebody tries, if it opens anything.
pub(crate) async fn tried_key(app: &App, origin: &Origin, hash: &[u8]) -> Result<Option<KeyRow>, Refusal> {
    origin.may_try(app, hash)?;
    let key = app.calls.key_by_hash(hash).await?;
    match key {
        Some(_) => app.throttle.right(hash),
        None => origin.tried(app),
    }
    Ok(key)
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
    fn the_cookie_is_found_among_others_in_the_form_that_nobody_else_can_set() {
        assert_eq!(session_cookie("a=1; nomenta_session=abc; b=2", false), Some("abc"));
        assert_eq!(session_cookie("nomenta_sessions=abc", false), None);
        let both = "nomenta_session=planted; __Host-nomenta_session=abc";
        assert_eq!(session_cookie(both, true), Some("abc"));
        assert_eq!(session_cookie("nomenta_session=planted", true), None);
        for is_by_https in [false, true] {
            let set = cookie("abc", "", is_by_https);
            assert_eq!(session_cookie(&set, is_by_https), Some("abc"));
            assert_eq!(session_cookie(&set, !is_by_https), None);
        }
    }
}

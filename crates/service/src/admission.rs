//! Who is let in, and what a change may take before it begins: nothing before it is known whose it
//! is; then its body, as large and as slow as the call has it; and then its turn.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use axum::body::Body;
use axum::extract::{ConnectInfo, FromRequestParts, MatchedPath, Request};
use axum::http::Method;
use axum::http::request::Parts;
use bytes::{Bytes, BytesMut};
use http_body_util::BodyExt as _;
use tokio::time::{Instant, timeout_at};

use crate::App;
use crate::access::Caller;
use crate::bodies::{self, MOST_BODY};
use crate::guest::{Bearer, Guest};
use crate::problem::Refusal;
use crate::turns::{Taker, Turn, Turns};

/// Calls of the API that anybody may make, each with its method as the document has it.
pub(crate) const OPEN: [(&str, &str); 2] = [("/api/v1/session", "post"), ("/api/v1/session", "delete")];
/// Changes under way at once, whoever still waits for their answer; and of one caller.
const CHANGES: (usize, usize) = (2_048, 512);
/// Bodies of known callers that come in at once; and of one of them.
const BODIES: (usize, usize) = (256, 32);
/// The same of those that are larger than most.
const LARGE: (usize, usize) = (8, 2);
/// The same of whoever is not known: they sign in, or press a button of a page.
const STRANGERS: (usize, usize) = (128, 16);
/// How long a body may take, however small it is.
const PATIENCE: Duration = Duration::from_secs(10);
/// Octets in a second that a body comes in with from then on, at least.
const SLOWEST: usize = 32 * 1024;

/// Turns of changes and of their bodies.
pub(crate) struct Admission {
    changes: Arc<Turns>,
    bodies: Arc<Turns>,
    large: Arc<Turns>,
    strangers: Arc<Turns>,
}

impl Default for Admission {
    fn default() -> Self {
        let turns = |what, (all, share)| Turns::new(what, all, share);
        Self {
            changes: turns("changes", CHANGES),
            bodies: turns("bodies", BODIES),
            large: turns("large-bodies", LARGE),
            strangers: turns("bodies-of-strangers", STRANGERS),
        }
    }
}

/// Lets a change in: whole, and with its turn.
///
/// # Errors
/// If it is nobody's who may make it, too large, too slow, or one too many.
pub(crate) async fn admit(app: &Arc<App>, request: Request) -> Result<(Request, Turn), Refusal> {
    let (mut parts, body) = request.into_parts();
    let taker = taker(app, &mut parts).await?;
    parts.extensions.insert(taker);
    let path = parts.extensions.get::<MatchedPath>().map_or("", MatchedPath::as_str);
    let most = bodies::most(path, matches!(taker, Taker::Source(_)));

    let octets = {
        let turns = match taker {
            Taker::Source(_) => &app.admission.strangers,
            Taker::Key(_) | Taker::Link(_) if most > MOST_BODY => &app.admission.large,
            Taker::Key(_) | Taker::Link(_) => &app.admission.bodies,
        };
        let _turn = turns.take(taker).ok_or_else(Refusal::busy)?;
        read(body, most).await.map_err(|fault| fault.refusal(path))?
    };

    let turn = app.admission.changes.take(taker).ok_or_else(Refusal::busy)?;
    Ok((Request::from_parts(parts, Body::from(octets)), turn))
}

/// Whether anybody may make a change, whoever they are: they sign in, or hold the secret of a page.
fn is_open(path: &str, method: &Method) -> bool {
    let is_page = !path.starts_with("/api/");
    is_page || OPEN.iter().any(|(of, by)| *of == path && method.as_str().eq_ignore_ascii_case(by))
}

/// Whose change it is; whoever is not known makes none but those that anybody may.
async fn taker(app: &Arc<App>, parts: &mut Parts) -> Result<Taker, Refusal> {
    let Ok(Bearer(secret)) = Bearer::from_request_parts(parts, app).await;
    let known = match Guest::is_link(&secret) {
        true => Guest::from_request_parts(parts, app).await.map(|guest| Taker::Link(guest.link.id)),
        false => Caller::from_request_parts(parts, app).await.map(|caller| {
            let taker = Taker::Key(caller.key.id);
            parts.extensions.insert(caller);
            taker
        }),
    };

    let path = parts.extensions.get::<MatchedPath>().map_or("", MatchedPath::as_str);
    match known {
        // Somebody's, and not known now whose.
        Err(refusal) if refusal.is_passing() => Err(refusal),
        Err(_) if is_open(path, &parts.method) => Ok(Taker::unknown(source(parts))),
        known => known,
    }
}

fn source(parts: &Parts) -> IpAddr {
    let peer = parts.extensions.get::<ConnectInfo<SocketAddr>>();
    // Every connection has one.
    peer.map_or(Ipv4Addr::UNSPECIFIED.into(), |ConnectInfo(peer)| peer.ip())
}

/// Why a body was not taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fault {
    TooLarge,
    TooSlow,
    Broken,
}

impl Fault {
    fn refusal(self, path: &str) -> Refusal {
        match self {
            Self::TooLarge => bodies::too_large(path),
            Self::TooSlow | Self::Broken => Refusal::unavailable("The call took too long to come in."),
        }
    }
}

/// Reads a body of up to `most` octets that comes in no slower than bodies may.
async fn read(mut body: Body, most: usize) -> Result<Bytes, Fault> {
    let begun = Instant::now();
    let mut octets = BytesMut::new();
    loop {
        let until = begun + PATIENCE + Duration::from_secs((octets.len() / SLOWEST) as u64);
        let frame = timeout_at(until, body.frame()).await.map_err(|_| Fault::TooSlow)?;
        let Some(frame) = frame else { return Ok(octets.freeze()) };
        // What is no data is a trailer, which nobody here reads.
        let Ok(data) = frame.map_err(|_| Fault::Broken)?.into_data() else { continue };
        if octets.len() + data.len() > most {
            return Err(Fault::TooLarge);
        }
        octets.extend_from_slice(&data);
    }
}

#[cfg(test)]
mod tests {
    use futures::{StreamExt as _, stream};
    use tokio::time::sleep;

    use super::*;

    /// A body of so many octets at a time, each after a wait.
    fn dripping(each: usize, times: usize, wait: Duration) -> Body {
        let drops = stream::iter(0..times).then(move |_| async move {
            sleep(wait).await;
            Ok::<_, std::io::Error>(Bytes::from(vec![b'x'; each]))
        });
        Body::from_stream(drops)
    }

    #[tokio::test(start_paused = true)]
    async fn a_body_is_read_while_it_comes_in_fast_enough() {
        let wait = Duration::from_secs(1);
        let fast = read(dripping(2 * SLOWEST, 30, wait), usize::MAX).await;
        assert_eq!(fast.expect("read").len(), 60 * SLOWEST);
        assert_eq!(read(dripping(1, 1000, wait), usize::MAX).await, Err(Fault::TooSlow));
        assert_eq!(read(dripping(SLOWEST / 2, 1000, wait), usize::MAX).await, Err(Fault::TooSlow));
        assert_eq!(read(dripping(10, 3, wait), 20).await, Err(Fault::TooLarge));
        assert_eq!(read(Body::empty(), 0).await.expect("read"), Bytes::new());
    }
}

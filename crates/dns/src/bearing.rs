//! What each server has been found to bear, so that the next question does not
//! find it out again.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::wire::Extent;

/// How long it is remembered; servers are mended, too.
const MEMORY: Duration = Duration::from_secs(3600);
/// How long a server that gave nothing in any way is taken at its silence.
const SILENCE: Duration = Duration::from_secs(60);
/// The same where it was not silent a moment before: for about as long as the rest of the look
/// takes. It may have been a busy moment, and the second look must find out for itself.
const FIRST_SILENCE: Duration = Duration::from_secs(5);
/// How long a server that has answered counts as one that does: what it does not answer in that
/// time may be for the pace at which it is asked.
const HEARD: Duration = Duration::from_secs(600);
/// How long a server is taken at its word that did not answer more once it was asked slower.
const MEANT: Duration = Duration::from_secs(600);
/// Servers remembered; those beyond are found out again each time.
const MOST: usize = 50_000;

/// Servers that cannot be asked in the usual way.
#[derive(Default)]
pub(crate) struct Bearings {
    extents: Mutex<HashMap<SocketAddr, Bearing>>,
    /// Those that have answered in the usual way.
    heard: Notes<()>,
    /// How many questions a server did not answer however slowly it was asked.
    meant: Notes<usize>,
    /// Those that know names in small letters alone.
    lower: Notes<()>,
}

/// What was noted of servers, each for a while.
struct Notes<T>(Mutex<HashMap<SocketAddr, (T, Instant)>>);

impl<T> Default for Notes<T> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<T: Copy> Notes<T> {
    fn of(&self, server: SocketAddr) -> Option<T> {
        let notes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        notes.get(&server).filter(|(_, until)| *until > Instant::now()).map(|(note, _)| *note)
    }

    fn take(&self, server: SocketAddr, note: T, lasts: Duration) {
        let now = Instant::now();
        let mut notes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if notes.len() >= MOST {
            notes.retain(|_, (_, until)| *until > now);
        }
        if notes.len() < MOST {
            notes.insert(server, (note, now + lasts));
        }
    }
}

#[derive(Clone, Copy)]
struct Bearing {
    /// `None` where nothing came in any way.
    extent: Option<Extent>,
    until: Instant,
}

impl Bearings {
    /// How to ask a server.
    pub(crate) fn of(&self, server: SocketAddr) -> Extent {
        self.known(server).and_then(|bearing| bearing.extent).unwrap_or_default()
    }

    /// Whether a silent server may be asked in other ways.
    pub(crate) fn is_worth_a_try(&self, server: SocketAddr) -> bool {
        self.known(server).is_none()
    }

    pub(crate) fn remember(&self, server: SocketAddr, extent: Extent) {
        let word = match extent {
            Extent::Usual => return,
            Extent::Small => "small",
            Extent::Plain => "plain",
        };
        metrics::counter!("nomenta_dns_asked_otherwise_total", "how" => word).increment(1);
        self.keep(server, Bearing { extent: Some(extent), until: Instant::now() + MEMORY });
    }

    /// Nothing came, however it was asked.
    pub(crate) fn give_up(&self, server: SocketAddr) {
        let until = silent_until(self.last(server), Instant::now());
        self.keep(server, Bearing { extent: None, until });
    }

    /// Notes that it has answered a usual question.
    pub(crate) fn hear(&self, server: SocketAddr) {
        self.heard.take(server, (), HEARD);
    }

    /// Whether it has answered not long ago.
    pub(crate) fn was_heard(&self, server: SocketAddr) -> bool {
        self.heard.of(server).is_some()
    }

    /// Notes that it knows names in small letters alone.
    pub(crate) fn write_small(&self, server: SocketAddr) {
        self.lower.take(server, (), MEMORY);
    }

    /// Whether names have to be sent to it in small letters.
    pub(crate) fn is_written_small(&self, server: SocketAddr) -> bool {
        self.lower.of(server).is_some()
    }

    /// Notes how many questions it did not answer even when it was asked slowly.
    pub(crate) fn take_at_its_word(&self, server: SocketAddr, unanswered: usize) {
        self.meant.take(server, unanswered, MEANT);
    }

    /// Whether it is known not to answer that many questions at any pace.
    pub(crate) fn means(&self, server: SocketAddr, unanswered: usize) -> bool {
        self.meant.of(server).is_some_and(|count| unanswered <= count)
    }

    fn known(&self, server: SocketAddr) -> Option<Bearing> {
        self.last(server).filter(|bearing| bearing.until > Instant::now())
    }

    /// What was found last, whether or not that is long ago.
    fn last(&self, server: SocketAddr) -> Option<Bearing> {
        self.extents.lock().unwrap_or_else(PoisonError::into_inner).get(&server).copied()
    }

    fn keep(&self, server: SocketAddr, bearing: Bearing) {
        let mut known = self.extents.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= MOST {
            let now = Instant::now();
            known.retain(|_, bearing| bearing.until > now);
        }
        if known.len() < MOST {
            known.insert(server, bearing);
        }
    }
}

/// Until when a server is taken at its silence, of which this was found last.
fn silent_until(last: Option<Bearing>, now: Instant) -> Instant {
    match last {
        // Found out twice at once.
        Some(Bearing { extent: None, until }) if until > now => until,
        Some(Bearing { extent: None, until }) if until + SILENCE > now => now + SILENCE,
        _ => now + FIRST_SILENCE,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_server_bears_is_remembered_and_silence_is_not_tried_twice() {
        let bearings = Bearings::default();
        let server = SocketAddr::from(([127, 53, 2, 1], 53));
        assert_eq!(bearings.of(server), Extent::Usual);
        assert!(bearings.is_worth_a_try(server));

        bearings.remember(server, Extent::Plain);
        assert_eq!(bearings.of(server), Extent::Plain);
        bearings.give_up(server);
        assert_eq!(bearings.of(server), Extent::Usual);
        assert!(!bearings.is_worth_a_try(server));
    }

    #[test]
    fn the_first_silence_is_believed_for_no_longer_than_a_look() {
        let now = Instant::now();
        let after = |extent, since| {
            let last = Bearing { extent, until: now + FIRST_SILENCE };
            let later = now + FIRST_SILENCE + since;
            silent_until(Some(last), later) - later
        };
        assert_eq!(silent_until(None, now), now + FIRST_SILENCE);
        let told = Some(Bearing { extent: None, until: now + FIRST_SILENCE });
        assert_eq!(silent_until(told, now), now + FIRST_SILENCE, "found out twice at once");
        assert_eq!(after(None, Duration::from_secs(1)), SILENCE);
        assert_eq!(after(None, SILENCE), FIRST_SILENCE, "long ago");
        assert_eq!(after(Some(Extent::Plain), Duration::from_secs(1)), FIRST_SILENCE, "it had answered");
    }
}

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
/// Servers remembered; those beyond are found out again each time.
const MOST: usize = 50_000;

/// Servers that cannot be asked in the usual way.
#[derive(Default)]
pub(crate) struct Bearings(Mutex<HashMap<SocketAddr, Bearing>>);

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
        self.keep(server, Bearing { extent: None, until: Instant::now() + SILENCE });
    }

    fn known(&self, server: SocketAddr) -> Option<Bearing> {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(&server).filter(|bearing| bearing.until > Instant::now()).copied()
    }

    fn keep(&self, server: SocketAddr, bearing: Bearing) {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= MOST {
            let now = Instant::now();
            known.retain(|_, bearing| bearing.until > now);
        }
        if known.len() < MOST {
            known.insert(server, bearing);
        }
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
}

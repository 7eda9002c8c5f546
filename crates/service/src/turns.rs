//! Turns: so many of something at once, of which nobody takes more than their share.

use std::collections::HashMap;
use std::hash::Hash;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use uuid::Uuid;

use crate::throttle::network;

/// Whom a share is kept for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Taker {
    /// Whoever has this key.
    Key(Uuid),
    /// Whoever has this handoff link.
    Link(Uuid),
    /// Whoever comes from this network, and is not known.
    Source(IpAddr),
}

impl Taker {
    /// Somebody who is not known, by the address that they come from.
    pub(crate) fn unknown(source: IpAddr) -> Self {
        Self::Source(network(source))
    }
}

/// So many turns, and how many of them each may have.
#[derive(Debug)]
pub(crate) struct Turns<K = Taker> {
    what: &'static str,
    free: Arc<Semaphore>,
    share: usize,
    taken: Mutex<HashMap<K, usize>>,
}

/// A turn, until it is dropped.
#[derive(Debug)]
pub(crate) struct Turn<K: Eq + Hash = Taker> {
    turns: Arc<Turns<K>>,
    taker: K,
    _permit: OwnedSemaphorePermit,
}

impl<K: Clone + Eq + Hash> Turns<K> {
    /// Turns of `what`: `all` at once, `share` of them for each.
    pub(crate) fn new(what: &'static str, all: usize, share: usize) -> Arc<Self> {
        Arc::new(Self { what, free: Arc::new(Semaphore::new(all)), share, taken: Mutex::default() })
    }

    /// A turn now; none where all are taken, or the taker has their share.
    pub(crate) fn take(self: &Arc<Self>, taker: K) -> Option<Turn<K>> {
        let turn = self.taken_by(taker);
        if turn.is_none() {
            metrics::counter!("nomenta_turns_refused_total", "of" => self.what).increment(1);
        }
        turn
    }

    fn taken_by(self: &Arc<Self>, taker: K) -> Option<Turn<K>> {
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        let own = taken.get(&taker).copied().unwrap_or_default();
        if own >= self.share {
            return None;
        }
        let permit = self.free.clone().try_acquire_owned().ok()?;
        taken.insert(taker.clone(), own + 1);
        Some(Turn { turns: self.clone(), taker, _permit: permit })
    }
}

impl<K: Eq + Hash> Drop for Turn<K> {
    fn drop(&mut self) {
        let mut taken = self.turns.taken.lock().unwrap_or_else(PoisonError::into_inner);
        // Whoever has none is not remembered.
        match taken.get_mut(&self.taker) {
            Some(own) if *own > 1 => *own -= 1,
            _ => drop(taken.remove(&self.taker)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nobody_takes_more_than_their_share_and_what_is_given_back_is_free_again() {
        let turns = Turns::new("tests", 3, 2);
        let [one, other] = [1, 2].map(|last| Taker::unknown([192, 0, 2, last].into()));
        let first = turns.take(one).expect("free");
        let _second = turns.take(one).expect("free");
        assert!(turns.take(one).is_none(), "that is its share");
        let third = turns.take(other).expect("free");
        assert!(turns.take(other).is_none(), "all are taken");

        drop(first);
        drop(third);
        assert!(turns.take(one).is_some());
        assert_eq!(turns.taken.lock().expect("whole").len(), 1, "whoever has none is forgotten");
    }

    #[test]
    fn neighbours_in_one_network_share() {
        let at = |text: &str| Taker::unknown(text.parse().expect("an address"));
        assert_eq!(at("2001:db8:0:1::1"), at("2001:db8:0:1:ffff::2"));
        assert_ne!(at("2001:db8:0:1::1"), at("2001:db8:0:2::1"));
        assert_ne!(Taker::Key(Uuid::nil()), Taker::Link(Uuid::nil()));
    }
}

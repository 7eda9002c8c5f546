//! Room for connections of strangers: whoever comes finds some, and whoever has kept it longest
//! without asking anything gives it up.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

use crate::quota::network;

/// So many connections, and how many of them one network may have.
#[derive(Debug)]
pub(crate) struct Room {
    most: usize,
    share: usize,
    held: Mutex<Held>,
}

#[derive(Debug, Default)]
struct Held {
    places: HashMap<u64, Place>,
    last: u64,
}

#[derive(Debug)]
struct Place {
    network: IpAddr,
    /// When it was taken, or something was last asked.
    asked: Instant,
    ended: CancellationToken,
}

/// A connection's place, until it is dropped.
#[derive(Debug)]
pub(crate) struct Stay {
    room: Arc<Room>,
    number: u64,
    ended: CancellationToken,
}

impl Room {
    /// Room for `most` connections, `share` of them of one network.
    pub(crate) fn new(most: usize, share: usize) -> Arc<Self> {
        Arc::new(Self { most, share, held: Mutex::default() })
    }

    /// A place; where there is none left, somebody else's.
    pub(crate) fn enter(self: &Arc<Self>, source: IpAddr) -> Stay {
        let (network, ended) = (network(source), CancellationToken::new());
        let mut held = self.held();
        let own = held.places.values().filter(|place| place.network == network).count();
        if own >= self.share {
            held.end_longest(|place| place.network == network);
        } else if held.places.len() >= self.most {
            held.end_longest(|_| true);
        }

        held.last += 1;
        let number = held.last;
        held.places.insert(number, Place { network, asked: Instant::now(), ended: ended.clone() });
        Stay { room: self.clone(), number, ended }
    }

    fn held(&self) -> MutexGuard<'_, Held> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Held {
    /// Ends the one of some that has asked nothing for the longest time.
    fn end_longest(&mut self, is_one: impl Fn(&Place) -> bool) {
        let some = self.places.iter().filter(|(_, place)| is_one(place));
        let Some(number) = some.min_by_key(|(_, place)| place.asked).map(|(number, _)| *number) else {
            return;
        };
        if let Some(place) = self.places.remove(&number) {
            place.ended.cancel();
            metrics::counter!("nomenta_challenge_connections_ended_total").increment(1);
        }
    }
}

impl Stay {
    /// Waits until the place is somebody else's.
    pub(crate) async fn ended(&self) {
        self.ended.cancelled().await;
    }

    /// Something was asked.
    pub(crate) fn asked(&self) {
        if let Some(place) = self.room.held().places.get_mut(&self.number) {
            place.asked = Instant::now();
        }
    }
}

impl Drop for Stay {
    fn drop(&mut self) {
        self.room.held().places.remove(&self.number);
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use tokio::time::advance;

    use super::*;

    async fn enter(room: &Arc<Room>, network: u8) -> Stay {
        advance(Duration::from_millis(10)).await;
        room.enter([192, 0, network, 1].into())
    }

    #[tokio::test(start_paused = true)]
    async fn whoever_asks_nothing_for_longest_gives_their_place_to_whoever_comes() {
        let room = Room::new(3, 2);
        let first = enter(&room, 1).await;
        let second = enter(&room, 2).await;
        let third = enter(&room, 3).await;
        advance(Duration::from_millis(10)).await;
        first.asked();

        let _fourth = enter(&room, 4).await;
        assert!(second.ended.is_cancelled(), "it has asked nothing for the longest time");
        assert!(!first.ended.is_cancelled() && !third.ended.is_cancelled());
        drop(third);
        let _fifth = enter(&room, 5).await;
        assert!(!first.ended.is_cancelled(), "there was a place that was given back");
    }

    #[tokio::test(start_paused = true)]
    async fn a_network_that_has_its_share_gives_up_one_of_its_own() {
        let room = Room::new(10, 2);
        let other = enter(&room, 2).await;
        let first = enter(&room, 1).await;
        let second = enter(&room, 1).await;
        let third = enter(&room, 1).await;
        let ended = [&other, &first, &second, &third].map(|stay| stay.ended.is_cancelled());
        assert_eq!(ended, [false, true, false, false]);
    }
}

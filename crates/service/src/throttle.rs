//! How often one source may try keys that open nothing.

use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, Ipv6Addr};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long it takes until a source that has tried too many may try another.
const EVERY: Duration = Duration::from_secs(3);
/// Sources that are remembered before those that may try all again are forgotten.
const MOST_SOURCES: usize = 20_000;
/// Keys that are remembered for having opened something.
const MOST_GOOD: usize = 5_000;

/// Counts wrong keys by source: an address, or a network of 64 bits.
pub(crate) struct Throttle {
    /// Keys that a source may try at once.
    burst: u32,
    sources: Mutex<HashMap<IpAddr, Instant>>,
    /// Whoever has one of these is let in beside those who try, at the same address.
    good: Mutex<HashSet<Vec<u8>>>,
}

impl Throttle {
    pub(crate) fn new(burst: u32) -> Self {
        Self { burst, sources: Mutex::default(), good: Mutex::default() }
    }

    /// How long a source has to wait before it may try a key; nothing, if it need not, or the
    /// key is known.
    pub(crate) fn wait(&self, source: IpAddr, hash: &[u8], now: Instant) -> Option<Duration> {
        let sources = self.sources.lock().unwrap_or_else(PoisonError::into_inner);
        let free = *sources.get(&network(source))?;
        // What was used up of the burst is told by how far ahead the source is.
        let ahead = free.saturating_duration_since(now);
        let wait = ahead.checked_sub(EVERY * (self.burst - 1)).filter(|wait| !wait.is_zero())?;
        let good = self.good.lock().unwrap_or_else(PoisonError::into_inner);
        (!good.contains(hash)).then_some(wait)
    }

    /// Remembers a key that opens something.
    pub(crate) fn right(&self, hash: &[u8]) {
        let mut good = self.good.lock().unwrap_or_else(PoisonError::into_inner);
        if good.contains(hash) {
            return;
        }
        if good.len() >= MOST_GOOD {
            good.clear();
        }
        good.insert(hash.to_vec());
    }

    /// Counts a key that opens nothing.
    pub(crate) fn wrong(&self, source: IpAddr, now: Instant) {
        metrics::counter!("nomenta_wrong_keys_total").increment(1);
        let mut sources = self.sources.lock().unwrap_or_else(PoisonError::into_inner);
        if sources.len() >= MOST_SOURCES {
            sources.retain(|_, free| *free > now);
        }
        let free = sources.entry(network(source)).or_insert(now);
        *free = (*free).max(now) + EVERY;
    }
}

/// What counts as one source: an address, or a network of 64 bits.
pub(crate) fn network(source: IpAddr) -> IpAddr {
    match source.to_canonical() {
        IpAddr::V4(address) => address.into(),
        IpAddr::V6(address) => Ipv6Addr::from_bits(address.to_bits() >> 64 << 64).into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BURST: u32 = 20;

    #[test]
    fn a_source_may_try_some_at_once_and_then_one_at_a_time() {
        let (throttle, now) = (Throttle::new(BURST), Instant::now());
        let source = IpAddr::from([192, 0, 2, 7]);
        for _ in 0..BURST {
            assert_eq!(throttle.wait(source, b"key", now), None);
            throttle.wrong(source, now);
        }
        assert_eq!(throttle.wait(source, b"key", now), Some(EVERY));
        assert_eq!(throttle.wait([192, 0, 2, 8].into(), b"key", now), None, "somebody else");
        assert_eq!(throttle.wait(source, b"key", now + EVERY), None);
        throttle.right(b"good");
        assert_eq!(throttle.wait(source, b"good", now), None, "a neighbour with a key");
    }

    #[test]
    fn neighbours_in_a_network_of_one_customer_are_one_source() {
        let (throttle, now) = (Throttle::new(BURST), Instant::now());
        let at = |text: &str| text.parse::<IpAddr>().expect("an address");
        (0..BURST).for_each(|_| throttle.wrong(at("2001:db8:0:1::1"), now));
        assert!(throttle.wait(at("2001:db8:0:1:ffff::2"), b"", now).is_some());
        assert!(throttle.wait(at("2001:db8:0:2::1"), b"", now).is_none());
    }
}

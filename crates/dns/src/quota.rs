//! How much the networks of strangers get, or give, in a time, whatever their addresses.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Networks that are remembered before what is long past is forgotten.
const MOST_NETWORKS: usize = 20_000;

/// So much in a window of time for each network: the first 24 bits of an IPv4 address, 48 of an
/// IPv6 one.
pub struct Quota {
    most: u32,
    window: Duration,
    networks: Mutex<HashMap<IpAddr, Counted>>,
}

struct Counted {
    since: Instant,
    count: u32,
}

impl Quota {
    /// `most` in each `window`.
    pub fn new(most: u32, window: Duration) -> Self {
        Self { most, window, networks: Mutex::default() }
    }

    /// Whether there is something left for an address; if so, that is taken.
    pub fn take(&self, address: IpAddr, now: Instant) -> bool {
        let mut networks = self.networks.lock().unwrap_or_else(PoisonError::into_inner);
        if networks.len() >= MOST_NETWORKS {
            networks.retain(|_, counted| now.duration_since(counted.since) < self.window);
        }
        // More of them at once than can be told apart share what is left.
        let network = if networks.len() >= MOST_NETWORKS { UNKNOWN } else { network(address) };

        let counted = networks.entry(network).or_insert(Counted { since: now, count: 0 });
        if now.duration_since(counted.since) >= self.window {
            *counted = Counted { since: now, count: 0 };
        }
        let is_left = counted.count < self.most;
        counted.count += u32::from(is_left);
        is_left
    }
}

const UNKNOWN: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);

fn network(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V4(address) => Ipv4Addr::from_bits(address.to_bits() & !0xff).into(),
        IpAddr::V6(address) => Ipv6Addr::from_bits(address.to_bits() >> 80 << 80).into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_network_gets_so_much_in_a_window_whatever_the_address() {
        let window = Duration::from_secs(60);
        let (quota, now) = (Quota::new(2, window), Instant::now());
        let at = |last| IpAddr::from([192, 0, 2, last]);
        assert!(quota.take(at(1), now) && quota.take(at(2), now));
        assert!(!quota.take(at(3), now));
        assert!(quota.take([198, 51, 100, 3].into(), now), "another network");
        assert!(quota.take(at(3), now + window));

        let six: [IpAddr; 2] = ["2001:db8:1::1", "2001:db8:1:ffff::1"].map(|text| text.parse().expect("one"));
        assert!(six.iter().all(|address| quota.take(*address, now)));
        assert!(!quota.take(six[0], now));
    }
}

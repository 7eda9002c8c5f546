//! How often networks of others are visited, however many domains lead there.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Time for which visits are counted.
const WINDOW: Duration = Duration::from_secs(60);
/// Networks that are remembered before what is long past is forgotten.
const MOST_NETWORKS: usize = 20_000;

/// Counts visits, by network: the first 24 bits of an IPv4 address, 48 of an IPv6 one.
pub(crate) struct Visits {
    /// Visits of one network in a minute.
    most: u32,
    networks: Mutex<HashMap<IpAddr, Counted>>,
}

struct Counted {
    since: Instant,
    visits: u32,
}

impl Visits {
    pub(crate) fn new(most: u32) -> Self {
        Self { most, networks: Mutex::default() }
    }

    /// Whether an address may be visited now; if so, that counts as a visit.
    pub(crate) fn admit(&self, address: IpAddr, now: Instant) -> bool {
        let mut networks = self.networks.lock().unwrap_or_else(PoisonError::into_inner);
        if networks.len() >= MOST_NETWORKS {
            networks.retain(|_, counted| now.duration_since(counted.since) < WINDOW);
        }

        let counted = networks.entry(network(address)).or_insert(Counted { since: now, visits: 0 });
        if now.duration_since(counted.since) >= WINDOW {
            *counted = Counted { since: now, visits: 0 };
        }
        let is_free = counted.visits < self.most;
        counted.visits += u32::from(is_free);
        if !is_free {
            metrics::counter!("nomenta_visits_put_off_total").increment(1);
        }
        is_free
    }
}

fn network(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V4(address) => Ipv4Addr::from_bits(address.to_bits() & !0xff).into(),
        IpAddr::V6(address) => Ipv6Addr::from_bits(address.to_bits() >> 80 << 80).into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_network_is_visited_so_often_in_a_minute_whatever_the_address() {
        let (visits, now) = (Visits::new(2), Instant::now());
        let at = |last| IpAddr::from([192, 0, 2, last]);
        assert!(visits.admit(at(1), now) && visits.admit(at(2), now));
        assert!(!visits.admit(at(3), now));
        assert!(visits.admit([198, 51, 100, 3].into(), now), "another network");
        assert!(visits.admit(at(3), now + WINDOW));

        let six: [IpAddr; 2] = ["2001:db8:1::1", "2001:db8:1:ffff::1"].map(|text| text.parse().expect("one"));
        assert!(six.iter().all(|address| visits.admit(*address, now)));
        assert!(!visits.admit(six[0], now));
    }
}

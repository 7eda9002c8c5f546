//! How much the networks of strangers get, or give, in a time, whatever their addresses.

use std::collections::{BTreeMap, HashMap};
use std::hash::{BuildHasher, RandomState};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// Networks that are remembered before what is long past is forgotten.
const MOST_NETWORKS: usize = 20_000;
/// Of those beyond, so many are told apart: which share with each other nobody outside can know, so
/// a flood from made-up addresses takes what one of them has from few others.
const BEYOND: u64 = 4_096;

/// So much in a window of time for each network: the first 24 bits of an IPv4 address, 48 of an
/// IPv6 one.
pub struct Quota {
    most: u32,
    window: Duration,
    networks: Mutex<Networks>,
    /// Puts those beyond in their places.
    places: RandomState,
}

#[derive(Default)]
struct Networks {
    counted: HashMap<IpAddr, Counted>,
    /// When what was long past was forgotten.
    forgotten: Option<Instant>,
}

struct Counted {
    since: Instant,
    count: u32,
}

impl Quota {
    /// `most` in each `window`.
    pub fn new(most: u32, window: Duration) -> Self {
        Self { most, window, networks: Mutex::default(), places: RandomState::new() }
    }

    /// Whether there is something left for an address; if so, that is taken.
    pub fn take(&self, address: IpAddr, now: Instant) -> bool {
        let mut networks = self.remembered(now);
        let counted = self.counted(&mut networks, network(address), now);
        let is_left = counted.count < self.most;
        counted.count += u32::from(is_left);
        is_left
    }

    /// Whether there are `times` left for each of some addresses, which may be of one network; if
    /// so, that is taken, else nothing is.
    pub fn take_each(&self, addresses: &[IpAddr], times: u32, now: Instant) -> bool {
        let mut wanted: BTreeMap<IpAddr, u32> = BTreeMap::new();
        for address in addresses {
            *wanted.entry(network(*address)).or_default() += times;
        }

        let mut networks = self.remembered(now);
        let are_left = wanted
            .iter()
            .all(|(network, times)| self.counted(&mut networks, *network, now).count + times <= self.most);
        if are_left {
            for (network, times) in wanted {
                self.counted(&mut networks, network, now).count += times;
            }
        }
        are_left
    }

    /// What is remembered, without what is long past where that is much. A flood from everywhere
    /// has it looked through once in a window, not for each packet.
    fn remembered(&self, now: Instant) -> MutexGuard<'_, Networks> {
        let mut networks = self.networks.lock().unwrap_or_else(PoisonError::into_inner);
        let is_over = |since: Instant| now.duration_since(since) >= self.window;
        if networks.counted.len() >= MOST_NETWORKS && networks.forgotten.is_none_or(is_over) {
            networks.counted.retain(|_, counted| !is_over(counted.since));
            networks.forgotten = Some(now);
        }
        networks
    }

    /// What a network has had in this window. More of them at once than can be told apart share.
    fn counted<'a>(&self, networks: &'a mut Networks, network: IpAddr, now: Instant) -> &'a mut Counted {
        let counted = &mut networks.counted;
        let is_told_apart = counted.len() < MOST_NETWORKS || counted.contains_key(&network);
        let counted = counted
            .entry(if is_told_apart { network } else { self.beyond(network) })
            .or_insert(Counted { since: now, count: 0 });
        if now.duration_since(counted.since) >= self.window {
            *counted = Counted { since: now, count: 0 };
        }
        counted
    }

    /// Where a network is counted that cannot be told apart: under an address that nobody has.
    fn beyond(&self, network: IpAddr) -> IpAddr {
        Ipv6Addr::from_bits(u128::from(self.places.hash_one(network) % BEYOND)).into()
    }
}

/// The network that an address is counted under.
pub(crate) fn network(address: IpAddr) -> IpAddr {
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

    #[test]
    fn several_get_all_or_nothing() {
        let (quota, now) = (Quota::new(4, Duration::from_secs(60)), Instant::now());
        let at = |network, last| IpAddr::from([192, 0, network, last]);
        assert!(!quota.take_each(&[at(2, 1), at(3, 1), at(3, 2)], 3, now), "six of one network");
        assert!(quota.take_each(&[at(2, 1), at(3, 1), at(3, 2)], 2, now), "nothing was taken before");
        assert!(!quota.take(at(3, 9), now));
        assert!(quota.take_each(&[at(2, 1)], 2, now));
    }

    #[test]
    fn more_networks_than_are_remembered_share_and_none_of_them_shares_with_all() {
        let window = Duration::from_secs(60);
        let (quota, now) = (Quota::new(2, window), Instant::now());
        let network = |number: u32| IpAddr::from(Ipv4Addr::from_bits(number << 8));
        for number in 0..MOST_NETWORKS as u32 {
            assert!(quota.take(network(number), now));
        }

        let later = now + Duration::from_secs(1);
        let beyond = 100_000..100_000 + 8 * BEYOND as u32;
        let taken = beyond.clone().filter(|number| quota.take(network(*number), later)).count();
        assert!(taken > BEYOND as usize && taken <= 2 * BEYOND as usize, "{taken} of {beyond:?}");
        assert!(quota.take(network(1), later), "whoever is remembered has their own");
        assert!(quota.take(network(beyond.end), now + window * 2), "what is long past is forgotten");
        assert!(quota.networks.lock().expect("whole").counted.len() <= MOST_NETWORKS + BEYOND as usize);
    }
}

//! How fast one server is asked: so many questions on the way, so many a
//! second, fewer while it refuses or says nothing.

use std::collections::{HashMap, VecDeque};
use std::net::SocketAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use tokio::time::Instant;

/// Longest gap between two questions to a server that does not want them.
const LONGEST_GAP: Duration = Duration::from_millis(50);
/// First gap after a refusal or a silence.
const FIRST_GAP: Duration = Duration::from_millis(2);
/// Questions of single looks that go before one of a sweep, at most.
const MOST_BEFORE_SWEPT: u32 = 3;
/// Tries lost in a row after which a question is sent once only.
const MOST_LOST: u32 = 8;
/// How long such a silence is held against a server.
const MEMORY: Duration = Duration::from_secs(10);

/// What one server may be asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Politeness {
    /// Questions on the way at once, 1 or more.
    pub in_flight: usize,
    /// Questions in a second; 0 for no limit.
    pub per_second: u32,
}

impl Default for Politeness {
    fn default() -> Self {
        Self { in_flight: 64, per_second: 1000 }
    }
}

impl Politeness {
    pub(crate) fn gap(self) -> Duration {
        match self.per_second {
            0 => Duration::ZERO,
            rate => Duration::from_secs(1) / rate,
        }
    }
}

/// How long a server that limits rates is asked slowly, before it is tried again as fast as others.
const PACED: Duration = Duration::from_secs(600);
/// Servers that are asked slowly at most; those beyond are found out again each time.
const MAX_PACED: usize = 50_000;

/// Servers that have to be asked slowly: the gap between two questions, and until when that is
/// believed.
#[derive(Default)]
pub(crate) struct Paces {
    gaps: Mutex<HashMap<SocketAddr, (Duration, Instant)>>,
    /// How many there are, for whoever asks about each of a hundred thousand questions.
    count: AtomicUsize,
}

impl Paces {
    /// The least gap between two questions to a server.
    pub(crate) fn of(&self, server: SocketAddr) -> Duration {
        if self.count.load(Ordering::Relaxed) == 0 {
            return Duration::ZERO;
        }
        let gaps = self.gaps.lock().unwrap_or_else(PoisonError::into_inner);
        gaps.get(&server).filter(|(_, until)| *until > Instant::now()).map_or(Duration::ZERO, |(gap, _)| *gap)
    }

    /// Sets it; none for no gap.
    pub(crate) fn set(&self, server: SocketAddr, gap: Duration) {
        let mut gaps = self.gaps.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        if gaps.len() >= MAX_PACED {
            gaps.retain(|_, (_, until)| *until > now);
        }

        match gap {
            Duration::ZERO => drop(gaps.remove(&server)),
            gap if gaps.len() < MAX_PACED => drop(gaps.insert(server, (gap, now + PACED))),
            _ => {}
        }
        self.count.store(gaps.len(), Ordering::Relaxed);
    }
}

/// What may be sent to a server now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Next {
    /// This question.
    Query(usize),
    /// Nothing before this moment.
    Later(Instant),
    /// Nothing before an answer comes.
    Busy,
    /// Nothing is queued.
    Nothing,
}

/// One server and the questions for it.
#[derive(Debug)]
pub(crate) struct Server {
    politeness: Politeness,
    queue: VecDeque<usize>,
    /// Questions of sweeps, behind those of single looks: there are thousands of them at once.
    swept: VecDeque<usize>,
    /// Questions in a row that went before those.
    before_swept: u32,
    listed: bool,
    in_flight: usize,
    gap: Duration,
    /// The least gap that the server has been found to bear.
    floor: Duration,
    next: Option<Instant>,
    lost: u32,
    lost_at: Option<Instant>,
    /// Whether it gives names back with their letters changed, so that they are sent small.
    pub folds_case: bool,
}

impl Server {
    pub(crate) fn new(politeness: Politeness) -> Self {
        Self {
            politeness,
            queue: VecDeque::new(),
            swept: VecDeque::new(),
            before_swept: 0,
            listed: false,
            in_flight: 0,
            gap: politeness.gap(),
            floor: politeness.gap(),
            next: None,
            lost: 0,
            lost_at: None,
            folds_case: false,
        }
    }

    /// Asks it no faster than with this gap from here on.
    pub(crate) fn pace(&mut self, gap: Duration) {
        let floor = gap.max(self.politeness.gap());
        if floor != self.floor {
            self.floor = floor;
            self.gap = floor;
            self.next = self.next.map(|at| at.min(Instant::now() + floor));
        }
    }

    /// Queues a question; `true` if the server must be listed as active now.
    pub(crate) fn push_back(&mut self, key: usize, is_swept: bool) -> bool {
        let queue = if is_swept { &mut self.swept } else { &mut self.queue };
        queue.push_back(key);
        !std::mem::replace(&mut self.listed, true)
    }

    fn has_none(&self) -> bool {
        self.queue.is_empty() && self.swept.is_empty()
    }

    fn pop_front(&mut self) -> Option<usize> {
        if self.queue.is_empty() || self.before_swept == MOST_BEFORE_SWEPT {
            self.before_swept = 0;
            return self.swept.pop_front().or_else(|| self.queue.pop_front());
        }
        self.before_swept += 1;
        self.queue.pop_front()
    }

    /// The next question, counted as on the way.
    pub(crate) fn next(&mut self, now: Instant) -> Next {
        if self.has_none() {
            self.listed = false;
            return Next::Nothing;
        }
        if self.in_flight >= self.politeness.in_flight {
            return Next::Busy;
        }
        if let Some(at) = self.next.filter(|at| *at > now) {
            return Next::Later(at);
        }

        let Some(key) = self.pop_front() else { return Next::Nothing };
        self.in_flight += 1;
        // A late turn does not push the ones after it back, within reason.
        let slack = if self.gap > LONGEST_GAP { Duration::ZERO } else { self.gap * 16 };
        let due = self.next.map_or(now, |at| at.max(now - slack));
        self.next = (!self.gap.is_zero()).then(|| due + self.gap);
        Next::Query(key)
    }

    /// A try came back, or was given up.
    pub(crate) fn landed(&mut self) {
        self.in_flight = self.in_flight.saturating_sub(1);
    }

    pub(crate) fn answered(&mut self) {
        self.lost = 0;
        self.gap = (self.gap / 2).max(self.floor);
    }

    pub(crate) fn refused(&mut self) {
        self.lost = 0;
        self.slow_down();
    }

    pub(crate) fn silent(&mut self, now: Instant) {
        self.lost = self.lost.saturating_add(1);
        self.lost_at = Some(now);
        self.slow_down();
    }

    fn slow_down(&mut self) {
        self.gap = (self.gap * 2).clamp(FIRST_GAP, LONGEST_GAP).max(self.floor);
    }

    /// How often a question is worth sending.
    pub(crate) fn tries(&self, usual: u32) -> u32 {
        let is_fresh = self.lost_at.is_some_and(|at| at.elapsed() < MEMORY);
        if self.lost >= MOST_LOST && is_fresh { 1 } else { usual }
    }

    /// Whether nothing is queued or on the way, and nothing held against it.
    pub(crate) fn is_idle(&self) -> bool {
        self.has_none() && self.in_flight == 0 && !self.listed
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn server(in_flight: usize, per_second: u32) -> Server {
        let mut server = Server::new(Politeness { in_flight, per_second });
        for key in 0..10 {
            server.push_back(key, false);
        }
        server
    }

    #[test]
    fn no_more_are_on_the_way_than_allowed() {
        let (mut server, now) = (server(2, 0), Instant::now());
        assert_eq!([0, 1].map(|_| server.next(now)), [Next::Query(0), Next::Query(1)]);
        assert_eq!(server.next(now), Next::Busy);
        server.landed();
        assert_eq!(server.next(now), Next::Query(2));
    }

    #[test]
    fn single_looks_go_before_sweeps_which_come_to_their_turn_all_the_same() {
        let (mut server, now) = (Server::new(Politeness { in_flight: 64, per_second: 0 }), Instant::now());
        for key in 0..5 {
            server.push_back(key, false);
        }
        for key in 100..104 {
            server.push_back(key, true);
        }
        let order = [0, 1, 2, 100, 3, 4, 101, 102, 103];
        assert_eq!(order.map(|_| server.next(now)), order.map(Next::Query));
        assert_eq!(server.next(now), Next::Nothing);
    }

    #[test]
    fn the_rate_spaces_questions_out() {
        let (mut server, now) = (server(9, 100), Instant::now());
        assert_eq!(server.next(now), Next::Query(0));
        let later = now + Duration::from_millis(10);
        assert_eq!(server.next(now), Next::Later(later));
        assert_eq!(server.next(later), Next::Query(1));
    }

    #[test]
    fn refusals_and_silence_slow_down_and_answers_speed_up_again() {
        let (mut server, now) = (server(9, 0), Instant::now());
        for _ in 0..20 {
            server.refused();
        }
        assert_eq!(server.gap, LONGEST_GAP);
        for _ in 0..40 {
            server.answered();
        }
        assert_eq!(server.next(now), Next::Query(0));
        for _ in 0..MOST_LOST {
            server.silent(now);
        }
        assert_eq!((server.tries(3), server.gap), (1, LONGEST_GAP));
        server.answered();
        assert_eq!(server.tries(3), 3);
    }

    #[test]
    fn a_server_that_limits_rates_is_asked_no_faster_than_it_bears() {
        let (paces, address) = (Paces::default(), SocketAddr::from(([127, 53, 2, 1], 53)));
        assert_eq!(paces.of(address), Duration::ZERO);
        let second = Duration::from_secs(1);
        paces.set(address, second);
        assert_eq!(paces.of(address), second);

        let (mut server, now) = (server(9, 0), Instant::now());
        server.pace(paces.of(address));
        assert_eq!(server.next(now), Next::Query(0));
        server.answered();
        assert_eq!(server.next(now), Next::Later(now + second), "an answer makes it no faster");
        assert_eq!(server.next(now + second * 9), Next::Query(1));
        assert_eq!(
            server.next(now + second * 9),
            Next::Later(now + second * 10),
            "a late turn is made up by none"
        );

        paces.set(address, Duration::ZERO);
        server.pace(paces.of(address));
        assert_eq!(server.next(now + second * 10), Next::Query(2));
        assert_eq!(server.next(now + second * 10), Next::Query(3));
    }

    #[test]
    fn an_emptied_server_is_listed_anew() {
        let mut server = Server::new(Politeness::default());
        assert!(server.push_back(7, false));
        assert!(!server.push_back(8, true));
        let now = Instant::now() + Duration::from_secs(1);
        let all = [0, 1, 2].map(|n| server.next(now + Duration::from_secs(n)));
        assert_eq!(all, [Next::Query(7), Next::Query(8), Next::Nothing]);
        assert!(!server.is_idle() && server.push_back(9, false));
    }
}

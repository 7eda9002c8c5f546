//! Questions to servers: by UDP with tries, by TCP when truncated, and with less
//! of EDNS where a server cannot bear it.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use futures::StreamExt;
use futures::future::join_all;
use futures::stream;
use nomenta_core::reading::answer::Rcode;
use nomenta_core::reading::cut::Limit;
use tokio::time::{sleep, timeout_at};

use crate::ask::{Answered, Ask, Got};
use crate::bearing::Bearings;
use crate::budget::{Budget, Round};
use crate::engine::{Engine, Settings};
use crate::pace::Paces;
use crate::tcp::Tcp;
use crate::wire::Extent;

/// TCP connections at once, over all servers.
const CONNECTIONS: usize = 64;
/// Codes by which servers turn EDNS away (RFC 6891, section 7): FORMERR, NOTIMP
/// and BADVERS.
const TURNED_AWAY: [Rcode; 3] = [Rcode::Other(1), Rcode::Other(4), Rcode::Other(16)];
/// Gaps between two questions to a server that has answered some and not others, the next one
/// where the one before did not help. The last is below one question a second.
const SLOWER: [Duration; 5] = [
    Duration::from_millis(100),
    Duration::from_millis(250),
    Duration::from_millis(500),
    Duration::from_millis(1000),
    Duration::from_millis(2000),
];
/// Questions by which it is found out whether a server that says nothing answers when it is asked
/// slower.
const SAMPLE: usize = 2;
/// Questions, and one in so many of all, that a server must have answered only once it was asked
/// slower, before it counts as one that limits rates.
const LIMITED_AT_LEAST: usize = 3;
const LIMITED_SHARE: usize = 5;
/// Rounds in a row in which going slower did not help, after which it is not the pace.
const FRUITLESS: u32 = 2;

/// Asks questions.
pub(crate) struct Exchange {
    engine: Engine,
    timeout: Duration,
    records: usize,
    bearings: Bearings,
    paces: Arc<Paces>,
}

impl Exchange {
    pub(crate) fn new(settings: Settings) -> Self {
        let Settings { timeout, records, .. } = settings;
        let paces = Arc::new(Paces::default());
        let engine = Engine::new(settings, paces.clone());
        Self { engine, timeout, records, bearings: Bearings::default(), paces }
    }

    /// Whether a server has to be asked slowly.
    pub(crate) fn is_paced(&self, server: SocketAddr) -> bool {
        self.paces.of(server) > Duration::ZERO
    }

    /// Whether a server has answered not long ago, so that what it does not answer now may be for
    /// our own pace.
    pub(crate) fn was_heard(&self, server: SocketAddr) -> bool {
        self.bearings.was_heard(server)
    }

    /// One question.
    pub(crate) async fn ask(&self, ask: &Ask, budget: &Budget) -> Answered {
        self.ask_all(vec![ask.clone()], budget).await.pop().unwrap_or((Got::Silence, Duration::ZERO))
    }

    /// Many questions, answered in their order.
    pub(crate) async fn ask_all(&self, asks: Vec<Ask>, budget: &Budget) -> Vec<Answered> {
        let mut asks = self.borne(asks);
        let mut answers = self.put(&asks, budget).await;
        self.without_edns(&mut asks, &mut answers, budget).await;
        self.hear(&asks, &answers);

        let is_unheard = |ask: &Ask| !self.bearings.was_heard(ask.server);
        self.otherwise(&mut asks, &mut answers, is_unheard, budget).await;
        marked(&asks, answers)
    }

    /// The same for one server that may bear less than it was asked: what it has not answered,
    /// while it answered other questions, is asked again ever slower, in small letters, since some
    /// servers know no others. What our own pace has provoked is held against nobody.
    pub(crate) async fn ask_patiently(&self, asks: Vec<Ask>, round: Round<'_>) -> Vec<Answered> {
        let late = || vec![(Got::Late, Duration::ZERO); asks.len()];
        let asked = timeout_at(round.deadline, self.ask_all(asks.clone(), round.budget)).await;
        let mut answers = asked.unwrap_or_else(|_| late());

        let mut asks = self.borne(asks);
        if timeout_at(round.patience, self.slowly(&mut asks, &mut answers, round.budget)).await.is_err() {
            // It answers, and not as fast as there is time for: that says nothing about the rest.
            let unanswered = answers.iter_mut().filter(|(got, _)| is_worth_patience(got));
            unanswered.for_each(|answered| *answered = (Got::Late, Duration::ZERO));
        }
        marked(&asks, answers)
    }

    /// Asks again, ever slower, what a server has not answered while it answered other questions.
    ///
    /// The pauses are between the questions of this one look: others may ask the same server about
    /// zones that have nothing to do with it. Only a server that has answered so much more once it
    /// was asked slower is asked slowly by everybody.
    async fn slowly(&self, asks: &mut [Ask], answers: &mut [Answered], budget: &Budget) {
        let Some(server) = asks.first().map(|ask| ask.server) else { return };
        let mut left: Vec<usize> =
            (0..asks.len()).filter(|place| is_worth_patience(&answers[*place].0)).collect();
        let is_answering = self.is_paced(server) || self.bearings.was_heard(server);
        if left.is_empty() || !is_answering || self.bearings.means(server, left.len()) {
            return;
        }

        let first_left = left.len();
        // One that says nothing at all any more is not worth a question for each that was put.
        let is_silent = left.len() == asks.len();
        let mut found = None;
        let mut fruitless = 0;
        for gap in SLOWER.into_iter().filter(|gap| *gap > self.paces.of(server)) {
            let most = if is_silent && found.is_none() { SAMPLE } else { left.len() };
            let put = left[..most.min(left.len())].to_vec();
            put.iter().for_each(|place| asks[*place].lower = true);

            let again = put.iter().enumerate().map(|(turn, place)| {
                let ask = asks[*place].clone();
                async move {
                    sleep(gap * u32::try_from(turn + 1).unwrap_or(u32::MAX)).await;
                    self.put(&[ask], budget).await.pop()
                }
            });
            for (place, answered) in put.iter().zip(join_all(again).await) {
                let Some(answered) = answered else { continue };
                if !is_worth_patience(&answered.0) || matches!(answers[*place].0, Got::Late) {
                    answers[*place] = answered;
                }
            }

            let before = left.len();
            left.retain(|place| is_worth_patience(&answers[*place].0));
            if left.len() < before {
                (found, fruitless) = (Some(gap), 0);
            } else {
                fruitless += 1;
            }
            if left.is_empty() || fruitless == FRUITLESS {
                break;
            }
        }

        let helped = first_left - left.len();
        if let Some(gap) =
            found.filter(|_| helped >= LIMITED_AT_LEAST && helped * LIMITED_SHARE >= asks.len())
        {
            self.paces.set(server, gap);
            metrics::counter!("nomenta_dns_servers_slowed_total").increment(1);
        }
        if !left.is_empty() {
            self.bearings.take_at_its_word(server, left.len());
            self.otherwise(asks, answers, |_| true, budget).await;
        }
    }

    /// Notes that a server knows names in small letters alone: it compares them by their octets.
    pub(crate) fn write_small(&self, server: SocketAddr) {
        self.bearings.write_small(server);
    }

    /// Notes the servers that have answered in the usual way.
    fn hear(&self, asks: &[Ask], answers: &[Answered]) {
        let mut heard: Option<SocketAddr> = None;
        for (ask, (got, _)) in asks.iter().zip(answers) {
            let is_usual = ask.extent == Extent::Usual && is_usable(got);
            if is_usual && heard != Some(ask.server) {
                heard = Some(ask.server);
                self.bearings.hear(ask.server);
            }
        }
    }

    /// The same by UDP alone, and in no other way than is known: in as little time as that takes,
    /// whatever any one server does.
    pub(crate) async fn ask_briefly(&self, asks: Vec<Ask>) -> Vec<Answered> {
        let asks = self.borne(asks);
        let mut answers = self.engine.ask_all(&asks).await;
        for (got, _) in &mut answers {
            if matches!(got, Got::Reply(reply) if reply.truncated) {
                *got = Got::Unread(Limit::Connections);
            }
        }
        marked(&asks, answers)
    }

    /// Asks each server for what it is known to bear.
    fn borne(&self, mut asks: Vec<Ask>) -> Vec<Ask> {
        for ask in &mut asks {
            ask.extent = self.bearings.of(ask.server);
            ask.lower |= self.bearings.is_written_small(ask.server);
        }
        asks
    }

    /// Sends every question as its server is known to bear it.
    async fn put(&self, asks: &[Ask], budget: &Budget) -> Vec<Answered> {
        let mut answers = self.engine.ask_all(asks).await;

        let mut by_server: BTreeMap<SocketAddr, Vec<usize>> = BTreeMap::new();
        for (place, (got, _)) in answers.iter().enumerate() {
            if matches!(got, Got::Reply(reply) if reply.truncated) {
                by_server.entry(asks[place].server).or_default().push(place);
            }
        }

        let fetches = stream::iter(by_server).map(|(server, places)| async move {
            let asks: Vec<Ask> = places.iter().map(|place| asks[*place].clone()).collect();
            let tcp = Tcp { time_limit: self.timeout * 2, records: self.records, budget };
            (places, tcp.fetch(server, &asks).await)
        });
        let whole: Vec<_> = fetches.buffer_unordered(CONNECTIONS).collect().await;
        for (places, fetched) in whole {
            for (place, answered) in places.into_iter().zip(fetched) {
                answers[place] = answered;
            }
        }

        answers
    }

    /// Puts again, without EDNS, what was turned away for it (RFC 6891, section
    /// 7), and remembers the servers for which that helped.
    async fn without_edns(&self, asks: &mut [Ask], answers: &mut [Answered], budget: &Budget) {
        let places: Vec<usize> = (0..asks.len())
            .filter(|place| asks[*place].extent != Extent::Plain && is_turned_away(&answers[*place].0))
            .collect();

        let before: Vec<Extent> = places.iter().map(|place| asks[*place].extent).collect();
        let again = self.again(asks, &places, Extent::Plain, budget).await;
        for ((place, again), before) in again.into_iter().zip(before) {
            if matches!(again.0, Got::Reply(_)) && !is_turned_away(&again.0) {
                self.bearings.remember(asks[place].server, Extent::Plain);
                answers[place] = again;
            } else {
                // It is the question itself that is turned away, as of a type that is not known.
                asks[place].extent = before;
            }
        }
    }

    /// Where nothing came: finds out with one question for each server whether
    /// it can be asked otherwise, and asks the others in that way.
    async fn otherwise(
        &self,
        asks: &mut [Ask],
        answers: &mut [Answered],
        is_meant: impl Fn(&Ask) -> bool,
        budget: &Budget,
    ) {
        let mut silent: Vec<usize> = (0..asks.len()).collect();
        silent.retain(|place| {
            let is_silent = matches!(answers[*place].0, Got::Silence | Got::Garbled(_));
            is_silent
                && is_meant(&asks[*place])
                && asks[*place].extent == Extent::Usual
                && self.bearings.is_worth_a_try(asks[*place].server)
        });

        let mut samples: Vec<usize> = Vec::new();
        for place in &silent {
            if !samples.iter().any(|known| asks[*known].server == asks[*place].server) {
                samples.push(*place);
            }
        }

        let tried = join_all(samples.iter().map(|place| self.try_otherwise(&asks[*place], budget))).await;
        for (sample, found) in samples.into_iter().zip(tried) {
            let server = asks[sample].server;
            let Some((extent, answered)) = found else {
                self.bearings.give_up(server);
                continue;
            };
            self.bearings.remember(server, extent);
            answers[sample] = answered;

            let rest: Vec<_> =
                silent.iter().copied().filter(|p| *p != sample && asks[*p].server == server).collect();
            for (place, again) in self.again(asks, &rest, extent, budget).await {
                answers[place] = again;
            }
        }
    }

    /// Asks the same once more, for less, and without EDNS; what was answered
    /// first in that order, if anything was. A server that answers by TCP alone
    /// is none that resolvers ask.
    async fn try_otherwise(&self, ask: &Ask, budget: &Budget) -> Option<(Extent, Answered)> {
        let asks = [Extent::Usual, Extent::Small, Extent::Plain].map(|extent| Ask { extent, ..ask.clone() });
        let mut answers = asks.iter().zip(self.put(&asks, budget).await);
        let (found, answered) = answers
            .find(|(_, (got, _))| matches!(got, Got::Reply(_) | Got::Short(_)) && !is_turned_away(got))?;
        Some((found.extent, answered))
    }

    /// Puts some of the questions again, in another way.
    async fn again(
        &self,
        asks: &mut [Ask],
        places: &[usize],
        extent: Extent,
        budget: &Budget,
    ) -> Vec<(usize, Answered)> {
        let mut again = Vec::with_capacity(places.len());
        for place in places {
            asks[*place].extent = extent;
            again.push(asks[*place].clone());
        }

        if again.is_empty() {
            return Vec::new();
        }
        places.iter().copied().zip(self.put(&again, budget).await).collect()
    }
}

/// The answers, with what was asked without EDNS marked so.
fn marked(asks: &[Ask], mut answers: Vec<Answered>) -> Vec<Answered> {
    for (ask, (got, _)) in asks.iter().zip(&mut answers) {
        if let (Extent::Plain, Got::Reply(reply)) = (ask.extent, got) {
            reply.without_edns = true;
        }
    }
    answers
}

/// Whether a server may answer what it has not answered once it is asked slower: where it limits
/// rates, it is silent, refuses, or cuts short what it then does not give by TCP.
fn is_worth_patience(got: &Got) -> bool {
    match got {
        Got::Silence | Got::Garbled(_) | Got::Late | Got::Short(_) => true,
        Got::Reply(reply) => matches!(reply.rcode, Rcode::Refused | Rcode::ServFail),
        Got::NoRoute | Got::Unread(_) => false,
    }
}

fn is_usable(got: &Got) -> bool {
    matches!(got, Got::Reply(reply) if matches!(reply.rcode, Rcode::NoError | Rcode::NxDomain) && !reply.truncated)
}

fn is_turned_away(got: &Got) -> bool {
    matches!(got, Got::Reply(reply) if TURNED_AWAY.contains(&reply.rcode))
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;
    use std::time::Instant;

    use nomenta_core::reading::record::RecordType;
    use tokio::net::UdpSocket;

    use super::*;
    use crate::SurveyLimits;
    use crate::pace::Politeness;
    use crate::wire::Mode;

    /// What a server does with a question beyond its rate.
    #[derive(Clone, Copy, Debug)]
    enum Beyond {
        Drops,
        Refuses,
        CutsShort,
    }

    /// A server that answers five questions at once and then one in so long, and never a name of
    /// other than small letters if it is told so.
    async fn limited(every: Duration, beyond: Beyond) -> SocketAddr {
        let socket = UdpSocket::bind("127.0.0.1:0").await.expect("bound");
        let address = socket.local_addr().expect("an address");
        tokio::spawn(async move {
            let mut buffer = [0; 2048];
            let mut free_at = Instant::now();
            while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
                let now = Instant::now();
                free_at = free_at.max(now - every * 5);
                let is_within = free_at <= now;
                if is_within {
                    free_at += every;
                }
                let flags = match (is_within, beyond) {
                    (true, _) => [0x84, 0],
                    (false, Beyond::Refuses) => [0x84, 5],
                    (false, Beyond::CutsShort) => [0x86, 0],
                    (false, Beyond::Drops) => continue,
                };
                let reply = [&buffer[..2], &flags, &buffer[4..length]].concat();
                let _ = socket.send_to(&reply, from).await;
            }
        });
        address
    }

    fn exchange() -> Exchange {
        let politeness = Politeness { in_flight: 64, per_second: 1000 };
        Exchange::new(Settings { timeout: Duration::from_millis(300), tries: 2, politeness, records: 100 })
    }

    fn asks(server: SocketAddr, count: usize) -> Vec<Ask> {
        let name = |n| format!("s{n}.onswick.example");
        (0..count).map(|n| Ask::new(server, &name(n), RecordType::A, Mode::Authority)).collect()
    }

    #[tokio::test]
    async fn a_server_that_limits_rates_is_asked_slower_until_it_answers_everything() {
        let rates = [Beyond::Drops, Beyond::Refuses, Beyond::CutsShort].map(|beyond| async move {
            let server = limited(Duration::from_millis(200), beyond).await;
            let exchange = exchange();
            let budget = Budget::new(SurveyLimits::default());
            let answers = exchange.ask_patiently(asks(server, 12), budget.round()).await;
            let is_whole = |got: &Got| matches!(got, Got::Reply(reply) if reply.rcode == Rcode::NoError);
            assert!(answers.iter().all(|(got, _)| is_whole(got)), "{beyond:?}: {answers:?}");
            assert!(exchange.is_paced(server), "{beyond:?}: the next look begins at that pace");
        });
        join_all(rates).await;
    }

    #[tokio::test]
    async fn a_server_that_is_not_asked_as_slowly_as_it_wants_is_late_and_not_silent() {
        let server = limited(Duration::from_secs(60), Beyond::Drops).await;
        let patience = Duration::from_millis(900);
        let limits = SurveyLimits { readings: patience, patience, ..SurveyLimits::default() };
        let budget = Budget::new(limits);
        let answers = exchange().ask_patiently(asks(server, 12), budget.round()).await;
        assert!(answers.iter().any(|(got, _)| matches!(got, Got::Reply(_))), "{answers:?}");
        assert!(answers.iter().all(|(got, _)| matches!(got, Got::Reply(_) | Got::Late)), "{answers:?}");
    }

    #[tokio::test]
    async fn what_a_server_refuses_at_any_pace_is_asked_a_few_times_and_then_believed() {
        let socket = UdpSocket::bind("127.0.0.1:0").await.expect("bound");
        let server = socket.local_addr().expect("an address");
        let count = Arc::new(Mutex::new(0));
        let counted = count.clone();
        tokio::spawn(async move {
            let mut buffer = [0; 2048];
            while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
                *counted.lock().expect("a lock") += 1;
                let code = if buffer[14] == b'1' { 5 } else { 0 };
                let reply = [&buffer[..2], &[0x84, code], &buffer[4..length]].concat();
                let _ = socket.send_to(&reply, from).await;
            }
        });

        let exchange = exchange();
        let budget = Budget::new(SurveyLimits::default());
        let mut sent = Vec::new();
        for _ in 0..2 {
            let answers = exchange.ask_patiently(asks(server, 5), budget.round()).await;
            let refused: Vec<bool> = answers
                .iter()
                .map(|(got, _)| matches!(got, Got::Reply(reply) if reply.rcode == Rcode::Refused))
                .collect();
            assert_eq!(refused, [false, true, false, false, false]);
            sent.push(std::mem::take(&mut *count.lock().expect("a lock")));
        }
        assert_eq!(sent, [5 + usize::try_from(FRUITLESS).expect("few"), 5]);
        assert!(!exchange.is_paced(server));
    }
}

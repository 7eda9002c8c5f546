//! Patience with servers that limit how fast they are asked, as many do as they are installed: by
//! silence, by refusals, or by answers that are cut short.
//!
//! What one look asks of a server comes in a burst. Whatever a server did not answer in it, while it
//! answered other questions, is asked again ever slower before anything is held against it.

use std::time::Duration;

use futures::future::join_all;
use nomenta_core::reading::answer::Rcode;
use tokio::time::{sleep, timeout_at};

use super::{Exchange, marked};
use crate::ask::{Answered, Ask, Got};
use crate::budget::{Budget, Round};

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

impl Exchange {
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
        if let Some(gap) = found.filter(|_| is_much(helped, asks.len()))
            && self.is_limiting(asks, budget).await
        {
            self.paces.set(server, gap);
            metrics::counter!("nomenta_dns_servers_slowed_total").increment(1);
        }
        if !left.is_empty() {
            self.bearings.take_at_its_word(server, left.len());
            self.otherwise(asks, answers, |_| true, budget).await;
        }
    }

    /// Whether a server does not answer a burst once more, now that it has answered: one that was away
    /// for a moment limits nothing.
    async fn is_limiting(&self, asks: &[Ask], budget: &Budget) -> bool {
        let again = self.put(asks, budget).await;
        let unanswered = again.iter().filter(|(got, _)| is_worth_patience(got)).count();
        is_much(unanswered, asks.len())
    }
}

/// Whether so many questions of all tell of a limit.
fn is_much(questions: usize, of: usize) -> bool {
    questions >= LIMITED_AT_LEAST && questions * LIMITED_SHARE >= of
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

#[cfg(test)]
mod tests {
    use std::net::SocketAddr;
    use std::sync::{Arc, Mutex};
    use std::time::Instant;

    use nomenta_core::reading::record::RecordType;
    use tokio::net::UdpSocket;

    use super::*;
    use crate::SurveyLimits;
    use crate::engine::Settings;
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
        let patience = Duration::from_secs(3);
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

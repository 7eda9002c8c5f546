//! Questions to servers: by UDP with tries, by TCP when truncated, and with less
//! of EDNS where a server cannot bear it.

mod patience;

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use futures::StreamExt;
use futures::future::join_all;
use futures::stream;
use nomenta_core::reading::answer::Rcode;
use nomenta_core::reading::cut::Limit;

use crate::ask::{Answered, Ask, Got};
use crate::bearing::Bearings;
use crate::budget::Budget;
use crate::engine::{Engine, Settings};
use crate::pace::{Paces, Politeness};
use crate::tcp::Tcp;
use crate::wire::Extent;

/// TCP connections at once, over all servers.
const CONNECTIONS: usize = 64;
/// Codes by which servers turn EDNS away (RFC 6891, section 7): FORMERR, NOTIMP
/// and BADVERS.
const TURNED_AWAY: [Rcode; 3] = [Rcode::Other(1), Rcode::Other(4), Rcode::Other(16)];
/// Asks questions.
pub(crate) struct Exchange {
    engine: Engine,
    timeout: Duration,
    records: usize,
    bearings: Bearings,
    paces: Arc<Paces>,
    politeness: Politeness,
}

impl Exchange {
    pub(crate) fn new(settings: Settings) -> Self {
        let Settings { timeout, records, politeness, .. } = settings;
        let paces = Arc::new(Paces::default());
        let engine = Engine::new(settings, paces.clone());
        Self { engine, timeout, records, bearings: Bearings::default(), paces, politeness }
    }

    /// Whether a server has to be asked slowly.
    pub(crate) fn is_paced(&self, server: SocketAddr) -> bool {
        self.paces.of(server) > Duration::ZERO
    }

    /// The least gap between two questions to a server.
    pub(crate) fn gap(&self, server: SocketAddr) -> Duration {
        self.paces.of(server).max(self.politeness.gap())
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

    /// The same for a sweep, by UDP alone, and in no other way than is known: in as little time as
    /// that takes, whatever any one server does, and behind what single looks ask.
    pub(crate) async fn ask_briefly(&self, asks: Vec<Ask>) -> Vec<Answered> {
        let mut asks = self.borne(asks);
        asks.iter_mut().for_each(|ask| ask.is_swept = true);
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

fn is_usable(got: &Got) -> bool {
    matches!(got, Got::Reply(reply) if matches!(reply.rcode, Rcode::NoError | Rcode::NxDomain) && !reply.truncated)
}

fn is_turned_away(got: &Got) -> bool {
    matches!(got, Got::Reply(reply) if TURNED_AWAY.contains(&reply.rcode))
}

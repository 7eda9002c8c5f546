//! Questions to servers: by UDP with tries, by TCP when truncated, and with less
//! of EDNS where a server cannot bear it.

use std::io::{self, ErrorKind};
use std::time::{Duration, Instant};

use futures::StreamExt;
use futures::future::join_all;
use futures::stream;
use nomenta_core::reading::answer::Rcode;
use nomenta_core::reading::cut::Limit;
use thiserror::Error;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::ask::{Answered, Ask, Got};
use crate::bearing::Bearings;
use crate::budget::{Budget, Spent};
use crate::engine::{Engine, Settings};
use crate::wire::{self, Extent, Mismatch};

/// TCP connections at once, over all servers.
const CONNECTIONS: usize = 64;
/// Codes by which servers turn EDNS away (RFC 6891, section 7): FORMERR, NOTIMP
/// and BADVERS.
const TURNED_AWAY: [Rcode; 3] = [Rcode::Other(1), Rcode::Other(4), Rcode::Other(16)];

/// Why an answer is not to be had by TCP, in words that follow the server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
enum NoTcp {
    #[error("its TCP port is closed")]
    Closed,
    #[error("ends the connection by TCP early")]
    Early,
    #[error("does not answer by TCP")]
    Silent,
    #[error("answers something else by TCP")]
    Stranger,
    #[error("cannot be reached by TCP")]
    NoWay,
}

impl From<io::Error> for NoTcp {
    fn from(error: io::Error) -> Self {
        match error.kind() {
            ErrorKind::ConnectionRefused => Self::Closed,
            ErrorKind::ConnectionReset | ErrorKind::UnexpectedEof | ErrorKind::BrokenPipe => Self::Early,
            _ => Self::NoWay,
        }
    }
}

/// Asks questions.
pub(crate) struct Exchange {
    engine: Engine,
    timeout: Duration,
    records: usize,
    bearings: Bearings,
}

impl Exchange {
    pub(crate) fn new(settings: Settings) -> Self {
        let Settings { timeout, records, .. } = settings;
        Self { engine: Engine::new(settings), timeout, records, bearings: Bearings::default() }
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
        self.otherwise(&mut asks, &mut answers, budget).await;
        marked(&asks, answers)
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
        }
        asks
    }

    /// Sends every question as its server is known to bear it.
    async fn put(&self, asks: &[Ask], budget: &Budget) -> Vec<Answered> {
        let mut answers = self.engine.ask_all(asks).await;

        let mut by_tcp: Vec<usize> = (0..answers.len()).collect();
        by_tcp.retain(|index| matches!(&answers[*index].0, Got::Reply(reply) if reply.truncated));

        let fetches = stream::iter(by_tcp).map(|index| {
            let ask = &asks[index];
            async move {
                let fetched = match budget.connection(&ask.name) {
                    Ok(()) => self.by_tcp(ask).await,
                    Err(Spent(limit)) => Ok((Got::Unread(limit), Duration::ZERO)),
                };
                (index, fetched)
            }
        });
        let whole: Vec<_> = fetches.buffer_unordered(CONNECTIONS).collect().await;
        for (index, answered) in whole {
            answers[index] = answered.unwrap_or_else(|why| (Got::Short(why.to_string()), Duration::ZERO));
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
    async fn otherwise(&self, asks: &mut [Ask], answers: &mut [Answered], budget: &Budget) {
        let mut silent: Vec<usize> = (0..asks.len()).collect();
        silent.retain(|place| {
            let is_silent = matches!(answers[*place].0, Got::Silence | Got::Garbled(_));
            is_silent
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

    /// # Errors
    /// What became of the connection.
    async fn by_tcp(&self, ask: &Ask) -> Result<Answered, NoTcp> {
        let start = Instant::now();
        let asked = std::slice::from_ref(ask);
        let round = async { by_stream(TcpStream::connect(ask.server).await?, asked, self.records).await };

        let mut answers = timeout(self.timeout * 2, round).await.map_err(|_| NoTcp::Silent)??;
        let got = answers.pop().flatten().ok_or(NoTcp::Stranger)?;
        Ok((got, start.elapsed()))
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

fn is_turned_away(got: &Got) -> bool {
    matches!(got, Got::Reply(reply) if TURNED_AWAY.contains(&reply.rcode))
}

/// Sends all questions down one stream, each with its length in front (RFC
/// 7766, section 8), and takes the answers in whatever order they come.
///
/// # Errors
/// If the stream ends early.
pub(crate) async fn by_stream(
    mut stream: impl AsyncRead + AsyncWrite + Unpin,
    asks: &[Ask],
    records: usize,
) -> io::Result<Vec<Option<Got>>> {
    let first: u16 = rand::random();
    let mut bytes = Vec::new();
    for (index, ask) in asks.iter().enumerate() {
        let id = first.wrapping_add(u16::try_from(index).unwrap_or(u16::MAX));
        let message =
            wire::encode(id, &ask.name, ask.rtype, ask.mode, ask.extent).map_err(io::Error::other)?;
        let length = u16::try_from(message.len()).map_err(io::Error::other)?;
        bytes.extend(length.to_be_bytes());
        bytes.extend(message);
    }
    stream.write_all(&bytes).await?;
    stream.flush().await?;

    let mut answers = vec![None; asks.len()];
    for _ in asks {
        let mut reply = vec![0; stream.read_u16().await?.into()];
        stream.read_exact(&mut reply).await?;

        let told = reply.get(..2).map_or(0, |b| u16::from_be_bytes([b[0], b[1]]));
        let index = usize::from(told.wrapping_sub(first));
        let Some(ask) = asks.get(index) else { continue };

        answers[index] = match wire::decode(&reply, told, &ask.name, ask.rtype, records) {
            Ok(reply) => Some(Got::Reply(reply)),
            Err(Mismatch::Garbled(reason)) => Some(Got::Garbled(reason)),
            Err(Mismatch::Stranger) => None,
        };
    }
    Ok(answers)
}

#[cfg(test)]
mod tests {
    use nomenta_core::reading::record::RecordType;

    use super::*;
    use crate::wire::Mode;

    fn ask(name: &str) -> Ask {
        let server = ([127, 0, 0, 1], 53).into();
        Ask::new(server, name, RecordType::A, Mode::Vantage)
    }

    #[tokio::test]
    async fn answers_on_one_stream_find_their_questions_in_any_order() {
        let (here, mut there) = tokio::io::duplex(4096);
        let asks = [ask("a.onswick.example"), ask("b.onswick.example"), ask("c.onswick.example")];
        let answering = tokio::spawn(async move {
            let mut questions = Vec::new();
            for _ in 0..3 {
                let mut question = vec![0; there.read_u16().await.expect("a length").into()];
                there.read_exact(&mut question).await.expect("a question");
                questions.push(question);
            }
            // The last one first, and the middle one to somebody else's question.
            for index in [2, 1, 0] {
                let mut reply = [&questions[index][..2], &[0x84, 0], &questions[index][4..]].concat();
                if index == 1 {
                    reply[13] = b'z';
                }
                there.write_u16(u16::try_from(reply.len()).expect("short")).await.expect("written");
                there.write_all(&reply).await.expect("written");
            }
        });
        let answers = by_stream(here, &asks, 10).await.expect("answers");
        answering.await.expect("answered");
        assert!(matches!(answers[..], [Some(Got::Reply(_)), None, Some(Got::Reply(_))]), "{answers:?}");
    }

    #[tokio::test]
    async fn a_stream_that_ends_early_is_an_error() {
        let (here, there) = tokio::io::duplex(4096);
        drop(there);
        assert!(by_stream(here, &[ask("a.onswick.example")], 10).await.is_err());
    }
}

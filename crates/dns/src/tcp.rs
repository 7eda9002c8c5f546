//! Questions by TCP (RFC 7766): all that one look fetches from a server goes over one connection,
//! and over another only where the server ends it before it has answered everything.

use std::io::{self, ErrorKind};
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use thiserror::Error;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::ask::{Answered, Ask, Got};
use crate::budget::{Budget, Spent};
use crate::wire::{self, Mismatch};

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

/// What fetching answers by TCP may cost.
pub(crate) struct Tcp<'a> {
    /// Longest that one connection may take.
    pub time_limit: Duration,
    /// Records of each section of a reply that are kept.
    pub records: usize,
    pub budget: &'a Budget,
}

impl Tcp<'_> {
    /// Fetches the answers of one server, in the order of their questions.
    ///
    /// A server may end a connection after a few answers, or take one question at a time only: it
    /// is connected to anew for as long as each connection brings some.
    pub(crate) async fn fetch(&self, server: SocketAddr, asks: &[Ask]) -> Vec<Answered> {
        let begun = Instant::now();
        let mut answers: Vec<Option<Got>> = vec![None; asks.len()];
        let mut at_once = asks.len();
        let mut ended = NoTcp::Stranger;

        loop {
            let left: Vec<usize> = (0..asks.len()).filter(|place| answers[*place].is_none()).collect();
            let Some(first) = left.first() else { break };
            if let Err(Spent(limit)) = self.budget.connection(&asks[*first].name) {
                left.iter().for_each(|place| answers[*place] = Some(Got::Unread(limit)));
                break;
            }

            let places = &left[..at_once.min(left.len())];
            let sent: Vec<Ask> = places.iter().map(|place| asks[*place].clone()).collect();
            let mut fetched = vec![None; sent.len()];
            let round = timeout(self.time_limit, self.connection(server, &sent, &mut fetched)).await;
            ended = round.unwrap_or(Err(NoTcp::Silent)).err().unwrap_or(NoTcp::Stranger);

            let has_brought_any = fetched.iter().any(Option::is_some);
            for (place, got) in places.iter().zip(fetched) {
                answers[*place] = got;
            }
            match (has_brought_any, at_once) {
                (true, _) => {}
                (false, 0..=1) => break,
                (false, _) => at_once = 1,
            }
        }

        let rtt = begun.elapsed();
        let short = || Got::Short(ended.to_string());
        answers.into_iter().map(|got| (got.unwrap_or_else(short), rtt)).collect()
    }

    /// # Errors
    /// What became of the connection; what came before that is kept.
    async fn connection(
        &self,
        server: SocketAddr,
        asks: &[Ask],
        answers: &mut [Option<Got>],
    ) -> Result<(), NoTcp> {
        let stream = TcpStream::connect(server).await?;
        by_stream(stream, asks, self.records, answers).await?;
        Ok(())
    }
}

/// Sends all questions down one stream, each with its length in front (RFC
/// 7766, section 8), and takes the answers in whatever order they come.
///
/// # Errors
/// If the stream ends early; the answers before that are there.
pub(crate) async fn by_stream(
    mut stream: impl AsyncRead + AsyncWrite + Unpin,
    asks: &[Ask],
    records: usize,
    answers: &mut [Option<Got>],
) -> io::Result<()> {
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
    Ok(())
}

#[cfg(test)]
mod tests {
    use nomenta_core::reading::record::RecordType;

    use super::*;
    use crate::SurveyLimits;
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
        let mut answers = vec![None; asks.len()];
        by_stream(here, &asks, 10, &mut answers).await.expect("answers");
        answering.await.expect("answered");
        assert!(matches!(answers[..], [Some(Got::Reply(_)), None, Some(Got::Reply(_))]), "{answers:?}");
    }

    #[tokio::test]
    async fn a_stream_that_ends_early_is_an_error() {
        let (here, there) = tokio::io::duplex(4096);
        drop(there);
        let mut answers = [None];
        assert!(by_stream(here, &[ask("a.onswick.example")], 10, &mut answers).await.is_err());
    }

    #[tokio::test]
    async fn a_server_that_ends_each_connection_after_two_answers_gives_all_of_them() {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("bound");
        let server = listener.local_addr().expect("an address");
        let answering = tokio::spawn(async move {
            for connections in 1.. {
                let (mut stream, _) = listener.accept().await.expect("a connection");
                for _ in 0..2 {
                    let Ok(length) = stream.read_u16().await else { return connections };
                    let mut question = vec![0; length.into()];
                    stream.read_exact(&mut question).await.expect("a question");
                    let reply = [&question[..2], &[0x84, 0], &question[4..]].concat();
                    stream.write_u16(u16::try_from(reply.len()).expect("short")).await.expect("written");
                    stream.write_all(&reply).await.expect("written");
                }
                // The rest is read, so that the end is no reset.
                let mut rest = Vec::new();
                let reading = stream.read_to_end(&mut rest);
                let _ = timeout(Duration::from_millis(20), reading).await;
            }
            0
        });

        let asks: Vec<_> = (0..5).map(|n| Ask { server, ..ask(&format!("s{n}.onswick.example")) }).collect();
        let budget = Budget::new(SurveyLimits::default());
        let tcp = Tcp { time_limit: Duration::from_secs(5), records: 10, budget: &budget };
        let answers = tcp.fetch(server, &asks).await;
        assert!(answers.iter().all(|(got, _)| matches!(got, Got::Reply(_))), "{answers:?}");
        answering.abort();
    }
}

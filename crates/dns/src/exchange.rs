//! Questions to servers: by UDP with tries, by TCP when truncated.

use std::io;
use std::time::{Duration, Instant};

use futures::StreamExt;
use futures::stream;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout_at;

use crate::ask::{Answered, Ask, Got};
use crate::engine::{Engine, Settings};
use crate::wire::{self, Mismatch};

/// TCP connections at once, over all servers.
const CONNECTIONS: usize = 64;

/// Asks questions.
pub(crate) struct Exchange {
    engine: Engine,
    timeout: Duration,
}

impl Exchange {
    pub(crate) fn new(settings: Settings) -> Self {
        Self { engine: Engine::new(settings), timeout: settings.timeout }
    }

    /// One question.
    pub(crate) async fn ask(&self, ask: &Ask) -> Answered {
        self.ask_all(vec![ask.clone()]).await.pop().unwrap_or((Got::Silence, Duration::ZERO))
    }

    /// Many questions, answered in their order.
    pub(crate) async fn ask_all(&self, asks: Vec<Ask>) -> Vec<Answered> {
        let mut answers = self.engine.ask_all(&asks).await;

        let mut short: Vec<usize> = (0..answers.len()).collect();
        short.retain(|index| matches!(&answers[*index].0, Got::Reply(reply) if reply.truncated));
        let fetches = stream::iter(short).map(|index| {
            let ask = &asks[index];
            async move { (index, self.by_tcp(ask).await) }
        });

        let whole: Vec<_> = fetches.buffer_unordered(CONNECTIONS).collect().await;
        for (index, answered) in whole {
            // Without TCP the part that came is better than nothing.
            if let Some(answered) = answered {
                answers[index] = answered;
            }
        }
        answers
    }

    async fn by_tcp(&self, ask: &Ask) -> Option<Answered> {
        let start = Instant::now();
        let deadline = tokio::time::Instant::now() + self.timeout * 2;
        let asked = std::slice::from_ref(ask);
        let round = async { by_stream(TcpStream::connect(ask.server).await?, asked).await };

        let mut answers = timeout_at(deadline, round).await.ok()?.ok()?;
        Some((answers.pop()??, start.elapsed()))
    }
}

/// Sends all questions down one stream, each with its length in front (RFC
/// 7766, section 8), and takes the answers in whatever order they come.
///
/// # Errors
/// If the stream ends early.
pub(crate) async fn by_stream(
    mut stream: impl AsyncRead + AsyncWrite + Unpin,
    asks: &[Ask],
) -> io::Result<Vec<Option<Got>>> {
    let first: u16 = rand::random();
    let mut bytes = Vec::new();
    for (index, ask) in asks.iter().enumerate() {
        let id = first.wrapping_add(u16::try_from(index).unwrap_or(u16::MAX));
        let message = wire::encode(id, &ask.name, ask.rtype, ask.mode).map_err(io::Error::other)?;
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

        answers[index] = match wire::decode(&reply, told, &ask.name, ask.rtype) {
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
        Ask { server, name: name.into(), rtype: RecordType::A, mode: Mode::Vantage }
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
        let answers = by_stream(here, &asks).await.expect("answers");
        answering.await.expect("answered");
        assert!(matches!(answers[..], [Some(Got::Reply(_)), None, Some(Got::Reply(_))]), "{answers:?}");
    }

    #[tokio::test]
    async fn a_stream_that_ends_early_is_an_error() {
        let (here, there) = tokio::io::duplex(4096);
        drop(there);
        assert!(by_stream(here, &[ask("a.onswick.example")]).await.is_err());
    }
}

//! The engine: thousands of questions on the way at once over a few UDP
//! sockets, driven by one thread.
//!
//! An engine of our own, since a resolver library keeps a task and a timer for
//! each question, and asks one server as fast as it is told to; a sweep puts a
//! hundred thousand questions, and the servers are strangers.
//!
//! Questions come in batches and their answers go back in batches, so that no
//! question costs a task or a channel of its own. Equal questions are sent
//! once. How fast a server is asked depends on how it answers.

mod driver;

use std::sync::{Arc, OnceLock};
use std::time::Duration;

use tokio::sync::{mpsc, oneshot};

use self::driver::Driver;
use crate::ask::{Answered, Ask, Got};
use crate::pace::{Paces, Politeness};
use crate::wire::{self, Mismatch};

/// How questions are sent.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Settings {
    /// How long to wait for one reply.
    pub timeout: Duration,
    /// How often a question is sent before it counts as unanswered.
    pub tries: u32,
    /// How fast one server is asked.
    pub politeness: Politeness,
    /// Records of each section of a reply that are kept.
    pub records: usize,
}

/// A question, with its message; the id is set anew for each try.
struct Prepared {
    ask: Ask,
    message: Vec<u8>,
}

/// What the driver brings back: replies are read by whoever asked, so that the
/// one driver has time for the sockets.
#[derive(Clone, Debug)]
enum Raw {
    Reply(Arc<[u8]>),
    Silence,
    NoRoute,
    Garbled(String),
}

struct Batch {
    questions: Vec<Prepared>,
    done: oneshot::Sender<Vec<(Raw, Duration)>>,
}

/// The way to the driver; the first question starts it.
pub(crate) struct Engine {
    settings: Settings,
    paces: Arc<Paces>,
    submit: OnceLock<mpsc::UnboundedSender<Batch>>,
}

impl Engine {
    pub(crate) fn new(settings: Settings, paces: Arc<Paces>) -> Self {
        Self { settings, paces, submit: OnceLock::new() }
    }

    /// Asks everything, and answers in the same order.
    pub(crate) async fn ask_all(&self, asks: &[Ask]) -> Vec<Answered> {
        let mut answers = vec![None; asks.len()];
        let mut questions = Vec::with_capacity(asks.len());
        let mut places = Vec::with_capacity(asks.len());
        for (index, ask) in asks.iter().enumerate() {
            match wire::encode(0, &ask.name, ask.rtype, ask.mode, ask.extent) {
                Ok(message) => {
                    questions.push(Prepared { ask: ask.clone(), message });
                    places.push(index);
                }
                Err(error) => answers[index] = Some((Got::Garbled(error.to_string()), Duration::ZERO)),
            }
        }

        let raw = if questions.is_empty() { Vec::new() } else { self.submit(questions).await };
        for (place, (raw, rtt)) in places.into_iter().zip(raw) {
            answers[place] = Some((read(raw, &asks[place], self.settings.records), rtt));
        }

        // A driver that is gone, as when its runtime ends, answers nothing.
        answers.into_iter().map(|answer| answer.unwrap_or((Got::Silence, Duration::ZERO))).collect()
    }

    async fn submit(&self, questions: Vec<Prepared>) -> Vec<(Raw, Duration)> {
        let submit = self.submit.get_or_init(|| {
            let (submit, batches) = mpsc::unbounded_channel();
            drive(Driver::new(self.settings, self.paces.clone()), batches);
            submit
        });

        let (done, answers) = oneshot::channel();
        let sent = submit.send(Batch { questions, done });
        if sent.is_ok() { answers.await.unwrap_or_default() } else { Vec::new() }
    }
}

/// Gives the driver a thread of its own until nobody asks any more: while it waited behind whatever
/// else a shared one has to do, replies would.
fn drive(driver: Driver, batches: mpsc::UnboundedReceiver<Batch>) {
    let run = move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
        match runtime {
            Ok(runtime) => runtime.block_on(driver.run(batches)),
            Err(error) => tracing::error!(%error, "no questions can be sent"),
        }
    };
    if let Err(error) = std::thread::Builder::new().name("questions".into()).spawn(run) {
        tracing::error!(%error, "no questions can be sent");
    }
}

fn read(raw: Raw, ask: &Ask, records: usize) -> Got {
    match raw {
        Raw::Silence => Got::Silence,
        Raw::NoRoute => Got::NoRoute,
        Raw::Garbled(reason) => Got::Garbled(reason),
        Raw::Reply(bytes) => {
            let id = u16::from_be_bytes([bytes[0], bytes[1]]);
            match wire::decode(&bytes, id, &ask.name, ask.rtype, records) {
                Ok(reply) => Got::Reply(reply),
                Err(Mismatch::Garbled(reason)) => Got::Garbled(reason),
                Err(Mismatch::Stranger) => Got::Garbled("the answer is to another question".into()),
            }
        }
    }
}

#[cfg(test)]
mod tests;

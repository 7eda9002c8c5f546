//! The one task that owns the sockets: what is on the way, until when, and what
//! may go next.

use std::collections::VecDeque;
use std::future::poll_fn;
use std::io::ErrorKind;
use std::net::SocketAddr;
use std::pin::pin;
use std::sync::Arc;
use std::task::Poll;
use std::time::Duration;

use foldhash::{HashMap, HashMapExt};
use slab::Slab;
use tokio::sync::{mpsc, oneshot};
use tokio::time::{Instant, sleep_until};

use super::{Batch, Prepared, Raw, Settings};
use crate::ask::Ask;
use crate::pace::{Next, Paces, Server};
use crate::sockets::{Sent, Sockets, Unsent};
use crate::wire::{self, Echo, Mismatch};

/// Questions on the way at once, over all servers.
const WINDOW: usize = 4096;
/// Servers remembered before idle ones are forgotten.
const MOST_SERVERS: usize = 50_000;
/// Wait before trying again when the kernel takes no more packets.
const FULL: Duration = Duration::from_millis(1);
/// Sleep of a driver that waits for nothing in particular.
const IDLE: Duration = Duration::from_secs(60);

/// One place in a batch.
struct Waiter {
    batch: usize,
    index: usize,
}

struct Query {
    ask: Ask,
    message: Vec<u8>,
    waiter: Waiter,
    /// Others who asked the same meanwhile.
    more: Vec<Waiter>,
    tries: u32,
    garbled: Option<String>,
    /// A reply whose name has other letters: the server's own, if no better one comes.
    folded: Option<Arc<[u8]>>,
    /// The try that is on the way.
    sent: Option<Sent>,
    /// Counts tries, so that an old deadline is told from a new one.
    turn: u32,
}

struct Open {
    answers: Vec<Option<(Raw, Duration)>>,
    left: usize,
    done: oneshot::Sender<Vec<(Raw, Duration)>>,
}

pub(super) struct Driver {
    settings: Settings,
    paces: Arc<Paces>,
    sockets: Sockets,
    queries: Slab<Query>,
    asked: HashMap<Ask, usize>,
    batches: Slab<Open>,
    servers: HashMap<SocketAddr, Server>,
    /// Servers with something to send.
    active: Vec<SocketAddr>,
    /// In the order of time, since all tries wait equally long.
    deadlines: VecDeque<(Instant, usize, u32)>,
    in_flight: usize,
    /// When a server that is asked slowly may be asked again.
    resume: Option<Instant>,
    tally: Tally,
}

/// What happened since the counters were last told.
#[derive(Default)]
struct Tally {
    answered: u64,
    unanswered: u64,
    repeated: u64,
    shared: u64,
}

impl Tally {
    fn tell(&mut self) {
        let Self { answered, unanswered, repeated, shared } = std::mem::take(self);
        let results =
            [("answered", answered), ("unanswered", unanswered), ("repeated", repeated), ("shared", shared)];

        for (result, count) in results {
            if count > 0 {
                metrics::counter!("nomenta_dns_questions_total", "result" => result).increment(count);
            }
        }
    }
}

impl Driver {
    pub(super) fn new(settings: Settings, paces: Arc<Paces>) -> Self {
        Self {
            settings,
            paces,
            sockets: Sockets::default(),
            queries: Slab::new(),
            asked: HashMap::new(),
            batches: Slab::new(),
            servers: HashMap::new(),
            active: Vec::new(),
            deadlines: VecDeque::new(),
            in_flight: 0,
            resume: None,
            tally: Tally::default(),
        }
    }

    pub(super) async fn run(mut self, mut batches: mpsc::UnboundedReceiver<Batch>) {
        loop {
            let open = self.wait(&mut batches).await;
            self.receive();
            self.expire();
            self.send();
            self.tally.tell();

            if !open && self.batches.is_empty() {
                return;
            }
        }
    }

    /// Until there is something to do; `false` once no batch can come any more.
    async fn wait(&mut self, batches: &mut mpsc::UnboundedReceiver<Batch>) -> bool {
        let deadline = self.deadlines.front().map(|(at, ..)| *at);
        let until = [deadline, self.resume].into_iter().flatten().min();
        let mut sleep = pin!(sleep_until(until.unwrap_or_else(|| Instant::now() + IDLE)));
        let mut open = true;

        poll_fn(|cx| {
            let mut ready = self.sockets.poll_readable(cx) || sleep.as_mut().poll(cx).is_ready();
            while let Poll::Ready(batch) = batches.poll_recv(cx) {
                ready = true;
                match batch {
                    Some(batch) => self.take(batch),
                    None => {
                        open = false;
                        break;
                    }
                }
            }
            if ready { Poll::Ready(()) } else { Poll::Pending }
        })
        .await;

        open
    }

    fn take(&mut self, batch: Batch) {
        let count = batch.questions.len();
        let open = Open { answers: vec![None; count], left: count, done: batch.done };
        let batch_key = self.batches.insert(open);

        for (index, question) in batch.questions.into_iter().enumerate() {
            let waiter = Waiter { batch: batch_key, index };
            match self.asked.get(&question.ask) {
                Some(&key) => {
                    self.tally.shared += 1;
                    self.queries[key].more.push(waiter);
                }
                None => self.queue(question, waiter),
            }
        }
    }

    fn queue(&mut self, question: Prepared, waiter: Waiter) {
        let Prepared { ask, message } = question;
        if self.servers.len() >= MOST_SERVERS {
            self.servers.retain(|_, server| !server.is_idle());
        }

        let server = self.servers.entry(ask.server).or_insert_with(|| Server::new(self.settings.politeness));
        server.pace(self.paces.of(ask.server));
        let tries = server.tries(self.settings.tries);
        let key = self.queries.insert(Query {
            ask: ask.clone(),
            message,
            waiter,
            more: Vec::new(),
            tries,
            garbled: None,
            folded: None,
            sent: None,
            turn: 0,
        });

        if server.push_back(key, ask.is_swept) {
            self.active.push(ask.server);
        }
        self.asked.insert(ask, key);
    }

    /// Sends whatever window and politeness allow.
    fn send(&mut self) {
        self.resume = None;
        let now = Instant::now();
        let mut index = 0;

        while index < self.active.len() && self.in_flight < WINDOW {
            let address = self.active[index];
            let next = self.servers.get_mut(&address).map_or(Next::Nothing, |server| server.next(now));
            match next {
                Next::Query(key) => self.dispatch(key, now),
                Next::Later(at) => {
                    self.resume_at(at);
                    index += 1;
                }
                Next::Busy => index += 1,
                Next::Nothing => drop(self.active.swap_remove(index)),
            }

            if self.sockets.is_due() && !self.flush(now) {
                return;
            }
        }
        self.flush(now);
    }

    fn resume_at(&mut self, at: Instant) {
        self.resume = Some(self.resume.map_or(at, |known| known.min(at)));
    }

    /// Readies one question for the next flush.
    fn dispatch(&mut self, key: usize, now: Instant) {
        let query = &mut self.queries[key];
        let folds_case = self.servers.get(&query.ask.server).is_some_and(|server| server.folds_case);
        let folds = folds_case || query.ask.lower;
        match self.sockets.stage(query.ask.server, key, &mut query.message, folds, now) {
            Ok(sent) => {
                query.sent = Some(sent);
                query.turn += 1;
                query.tries = query.tries.saturating_sub(1);
                self.in_flight += 1;
                self.deadlines.push_back((now + self.settings.timeout, key, query.turn));
            }
            Err(error) => {
                if let Some(server) = self.servers.get_mut(&query.ask.server) {
                    server.landed();
                }
                self.finish(key, unsent(&error), Duration::ZERO);
            }
        }
    }

    /// Hands what is ready to the kernel; `false` if that takes no more for now.
    fn flush(&mut self, now: Instant) -> bool {
        let Unsent { failed, full } = self.sockets.flush();

        for (key, error) in failed {
            // It may have been given up while it was held back.
            if self.queries.get(key).is_some_and(|q| q.sent.is_some()) {
                self.land(key, |_| {});
                self.finish(key, unsent(&error), Duration::ZERO);
            }
        }

        if full {
            self.resume_at(now + FULL);
        }
        !full
    }

    fn receive(&mut self) {
        while let Some((key, from, bytes)) = self.sockets.receive() {
            let Some(query) = self.queries.get_mut(key).filter(|q| q.ask.server == from) else { continue };

            match wire::is_reply(bytes, &query.message) {
                // Somebody else's, or of a server that does not keep the case: time tells.
                Ok(Echo { keeps_case: false, .. })
                    if !self.servers.get(&from).is_some_and(|s| s.folds_case) =>
                {
                    query.folded.get_or_insert_with(|| bytes.into());
                }
                Ok(Echo { is_refusal, .. }) => {
                    let raw = Raw::Reply(bytes.into());
                    let rtt = query.sent.as_ref().map_or(Duration::ZERO, |sent| sent.at.elapsed());
                    self.land(key, |server| if is_refusal { server.refused() } else { server.answered() });
                    self.finish(key, raw, rtt);
                }
                Err(Mismatch::Garbled(reason)) => query.garbled = Some(reason),
                Err(Mismatch::Stranger) => {}
            }
        }
    }

    /// Takes a try back from the air.
    fn land(&mut self, key: usize, outcome: impl FnOnce(&mut Server)) {
        let query = &mut self.queries[key];
        if let Some(sent) = query.sent.take() {
            self.sockets.release(sent);
            self.in_flight -= 1;
            if let Some(server) = self.servers.get_mut(&query.ask.server) {
                server.landed();
                outcome(server);
            }
        }
    }

    /// Tries that waited in vain are sent again, or given up.
    fn expire(&mut self) {
        let now = Instant::now();
        while let Some((at, key, turn)) = self.deadlines.front().copied() {
            let is_waiting = self.queries.get(key).is_some_and(|q| q.turn == turn && q.sent.is_some());
            if is_waiting && at > now {
                break;
            }
            // What was answered goes at once, so that nobody wakes for it.
            self.deadlines.pop_front();
            if !is_waiting {
                continue;
            }

            if let Some(bytes) = self.queries[key].folded.take() {
                self.land(key, |server| server.folds_case = true);
                self.finish(key, Raw::Reply(bytes), self.settings.timeout);
                continue;
            }
            self.land(key, |server| server.silent(now));
            let query = &mut self.queries[key];
            if query.tries > 0 {
                self.tally.repeated += 1;
                let (address, is_swept) = (query.ask.server, query.ask.is_swept);
                if self.servers.get_mut(&address).is_some_and(|server| server.push_back(key, is_swept)) {
                    self.active.push(address);
                }
                continue;
            }

            let got = query.garbled.take().map_or(Raw::Silence, Raw::Garbled);
            self.finish(key, got, Duration::ZERO);
        }
    }

    fn finish(&mut self, key: usize, got: Raw, rtt: Duration) {
        match got {
            Raw::Reply(_) => self.tally.answered += 1,
            _ => self.tally.unanswered += 1,
        }

        let Query { ask, waiter, more, .. } = self.queries.remove(key);
        self.asked.remove(&ask);

        for waiter in more {
            self.answer(&waiter, (got.clone(), rtt));
        }
        self.answer(&waiter, (got, rtt));
    }

    fn answer(&mut self, waiter: &Waiter, answered: (Raw, Duration)) {
        let open = &mut self.batches[waiter.batch];
        open.answers[waiter.index] = Some(answered);
        open.left -= 1;

        if open.left == 0 {
            let Open { answers, done, .. } = self.batches.remove(waiter.batch);
            // Whoever asked may have gone.
            let _ = done.send(answers.into_iter().flatten().collect());
        }
    }
}

/// An address family that this machine cannot send to says nothing about the
/// server; anything else is silence.
fn unsent(error: &std::io::Error) -> Raw {
    use ErrorKind::{AddrNotAvailable, HostUnreachable, NetworkUnreachable, Unsupported};

    match error.kind() {
        AddrNotAvailable | HostUnreachable | NetworkUnreachable | Unsupported => Raw::NoRoute,
        _ => Raw::Silence,
    }
}

//! The worker: takes due tasks from the leased queue and does them.

use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;

use chrono::Utc;
use nomenta_core::judge::schedule;
use nomenta_store::{Lane, Lease, StoreError, TaskKind};
use thiserror::Error;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::task::JoinSet;
use tokio::time::{interval, sleep, timeout};

use crate::App;
use crate::look;
use crate::ordering;
use crate::sweep;

/// Tasks under way at once in one process.
const AT_ONCE: usize = 48;
/// Tasks of each lane under way at once in one process. What goes first finds room, whatever
/// else there is, and zones that do not answer keep nobody else waiting.
const ROOM: [(Lane, usize); 4] =
    [(Lane::First, AT_ONCE), (Lane::Usual, 30), (Lane::Bulk, 24), (Lane::Silent, 8)];
/// Tasks under way at once that do not go first.
const BEHIND: usize = 40;
/// Sweeps under way at once in one process: while some ask, others are taken or written.
const SWEEPS: usize = 4;
/// Domains in one sweep.
const SWEEP_SIZE: i64 = 1000;
/// Room that must be free for it to be worth asking for tasks as soon as one is done.
const WORTH_ASKING: usize = 8;
/// How long that is waited for.
const GATHERED: Duration = Duration::from_millis(20);
/// How long a quick look that was queued waits at most until it is seen that it was.
const QUEUED: Duration = Duration::from_millis(250);
/// How often a lease is renewed; well within its term.
const RENEW_EVERY: Duration = Duration::from_secs(4);
/// Longest sleep, in case a call was missed.
const LONGEST_SLEEP: f64 = 30.0;
/// How long a task may go on whose lease is lost.
const LAST_WORDS: Duration = Duration::from_secs(1);
/// How long running tasks may take to end when the service stops.
const GRACE: Duration = Duration::from_secs(10);

/// A task was not done by its deadline.
#[derive(Debug, Error)]
#[error("It was not done within {} s, and is tried again later", .0.as_secs())]
struct Overdue(Duration);

/// Works until the service stops.
pub(crate) async fn run(app: Arc<App>) {
    tokio::join!(do_tasks(&app), do_sweeps(&app));
}

async fn do_tasks(app: &Arc<App>) {
    let mut running = JoinSet::new();
    let lanes = Lanes::default();
    let mut work = app.hub.work();

    while !app.stop.is_cancelled() {
        while running.try_join_next().is_some() {}
        begin_tasks(app, &lanes, &mut running).await;

        // Whatever is due by now has begun, as far as there is room.
        let due = due(app, &lanes).await;
        tokio::select! {
            () = app.stop.cancelled() => {}
            _ = work.changed() => {}
            () = app.hub.full.notified() => {}
            () = room_again(&lanes, &mut running) => {}
            () = sleep(due) => {}
        }
    }

    let _ = timeout(GRACE, async { while running.join_next().await.is_some() {} }).await;
}

/// Waits until so many tasks are done that it is worth asking for others, or some time after the
/// first was: each question is as dear as a look.
async fn room_again(lanes: &Lanes, running: &mut JoinSet<()>) {
    if running.join_next().await.is_none() {
        return std::future::pending().await;
    }
    let more = async { while lanes.free() < WORTH_ASKING && running.join_next().await.is_some() {} };
    let _ = timeout(GATHERED, more).await;
}

async fn do_sweeps(app: &Arc<App>) {
    let mut sweeping = JoinSet::new();
    let mut work = app.hub.work();

    while !app.stop.is_cancelled() {
        while sweeping.try_join_next().is_some() {}
        let has_room = sweeping.len() < SWEEPS;
        if has_room && begin_sweep(app, &mut sweeping).await {
            continue;
        }

        let due = if has_room { within(app.store.next_quick_due().await) } else { Duration::MAX };
        tokio::select! {
            () = app.stop.cancelled() => {}
            _ = work.changed(), if has_room => {}
            () = queued(app), if has_room => {}
            Some(_) = sweeping.join_next() => {}
            () = sleep(due) => {}
        }
    }

    let _ = timeout(GRACE, async { while sweeping.join_next().await.is_some() {} }).await;
}

/// Waits until looks have queued quick ones, and for those that end just after them.
async fn queued(app: &App) {
    app.hub.quick.notified().await;
    sleep(QUEUED).await;
}

/// What is under way in each lane.
#[derive(Debug)]
struct Lanes {
    all: Arc<Semaphore>,
    behind: Arc<Semaphore>,
    each: [(Lane, Arc<Semaphore>); 4],
}

impl Default for Lanes {
    fn default() -> Self {
        let room = |most| Arc::new(Semaphore::new(most));
        Self { all: room(AT_ONCE), behind: room(BEHIND), each: ROOM.map(|(lane, most)| (lane, room(most))) }
    }
}

impl Lanes {
    /// Room for whatever goes first.
    fn free(&self) -> usize {
        self.all.available_permits()
    }

    /// Room in a lane now.
    fn room(&self, lane: Lane) -> usize {
        let own =
            self.each.iter().find(|(one, _)| *one == lane).map_or(0, |(_, own)| own.available_permits());
        let all = self.all.available_permits();
        let shared = if lane == Lane::First { all } else { all.min(self.behind.available_permits()) };
        own.min(shared)
    }

    /// Lanes that have room now.
    fn open(&self) -> Vec<Lane> {
        Lane::ALL.iter().copied().filter(|lane| self.room(*lane) > 0).collect()
    }

    /// Room for a task of a lane, which is free again when the task is done.
    fn take(&self, lane: Lane) -> Vec<OwnedSemaphorePermit> {
        let own = self.each.iter().find(|(one, _)| *one == lane).map(|(_, own)| own);
        let behind = (lane != Lane::First).then_some(&self.behind);
        let turns = [Some(&self.all), behind, own].into_iter().flatten();
        // There was room when it was leased; a task too many does no harm.
        turns.filter_map(|turns| turns.clone().try_acquire_owned().ok()).collect()
    }
}

/// Begins as many due tasks as there is room for, lane by lane.
async fn begin_tasks(app: &Arc<App>, lanes: &Lanes, running: &mut JoinSet<()>) {
    for lane in lanes.open() {
        // What a lane before it has taken is taken from the room of this one.
        let room = lanes.room(lane);
        if room == 0 {
            continue;
        }

        let leases = match app.looks.lease(lane, room).await {
            Ok(leases) => leases,
            Err(error) => return app.repeats.warn("no tasks to be had", &error),
        };

        for lease in leases {
            let turns = lanes.take(lease.lane);
            let app = app.clone();
            running.spawn(async move {
                perform(app, lease).await;
                drop(turns);
            });
        }
    }
}

/// Begins a sweep if one is due; `false` if not.
async fn begin_sweep(app: &Arc<App>, sweeping: &mut JoinSet<()>) -> bool {
    let sweep = match app.looks.lease_sweep(SWEEP_SIZE).await {
        Ok(sweep) if sweep.tasks.is_empty() => return false,
        Ok(sweep) => sweep,
        Err(error) => {
            app.repeats.warn("no sweep to be had", &error);
            return false;
        }
    };

    let app = app.clone();
    sweeping.spawn(async move {
        // What was not finished comes back when its lease runs out.
        if let Err(error) = sweep::perform(&app, sweep).await {
            app.repeats.warn("a sweep was not finished", &error);
        }
    });

    true
}

/// How long it is until a task may be due for which there is room.
async fn due(app: &App, lanes: &Lanes) -> Duration {
    let open = lanes.open();
    if open.is_empty() { Duration::MAX } else { within(app.store.next_due(&open).await) }
}

fn within(due: Result<Option<f64>, StoreError>) -> Duration {
    let seconds = due.ok().flatten().unwrap_or(LONGEST_SLEEP);
    Duration::from_secs_f64(seconds.clamp(0.02, LONGEST_SLEEP))
}

/// Does one task while renewing its lease. A lost lease ends it: whatever it
/// was about to write would be void. So does its deadline, since a task that
/// hangs keeps its domain from being looked at for as long as it lives.
async fn perform(app: Arc<App>, lease: Lease) {
    let limit = time_limit(&app, &lease);
    let mut work = pin!(by_kind(&app, &lease));

    let done = tokio::select! {
        done = &mut work => done,
        // A task that is just being written off looks lost from outside.
        lost = keep(&app, &lease) => timeout(LAST_WORDS, work).await.unwrap_or(Err(lost.into())),
        () = sleep(limit) => Err(Overdue(limit).into()),
    };

    match done {
        Ok(()) => {
            count(&lease, "done");
            app.hub.quick.notify_one();
        }
        Err(error) => give_back(&app, &lease, &error).await,
    }
}

async fn by_kind(app: &App, lease: &Lease) -> anyhow::Result<()> {
    match lease.kind {
        TaskKind::Look => look::perform(app, lease).await,
        TaskKind::Order => ordering::perform(app, lease).await,
        TaskKind::Watch => look::watch(app, lease).await,
    }
}

fn time_limit(app: &App, lease: &Lease) -> Duration {
    let policy = &app.config.policy;
    let limit = match lease.kind {
        TaskKind::Look | TaskKind::Watch => policy.look_limit,
        TaskKind::Order => policy.order_limit,
    };

    limit.to_std().unwrap_or(Duration::MAX)
}

/// Puts a task back that could not be done, for later.
async fn give_back(app: &App, lease: &Lease, error: &anyhow::Error) {
    let is_overdue = error.is::<Overdue>();
    count(lease, if is_overdue { "overdue" } else { "failed" });
    tracing::debug!(domain = %lease.domain_id, task = lease.kind.as_str(), %error, "task not done");
    app.repeats.warn(undone(lease.kind), error);

    // Whatever ended an order's task by itself is in its story already.
    if is_overdue && lease.kind == TaskKind::Order {
        ordering::tell(app, lease, &error.to_string()).await;
    }

    let now = Utc::now();
    let later = schedule::task_retry(lease.tries, &app.config.policy, now);
    let later = schedule::jittered(later, rand::random(), now);

    // What was not done in time will take its time again.
    let lane = if is_overdue { Lane::Silent } else { Lane::Usual };
    // If the lease is lost, the process that has it will finish.
    let _ = app.store.postpone(lease, later, lane).await;
}

/// What is said of a task that was not done.
fn undone(kind: TaskKind) -> &'static str {
    match kind {
        TaskKind::Look => "a look was not done; it is tried again later",
        TaskKind::Watch => "what was left behind was not looked at; it is tried again later",
        TaskKind::Order => "an order was not got further; it is tried again later",
    }
}

async fn keep(app: &App, lease: &Lease) -> StoreError {
    let mut ticks = interval(RENEW_EVERY);
    ticks.tick().await;

    loop {
        ticks.tick().await;
        if let Err(error @ StoreError::LeaseLost) = app.store.renew(lease).await {
            return error;
        }
    }
}

fn count(lease: &Lease, result: &'static str) {
    let kind = lease.kind.as_str();
    metrics::counter!("nomenta_tasks_total", "kind" => kind, "result" => result).increment(1);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_lane_has_room_and_the_first_always_finds_some() {
        let lanes = Lanes::default();
        assert_eq!(lanes.open(), Lane::ALL);

        let usual: Vec<_> = (0..lanes.room(Lane::Usual)).map(|_| lanes.take(Lane::Usual)).collect();
        assert_eq!((lanes.room(Lane::Bulk), lanes.room(Lane::First)), (BEHIND - 30, AT_ONCE - 30));
        drop(usual);

        let bulk: Vec<_> = (0..lanes.room(Lane::Bulk)).map(|_| lanes.take(Lane::Bulk)).collect();
        assert_eq!(bulk.len(), 24);
        assert_eq!((lanes.room(Lane::Bulk), lanes.room(Lane::Silent)), (0, 8));
        assert_eq!(lanes.room(Lane::Usual), BEHIND - 24);
        let _silent: Vec<_> = (0..8).map(|_| lanes.take(Lane::Silent)).collect();
        let _usual: Vec<_> = (0..lanes.room(Lane::Usual)).map(|_| lanes.take(Lane::Usual)).collect();
        assert_eq!(lanes.room(Lane::First), AT_ONCE - BEHIND);
    }
}

//! Calls of one kind that come while others are under way are done together: one statement for
//! all of them takes little longer than one for each would. A call that comes alone is done at
//! once.

use std::collections::{HashSet, VecDeque};
use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use futures::future::{BoxFuture, join_all};
use tokio::sync::{Semaphore, oneshot};
use uuid::Uuid;

use crate::Store;
use crate::StoreError;

/// Calls that are done together at most.
const MOST: usize = 16;

/// What has come of some calls, one by one; or that it is none's, and each is to be done alone.
pub(crate) type Done<'a, A> = BoxFuture<'a, Result<Vec<Result<A, StoreError>>, StoreError>>;

/// A call about one domain.
pub(crate) trait OfDomain {
    /// Its key.
    fn domain_id(&self) -> Uuid;
}

impl OfDomain for Uuid {
    fn domain_id(&self) -> Uuid {
        *self
    }
}

/// Calls of one kind.
pub(crate) struct Together<Q, A> {
    /// Does them: an answer for each, in their order.
    run: for<'a> fn(&'a Store, &'a [Q]) -> Done<'a, A>,
    waiting: Mutex<VecDeque<Waiting<Q, A>>>,
    turns: Arc<Semaphore>,
}

struct Waiting<Q, A> {
    call: Q,
    answer: oneshot::Sender<Result<A, StoreError>>,
}

impl<Q, A> Together<Q, A>
where
    Q: OfDomain + Send + Sync + 'static,
    A: Send + 'static,
{
    /// As many are under way at once as there are `turns`.
    pub(crate) fn new(turns: usize, run: for<'a> fn(&'a Store, &'a [Q]) -> Done<'a, A>) -> Self {
        Self { run, waiting: Mutex::default(), turns: Arc::new(Semaphore::new(turns)) }
    }

    /// Does one call, with whatever else waits.
    ///
    /// # Errors
    /// Those of the call.
    pub(crate) async fn call(&self, store: &Store, call: Q) -> Result<A, StoreError> {
        let (answer, mut answered) = oneshot::channel();
        self.waiting().push_back(Waiting { call, answer });

        loop {
            let turn = tokio::select! {
                biased;
                answered = &mut answered => return answered.unwrap_or_else(|_| Err(broken_off())),
                turn = self.turns.clone().acquire_owned() => turn,
            };
            let batch = self.take();
            if batch.is_empty() {
                drop(turn);
                return answered.await.unwrap_or_else(|_| Err(broken_off()));
            }

            // On its own: whoever has the turn may give up, and the others go on waiting.
            let (store, run) = (store.clone(), self.run);
            tokio::spawn(async move {
                perform(&store, run, batch).await;
                drop(turn);
            });
        }
    }

    fn waiting(&self) -> MutexGuard<'_, VecDeque<Waiting<Q, A>>> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Those that have waited longest, without those whose caller has gone. Of a domain there is one
    /// at most, so a statement has one row of each.
    fn take(&self) -> Vec<Waiting<Q, A>> {
        let mut waiting = self.waiting();
        waiting.retain(|one| !one.answer.is_closed());
        let (mut taken, mut left) = (Vec::new(), VecDeque::new());
        let mut domains = HashSet::new();
        for one in waiting.drain(..) {
            if taken.len() < MOST && domains.insert(one.call.domain_id()) {
                taken.push(one);
            } else {
                left.push_back(one);
            }
        }
        *waiting = left;
        taken
    }
}

async fn perform<Q, A>(
    store: &Store,
    run: for<'a> fn(&'a Store, &'a [Q]) -> Done<'a, A>,
    batch: Vec<Waiting<Q, A>>,
) {
    let (calls, answers): (Vec<_>, Vec<_>) = batch.into_iter().map(|one| (one.call, one.answer)).unzip();
    let done = match run(store, &calls).await {
        Ok(done) => done,
        Err(error) if calls.len() == 1 => vec![Err(error)],
        // What the database does not take of one is not to stop the others.
        Err(_) => join_all(calls.chunks(1).map(|one| alone(store, run, one))).await,
    };
    // Whoever has gone meanwhile needs no answer.
    answers.into_iter().zip(done).for_each(|(answer, done)| drop(answer.send(done)));
}

async fn alone<Q, A>(
    store: &Store,
    run: for<'a> fn(&'a Store, &'a [Q]) -> Done<'a, A>,
    call: &[Q],
) -> Result<A, StoreError> {
    run(store, call).await?.pop().unwrap_or_else(|| Err(broken_off()))
}

fn broken_off() -> StoreError {
    sqlx::Error::WorkerCrashed.into()
}

impl<Q, A> fmt::Debug for Together<Q, A> {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("Together").finish_non_exhaustive()
    }
}

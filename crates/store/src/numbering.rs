//! Numbering what has happened, and calling those who listen, once it is committed.
//!
//! A transaction leaves its events and its changes for the edge without a number, and
//! tells the process's [`Teller`] once it is committed. That gathers for a moment, and then
//! numbers all that is left by anybody in one statement, under the one lock that there is:
//! so whoever has seen number 7 never meets a 6 that was committed later.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use sqlx::PgPool;
use tokio::sync::Notify;
use tokio::time::{sleep, timeout};

use crate::Store;
use crate::StoreError;
use crate::change::Change;
use crate::channel::Channel;

/// Serialises those who number.
const NUMBER_LOCK: i64 = 0x6e6f_6d65;
/// How long what comes is gathered, and how long where much comes.
const GATHERED: Duration = Duration::from_millis(5);
const GATHERED_OF_MUCH: Duration = Duration::from_millis(25);
/// Events, and changes, told at once that are much.
const MUCH: i64 = 8;
/// How often what a process that died has left is looked for.
const LOOKED_FOR: Duration = Duration::from_secs(2);
/// How long the teller waits when the database is away.
const AWAY: Duration = Duration::from_millis(500);
/// Events, and changes, that are numbered at once.
const MOST: i64 = 2000;

/// Tells what was committed, for one process.
#[derive(Debug, Default)]
pub(crate) struct Teller {
    committed: Notify,
    has_work: AtomicBool,
}

impl Teller {
    /// Tells as long as anybody keeps the store.
    pub(crate) fn start(pool: PgPool) -> Arc<Self> {
        let teller = Arc::new(Self::default());
        let weak = Arc::downgrade(&teller);
        tokio::spawn(async move {
            let mut moment = GATHERED;
            while let Some(teller) = weak.upgrade() {
                let _ = timeout(LOOKED_FOR, teller.committed.notified()).await;
                sleep(moment).await;
                match teller.tell(&pool).await {
                    Ok(told) => moment = if told > MUCH { GATHERED_OF_MUCH } else { GATHERED },
                    Err(_) => sleep(AWAY).await,
                }
            }
        });
        teller
    }

    /// Tells what is left, and returns how much that was.
    async fn tell(&self, pool: &PgPool) -> Result<i64, StoreError> {
        let has_work = self.has_work.swap(false, Ordering::AcqRel);
        let told = number(pool, has_work).await;
        match &told {
            // More is left than is numbered at once.
            Ok(numbered) if *numbered >= MOST => self.committed.notify_one(),
            Ok(_) => {}
            Err(_) => {
                self.has_work.fetch_or(has_work, Ordering::AcqRel);
                self.committed.notify_one();
            }
        }
        told
    }
}

/// Numbers what is left, and calls those who listen; returns how many were numbered of
/// what there is more of.
async fn number(pool: &PgPool, has_work: bool) -> Result<i64, StoreError> {
    let numbered = sqlx::query!(
        // The turn comes first: what is taken hangs on it.
        r#"WITH turn AS MATERIALIZED (SELECT 1 AS one FROM (SELECT pg_advisory_xact_lock($1)) locked),
                happened AS (
                    DELETE FROM events_new WHERE place IN
                        (SELECT n.place FROM turn, LATERAL (SELECT place FROM events_new WHERE turn.one = 1
                                                            ORDER BY place LIMIT $2) n)
                    RETURNING place, id, domain_id, account_id, host, kind, at, data),
                events_written AS (
                    INSERT INTO events (id, domain_id, account_id, host, kind, at, data)
                    SELECT h.id, (SELECT d.id FROM domains d WHERE d.id = h.domain_id), h.account_id, h.host, h.kind,
                           h.at, h.data
                    FROM happened h ORDER BY h.place RETURNING 1),
                changed AS (
                    DELETE FROM edge_new WHERE place IN
                        (SELECT n.place FROM turn, LATERAL (SELECT place FROM edge_new WHERE turn.one = 1
                                                            ORDER BY place LIMIT $2) n)
                    RETURNING place, host),
                changes_written AS (
                    INSERT INTO edge_changes (host) SELECT host FROM changed ORDER BY place RETURNING 1)
           SELECT (SELECT count(*) FROM events_written) AS "events!", (SELECT count(*) FROM changes_written) AS "changes!",
                  (SELECT pg_notify($3, '') FROM (SELECT FROM events_written LIMIT 1) written)::text AS called_events,
                  (SELECT pg_notify($4, '') FROM (SELECT FROM changes_written LIMIT 1) written)::text AS called_edge,
                  (SELECT pg_notify($5, '') WHERE $6)::text AS called_work"#,
        NUMBER_LOCK,
        MOST,
        Channel::Events.as_str(),
        Channel::Edge.as_str(),
        Channel::Work.as_str(),
        has_work
    )
    .fetch_one(pool)
    .await?;
    Ok(numbered.events.max(numbered.changes))
}

impl Store {
    /// Commits a transaction that has written events or changes for the edge.
    pub(crate) async fn commit(&self, tx: Change) -> Result<(), StoreError> {
        tx.commit().await?;
        self.teller.committed.notify_one();
        Ok(())
    }

    /// The same of one that has queued tasks, too.
    pub(crate) async fn commit_work(&self, tx: Change) -> Result<(), StoreError> {
        tx.commit().await?;
        self.teller.has_work.store(true, Ordering::Release);
        self.teller.committed.notify_one();
        Ok(())
    }

    /// Numbers what is committed and has no number yet, for who is to read all that has
    /// happened until now.
    pub(crate) async fn number_all(&self) -> Result<(), StoreError> {
        loop {
            let is_left = sqlx::query_scalar!(r#"SELECT EXISTS (SELECT FROM events_new) AS "is!""#);
            if !is_left.fetch_one(&self.pool).await? {
                return Ok(());
            }
            number(&self.pool, false).await?;
        }
    }
}

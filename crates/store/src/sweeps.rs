//! Quick looks at many domains at once. As long as nothing has changed, only
//! the queue is written.

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_core::judge::gate::Stage;
use nomenta_core::judge::schedule::NextLook;
use nomenta_core::name::dns::DnsName;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;
use crate::lanes::Lane;
use crate::tasks::{LEASE_SECONDS, lateness};

/// The right to look at some domains quickly until the lease runs out.
#[derive(Clone, Debug)]
pub struct Sweep {
    /// The domains.
    pub tasks: Vec<QuickTask>,
    lease: Uuid,
}

/// A domain to look at quickly.
#[derive(Clone, Debug)]
pub struct QuickTask {
    /// Key of the record.
    pub domain_id: Uuid,
    /// The name.
    pub host: String,
    /// The zone it was last found in.
    pub zone: DnsName,
    /// The stage it is at.
    pub stage: Stage,
    /// When anything about it changed last.
    pub moved_at: DateTime<Utc>,
    /// When it was looked at last, if ever.
    pub seen_at: Option<DateTime<Utc>>,
    /// How much later it was taken than it was due.
    pub late: TimeDelta,
    /// Quick ones since the last full one.
    pub quick_looks: i32,
    /// What must be read for nothing to have changed.
    pub quick: i64,
}

/// How a quick look ended.
#[derive(Clone, Copy, Debug)]
pub struct QuickDone {
    /// Key of the record.
    pub domain_id: Uuid,
    /// When to look again.
    pub at: NextLook,
    /// What to do then.
    pub then: Then,
}

/// What follows on a quick look.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Then {
    /// Another one.
    Quick,
    /// The same one, which was put off.
    SameAgain,
    /// A full look, since it is time for one.
    Full,
    /// A full look before all others, since something has changed.
    FullNow,
}

impl Then {
    /// The same, and before no others.
    pub fn in_its_turn(self) -> Self {
        if self == Self::FullNow { Self::Full } else { self }
    }
}

impl Store {
    /// Makes every domain due at one moment, for a quick look where that will
    /// do; returns how many there are.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn all_due_at(&self, due: DateTime<Utc>) -> Result<u64, StoreError> {
        let mut tx = self.begin().await?;
        let done = sqlx::query!(
            "WITH all_of_them AS (SELECT ctid AS place FROM tasks WHERE kind = 'look' ORDER BY domain_id FOR UPDATE)
             UPDATE tasks t SET due = $1 FROM all_of_them a WHERE t.ctid = a.place",
            due
        )
        .execute(&mut *tx)
        .await?;

        self.commit_work(tx).await?;

        Ok(done.rows_affected())
    }

    /// Whether any quick look is due by a moment, and how many full ones are, counted up to
    /// `most`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn due_by(&self, moment: DateTime<Utc>, most: i64) -> Result<(bool, i64), StoreError> {
        let row = sqlx::query!(
            // The first one tells; to count them all would take as long as to look.
            r#"SELECT (SELECT due FROM tasks WHERE quick IS NOT NULL AND due <= $1
                       ORDER BY due LIMIT 1) IS NOT NULL AS "quick!",
                      (SELECT count(*) FROM (SELECT FROM tasks WHERE quick IS NULL AND kind = 'look' AND due <= $1
                                             LIMIT $2) due) AS "full!""#,
            moment,
            most
        )
        .fetch_one(&self.pool)
        .await?;
        Ok((row.quick, row.full))
    }

    /// Takes up to `most` domains that are due for a quick look.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn lease_sweep(&self, most: i64) -> Result<Sweep, StoreError> {
        let lease = Uuid::new_v4();
        let rows = sqlx::query!(
            r#"WITH taken AS (
                 SELECT ctid AS place, domain_id FROM tasks
                 WHERE due <= now() AND (leased_until IS NULL OR leased_until < now())
                   AND quick IS NOT NULL
                 ORDER BY due LIMIT $3 FOR UPDATE SKIP LOCKED)
               UPDATE tasks t SET lease = $1, leased_until = now() + make_interval(secs => $2), again = false
               -- Row by row, on connections on which no table is read whole.
               FROM taken, LATERAL (
                   SELECT host, zone, stage, moved_at, looked_at FROM domains WHERE id = taken.domain_id OFFSET 0) d
               WHERE t.ctid = taken.place
               RETURNING t.domain_id, d.host, d.zone, d.stage, d.moved_at, t.quick_looks, t.quick AS "quick!",
                         greatest(d.looked_at, t.seen_at) AS seen_at,
                         extract(epoch FROM now() - t.due)::float8 AS "late!""#,
            lease,
            LEASE_SECONDS,
            most
        )
        .fetch_all(&self.pool)
        .await?;

        let mut tasks = Vec::with_capacity(rows.len());
        for row in rows {
            tasks.push(QuickTask {
                domain_id: row.domain_id,
                stage: word("stage", &row.stage)?,
                host: row.host,
                zone: row.zone.into(),
                moved_at: row.moved_at,
                seen_at: row.seen_at,
                late: lateness(row.late),
                quick_looks: row.quick_looks,
                quick: row.quick,
            });
        }

        Ok(Sweep { tasks, lease })
    }

    /// Keeps the lease of a sweep for another term.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn renew_sweep(&self, sweep: &Sweep) -> Result<(), StoreError> {
        sqlx::query!(
            // In the one order of locks.
            "WITH held AS (SELECT ctid AS place FROM tasks WHERE domain_id = ANY($3) AND lease = $1
                           ORDER BY domain_id FOR UPDATE)
             UPDATE tasks t SET leased_until = now() + make_interval(secs => $2)
             FROM held WHERE t.ctid = held.place",
            sweep.lease,
            LEASE_SECONDS,
            &sweep.tasks.iter().map(|task| task.domain_id).collect::<Vec<_>>()
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Ends a sweep; domains that another process has taken are left alone.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn finish_sweep(
        &self,
        sweep: &Sweep,
        done: &[QuickDone],
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let mut done: Vec<_> = done.iter().collect();
        done.sort_by_key(|one| one.domain_id);
        let ids: Vec<_> = done.iter().map(|one| one.domain_id).collect();
        let due: Vec<_> = done.iter().map(|one| one.at.due).collect();
        let soonest: Vec<_> = done.iter().map(|one| one.at.soonest).collect();
        let quick: Vec<_> =
            done.iter().map(|one| matches!(one.then, Then::Quick | Then::SameAgain)).collect();
        let lanes: Vec<_> =
            done.iter().map(|one| (one.then == Then::FullNow).then_some(Lane::First.number())).collect();
        let counts: Vec<_> = done.iter().map(|one| one.then != Then::SameAgain).collect();

        sqlx::query!(
            "UPDATE tasks t SET due = CASE WHEN t.again THEN now() WHEN t.awaited_until > now() THEN least(g.due, g.soonest)
                                      ELSE g.due END, soonest = g.soonest,
                 quick = CASE WHEN g.quick AND NOT t.again THEN t.quick END, lane = coalesce(g.lane, t.lane),
                 quick_looks = t.quick_looks + g.counts::int, seen_at = CASE WHEN g.counts THEN $5 ELSE t.seen_at END,
                 lease = NULL, leased_until = NULL, again = false
             -- Row by row, as above, and in the one order of locks.
             FROM unnest($1::uuid[], $2::timestamptz[], $3::boolean[], $6::timestamptz[], $7::boolean[],
                         $8::smallint[]) AS g (id, due, quick, soonest, counts, lane),
                  LATERAL (SELECT ctid AS place FROM tasks WHERE domain_id = g.id AND kind = 'look'
                           OFFSET 0) found
             WHERE t.ctid = found.place AND t.lease = $4",
            &ids,
            &due,
            &quick,
            sweep.lease,
            now,
            &soonest,
            &counts,
            &lanes as _
        )
        .execute(&self.pool)
        .await?;

        Ok(())
    }
}

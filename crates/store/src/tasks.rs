//! The leased queue. A lease is held for a short time and renewed; a process
//! that dies simply stops renewing.

use std::collections::BTreeSet;

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_core::judge::schedule::NextLook;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;
use crate::lanes::Lane;

/// How long a lease lasts without being renewed, in seconds.
pub(crate) const LEASE_SECONDS: f64 = 12.0;

nomenta_core::spelled! {
    /// Kinds of task.
    pub enum TaskKind: "kind of task" {
        /// Survey and judge a domain.
        Look = "look",
        /// Bring a certificate order to its end.
        Order = "order",
        /// See what a domain that has left has left behind.
        Watch = "watch",
    }
}

/// The right to do one task until the lease runs out.
#[derive(Clone, Debug)]
pub struct Lease {
    /// The domain that the task is about.
    pub domain_id: Uuid,
    /// What to do.
    pub kind: TaskKind,
    /// How often in a row it could not be done.
    pub tries: i32,
    /// The lane that it came from.
    pub lane: Lane,
    /// How much later it was taken than it was due.
    pub late: TimeDelta,
    pub(crate) lease: Uuid,
}

impl Store {
    /// Takes up to `most` due tasks of a lane.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn lease(&self, lane: Lane, most: usize) -> Result<Vec<Lease>, StoreError> {
        let lease = Uuid::new_v4();
        let rows = sqlx::query!(
            r#"WITH taken AS (
                 SELECT ctid AS place FROM tasks
                 WHERE lane = $3 AND due <= now() AND (leased_until IS NULL OR leased_until < now()) AND quick IS NULL
                 ORDER BY due LIMIT $4 FOR UPDATE SKIP LOCKED)
             UPDATE tasks t SET lease = $1, leased_until = now() + make_interval(secs => $2), again = false
             FROM taken WHERE t.ctid = taken.place
             RETURNING t.domain_id, t.kind, t.tries, extract(epoch FROM now() - t.due)::float8 AS "late!""#,
            lease,
            LEASE_SECONDS,
            lane.number(),
            i64::try_from(most).unwrap_or(i64::MAX)
        )
        .fetch_all(&self.pool)
        .await?;

        let mut leases = Vec::with_capacity(rows.len());
        for row in rows {
            let kind = word("kind of task", &row.kind)?;
            let late = lateness(row.late);
            leases.push(Lease { domain_id: row.domain_id, kind, tries: row.tries, lane, late, lease });
        }

        Ok(leases)
    }

    /// Keeps a lease for another term.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has it.
    pub async fn renew(&self, lease: &Lease) -> Result<(), StoreError> {
        let done = sqlx::query!(
            "UPDATE tasks SET leased_until = now() + make_interval(secs => $4)
             WHERE domain_id = $1 AND kind = $2 AND lease = $3",
            lease.domain_id,
            lease.kind.as_str(),
            lease.lease,
            LEASE_SECONDS
        )
        .execute(&self.pool)
        .await?;
        held(done.rows_affected())
    }

    /// Seconds until something is due, or a lease runs out, in one of these lanes; `None` if
    /// nothing is queued there.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn next_due(&self, lanes: &[Lane]) -> Result<Option<f64>, StoreError> {
        let lanes: Vec<_> = lanes.iter().map(|lane| lane.number()).collect();
        let seconds = sqlx::query_scalar!(
            // What is due is leased by somebody, and of what is not due yet the first one counts.
            "SELECT extract(epoch FROM min(greatest(due, leased_until)) - now())::float8 FROM (
                 SELECT t.due, t.leased_until FROM unnest($1::smallint[]) AS l (lane) CROSS JOIN LATERAL (
                     (SELECT due, leased_until FROM tasks WHERE lane = l.lane AND quick IS NULL AND due <= now()
                      ORDER BY due LIMIT 500)
                     UNION ALL
                     (SELECT due, leased_until FROM tasks WHERE lane = l.lane AND quick IS NULL AND due > now()
                      ORDER BY due LIMIT 1)) t) first",
            &lanes
        );
        Ok(seconds.fetch_one(&self.pool).await?)
    }

    /// Seconds until a quick look is due, or a lease on one runs out; `None` if none is queued.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn next_quick_due(&self) -> Result<Option<f64>, StoreError> {
        let seconds = sqlx::query_scalar!(
            // As above.
            "SELECT extract(epoch FROM min(greatest(due, leased_until)) - now())::float8 FROM (
                 (SELECT due, leased_until FROM tasks WHERE quick IS NOT NULL AND due <= now()
                  ORDER BY due LIMIT 5000)
                 UNION ALL
                 (SELECT due, leased_until FROM tasks WHERE quick IS NOT NULL AND due > now()
                  ORDER BY due LIMIT 1)) first"
        );
        Ok(seconds.fetch_one(&self.pool).await?)
    }

    /// How many tasks are due in each lane that has any, counted up to `most`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn due_in_lanes(&self, most: i64) -> Result<Vec<(Lane, i64)>, StoreError> {
        let lanes: Vec<_> = Lane::ALL.iter().map(|lane| lane.number()).collect();
        let rows = sqlx::query!(
            r#"SELECT l.lane AS "lane!", count(*) AS "due!" FROM unnest($1::smallint[]) AS l (lane)
               CROSS JOIN LATERAL (SELECT FROM tasks WHERE lane = l.lane AND quick IS NULL AND due <= now() LIMIT $2) t
               GROUP BY l.lane"#,
            &lanes,
            most
        );
        let rows = rows.fetch_all(&self.pool).await?;
        Ok(rows.into_iter().map(|row| (Lane::of(row.lane), row.due)).collect())
    }

    /// Gives a task back undone, to be tried again at `due` in a lane.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has it.
    pub async fn postpone(&self, lease: &Lease, due: DateTime<Utc>, lane: Lane) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        let tries = lease.tries.saturating_add(1);
        let next = Next { at: NextLook::at(due), quick: None, tries, lane };
        finish(&mut tx, lease, Some(next)).await?;
        tx.commit().await?;

        Ok(())
    }

    /// Takes a task that has nothing left to do off the queue.
    ///
    /// # Errors
    /// As for [`postpone`](Self::postpone).
    pub async fn drop_task(&self, lease: &Lease) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        finish(&mut tx, lease, None).await?;
        tx.commit().await?;
        Ok(())
    }
}

/// How late a task was taken, from seconds.
pub(crate) fn lateness(seconds: f64) -> TimeDelta {
    TimeDelta::milliseconds((seconds.max(0.0) * 1000.0) as i64)
}

/// Locks the tasks of some domains, in the one order.
pub(crate) async fn lock(tx: &mut PgConnection, domain_ids: &[Uuid]) -> Result<(), StoreError> {
    sqlx::query!(
        "SELECT domain_id FROM tasks WHERE domain_id = ANY($1) ORDER BY domain_id, kind FOR UPDATE",
        domain_ids
    )
    .fetch_all(&mut *tx)
    .await?;
    Ok(())
}

/// Queues a task of a domain at work in its usual lane, or brings it forward; one that runs
/// now is run again. The domain must be locked.
pub(crate) async fn wake(
    tx: &mut PgConnection,
    domain_id: Uuid,
    kind: TaskKind,
    due: DateTime<Utc>,
) -> Result<(), StoreError> {
    wake_in(tx, &[domain_id], kind, due, Lane::Usual).await.map(drop)
}

/// The same of several domains, in a lane; returns how many are at work. One that rests is looked at
/// as long as somebody else claims its name: they must not wait for it. What is due already
/// goes no later for it, and a zone that does not answer is not let into bulk work.
pub(crate) async fn wake_in(
    tx: &mut PgConnection,
    domain_ids: &[Uuid],
    kind: TaskKind,
    due: DateTime<Utc>,
    lane: Lane,
) -> Result<u64, StoreError> {
    let woken = sqlx::query!(
        "INSERT INTO tasks (domain_id, kind, due, lane)
         SELECT id, $2, $3::timestamptz, $4::smallint FROM domains d
         WHERE id = ANY($1) AND (is_at_work OR $2 = $7 AND EXISTS (
             SELECT FROM contests c WHERE c.holder_id = d.id AND c.settled_at IS NULL)) ORDER BY id
         ON CONFLICT (domain_id, kind) DO UPDATE
         SET due = least(tasks.due, $3), again = tasks.lease IS NOT NULL, quick = NULL,
             lane = CASE WHEN tasks.due <= $3 AND tasks.quick IS NULL THEN least(tasks.lane, $4)
                         WHEN tasks.lane = $6 AND $4 = $5 THEN tasks.lane
                         ELSE $4 END",
        domain_ids,
        kind.as_str(),
        due,
        lane.number(),
        Lane::Bulk.number(),
        Lane::Silent.number(),
        TaskKind::Look.as_str()
    )
    .execute(&mut *tx)
    .await?;
    Ok(woken.rows_affected())
}

/// Queues a first look at what a domain that has ended leaves behind.
pub(crate) async fn watch(
    tx: &mut PgConnection,
    domain_id: Uuid,
    due: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO tasks (domain_id, kind, due) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING",
        domain_id,
        TaskKind::Watch.as_str(),
        due
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// When and how a task comes again.
pub(crate) struct Next {
    pub at: NextLook,
    /// What a quick look must read then.
    pub quick: Option<i64>,
    /// How often in a row it could not be done.
    pub tries: i32,
    /// In which lane.
    pub lane: Lane,
}

/// Ends a task: due again, or gone. Void if the lease was lost.
pub(crate) async fn finish(
    tx: &mut PgConnection,
    lease: &Lease,
    next: Option<Next>,
) -> Result<(), StoreError> {
    if let Some(next) = next {
        return held(finish_all(tx, &[(lease, &next)]).await?.len() as u64);
    }

    let done = sqlx::query!(
        "DELETE FROM tasks WHERE domain_id = $1 AND kind = $2 AND lease = $3",
        lease.domain_id,
        lease.kind.as_str(),
        lease.lease
    )
    .execute(&mut *tx)
    .await?;
    held(done.rows_affected())
}

/// Ends tasks that are due again, and tells which, by domain and lease: the leases of the others
/// are lost. Tasks of several domains must be locked.
pub(crate) async fn finish_all(
    tx: &mut PgConnection,
    ends: &[(&Lease, &Next)],
) -> Result<BTreeSet<(Uuid, Uuid)>, StoreError> {
    let rows = sqlx::query!(
        r#"UPDATE tasks t SET due = CASE WHEN t.again THEN now() WHEN t.awaited_until > now() THEN least(n.due, n.soonest)
                             ELSE n.due END, soonest = n.soonest,
               quick = CASE WHEN t.again THEN NULL ELSE n.quick END, quick_looks = 0,
               lane = CASE WHEN t.again THEN t.lane WHEN t.awaited_until > now() AND n.lane <> $10 THEN $9
                           ELSE n.lane END,
               tries = n.tries, lease = NULL, leased_until = NULL, again = false
           FROM unnest($1::uuid[], $2::text[], $3::uuid[], $4::timestamptz[], $5::bigint[], $6::int[], $7::smallint[],
                       $8::timestamptz[])
               AS n (domain_id, kind, lease, due, quick, tries, lane, soonest)
           WHERE t.domain_id = n.domain_id AND t.kind = n.kind AND t.lease = n.lease
           RETURNING n.domain_id AS "domain_id!", n.lease AS "lease!""#,
        &ends.iter().map(|(lease, _)| lease.domain_id).collect::<Vec<_>>(),
        &ends.iter().map(|(lease, _)| lease.kind.to_string()).collect::<Vec<_>>(),
        &ends.iter().map(|(lease, _)| lease.lease).collect::<Vec<_>>(),
        &ends.iter().map(|(_, next)| next.at.due).collect::<Vec<_>>(),
        &ends.iter().map(|(_, next)| next.quick).collect::<Vec<_>>() as _,
        &ends.iter().map(|(_, next)| next.tries).collect::<Vec<_>>(),
        &ends.iter().map(|(_, next)| next.lane.number()).collect::<Vec<_>>(),
        &ends.iter().map(|(_, next)| next.at.soonest).collect::<Vec<_>>(),
        Lane::First.number(),
        Lane::Silent.number()
    )
    .fetch_all(&mut *tx)
    .await?;
    Ok(rows.into_iter().map(|row| (row.domain_id, row.lease)).collect())
}

/// Goes on only while the lease is held, and keeps it so until the end of the transaction.
pub(crate) async fn hold(tx: &mut PgConnection, lease: &Lease) -> Result<(), StoreError> {
    let held_by_us = sqlx::query!(
        "SELECT domain_id FROM tasks WHERE domain_id = $1 AND kind = $2 AND lease = $3 FOR UPDATE",
        lease.domain_id,
        lease.kind.as_str(),
        lease.lease
    );
    held(held_by_us.fetch_all(&mut *tx).await?.len() as u64)
}

fn held(rows: u64) -> Result<(), StoreError> {
    if rows == 0 { Err(StoreError::LeaseLost) } else { Ok(()) }
}

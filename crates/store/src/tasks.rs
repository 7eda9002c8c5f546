//! The leased queue. A lease is held for a short time and renewed; a process
//! that dies simply stops renewing.

use chrono::{DateTime, Utc};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;

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
    pub(crate) lease: Uuid,
}

impl Store {
    /// Takes up to `most` due tasks.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn lease(&self, most: i64) -> Result<Vec<Lease>, StoreError> {
        let lease = Uuid::new_v4();
        let rows = sqlx::query!(
            "UPDATE tasks SET lease = $1, leased_until = now() + make_interval(secs => $2), again = false
             WHERE (domain_id, kind) IN (
                 SELECT domain_id, kind FROM tasks
                 WHERE due <= now() AND (leased_until IS NULL OR leased_until < now()) AND quick IS NULL
                 ORDER BY due LIMIT $3 FOR UPDATE SKIP LOCKED)
             RETURNING domain_id, kind, tries",
            lease,
            LEASE_SECONDS,
            most
        )
        .fetch_all(&self.pool)
        .await?;

        let mut leases = Vec::with_capacity(rows.len());
        for row in rows {
            let kind = word("kind of task", &row.kind)?;
            leases.push(Lease { domain_id: row.domain_id, kind, tries: row.tries, lease });
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

    /// Seconds until something is due or a lease runs out; `None` if nothing
    /// is queued.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn next_due(&self) -> Result<Option<f64>, StoreError> {
        let seconds = sqlx::query_scalar!(
            // Leased tasks are due, so they stand in front.
            "SELECT extract(epoch FROM min(greatest(due, leased_until)) - now())::float8 FROM (
                 (SELECT due, leased_until FROM tasks WHERE quick IS NULL ORDER BY due LIMIT 500)
                 UNION ALL
                 (SELECT due, leased_until FROM tasks WHERE quick IS NOT NULL ORDER BY due LIMIT 5000)) first"
        );
        Ok(seconds.fetch_one(&self.pool).await?)
    }

    /// Gives a task back undone, to be tried again at `due`.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has it.
    pub async fn postpone(&self, lease: &Lease, due: DateTime<Utc>) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        let next = Next { due, quick: None, tries: lease.tries.saturating_add(1) };
        finish(&mut tx, lease, Some(next)).await?;
        tx.commit().await?;

        Ok(())
    }

    /// Takes a task that has nothing left to do off the queue.
    ///
    /// # Errors
    /// As for [`postpone`](Self::postpone).
    pub async fn drop_task(&self, lease: &Lease) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        finish(&mut tx, lease, None).await?;
        tx.commit().await?;
        Ok(())
    }
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

/// Queues a task of a domain at work, or brings it forward; one that runs now is run
/// again. The domain must be locked.
pub(crate) async fn wake(
    tx: &mut PgConnection,
    domain_id: Uuid,
    kind: TaskKind,
    due: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO tasks (domain_id, kind, due)
         SELECT id, $2, $3::timestamptz FROM domains WHERE id = $1 AND is_at_work
         ON CONFLICT (domain_id, kind) DO UPDATE
         SET due = least(tasks.due, $3), again = tasks.lease IS NOT NULL, quick = NULL",
        domain_id,
        kind.as_str(),
        due
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
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
    pub due: DateTime<Utc>,
    /// What a quick look must read then.
    pub quick: Option<i64>,
    /// How often in a row it could not be done.
    pub tries: i32,
}

/// Ends a task: due again, or gone. Void if the lease was lost.
pub(crate) async fn finish(
    tx: &mut PgConnection,
    lease: &Lease,
    next: Option<Next>,
) -> Result<(), StoreError> {
    let kind = lease.kind.as_str();
    let done = match next {
        Some(Next { due, quick, tries }) => {
            sqlx::query!(
                "UPDATE tasks SET due = CASE WHEN again THEN now() ELSE $4 END,
                 quick = CASE WHEN again THEN NULL ELSE $5::bigint END, quick_looks = 0,
                 tries = $6, lease = NULL, leased_until = NULL, again = false
                 WHERE domain_id = $1 AND kind = $2 AND lease = $3",
                lease.domain_id,
                kind,
                lease.lease,
                due,
                quick,
                tries
            )
            .execute(&mut *tx)
            .await?
        }
        None => {
            sqlx::query!(
                "DELETE FROM tasks WHERE domain_id = $1 AND kind = $2 AND lease = $3",
                lease.domain_id,
                kind,
                lease.lease
            )
            .execute(&mut *tx)
            .await?
        }
    };

    held(done.rows_affected())
}

fn held(rows: u64) -> Result<(), StoreError> {
    if rows == 0 { Err(StoreError::LeaseLost) } else { Ok(()) }
}

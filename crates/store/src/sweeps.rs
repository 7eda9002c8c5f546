//! Quick looks at many domains at once. As long as nothing has changed, only
//! the queue is written.

use chrono::{DateTime, Utc};
use nomenta_core::judge::gate::Stage;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::tasks::LEASE_SECONDS;

/// The right to glance at some domains until the lease runs out.
#[derive(Clone, Debug)]
pub struct Sweep {
    /// The domains.
    pub sights: Vec<Sight>,
    lease: Uuid,
}

/// A domain to glance at.
#[derive(Clone, Debug)]
pub struct Sight {
    /// Key of the record.
    pub domain_id: Uuid,
    /// The name.
    pub host: String,
    /// The zone it was last found in.
    pub zone: String,
    /// The stage it is at.
    pub stage: Stage,
    /// Looks in a row that found nothing new.
    pub quiet_looks: i32,
    /// Quick ones since the last full one.
    pub quick_looks: i32,
    /// What must be read for nothing to have changed.
    pub quick: i64,
}

/// How a glance ended.
#[derive(Clone, Copy, Debug)]
pub struct Glanced {
    /// Key of the record.
    pub domain_id: Uuid,
    /// When to look again.
    pub due: DateTime<Utc>,
    /// Whether that may be a quick look too.
    pub quick: bool,
}

impl Store {
    /// Makes every domain due at one moment, for a quick look where that will
    /// do; returns how many there are.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn all_due_at(&self, due: DateTime<Utc>) -> Result<u64, StoreError> {
        let done =
            sqlx::query!("UPDATE tasks SET due = $1 WHERE kind = 'look'", due).execute(&self.pool).await?;
        sqlx::query!("SELECT pg_notify('nomenta_work', '')").fetch_one(&self.pool).await?;
        Ok(done.rows_affected())
    }

    /// Whether any quick look is due by a moment, and how many full ones are.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn due_by(&self, moment: DateTime<Utc>) -> Result<(bool, i64), StoreError> {
        let row = sqlx::query!(
            // The first one tells; to count them all would take as long as to look.
            r#"SELECT (SELECT due FROM tasks WHERE quick IS NOT NULL AND due <= $1
                       ORDER BY due LIMIT 1) IS NOT NULL AS "quick!",
                      (SELECT count(*) FROM tasks WHERE quick IS NULL AND kind = 'look' AND due <= $1) AS "full!""#,
            moment
        )
        .fetch_one(&self.pool)
        .await?;
        Ok((row.quick, row.full))
    }

    /// Takes up to `most` domains that are due for a quick look.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn lease_sweep(&self, most: i64) -> Result<Sweep, StoreError> {
        let lease = Uuid::new_v4();
        let rows = sqlx::query!(
            r#"WITH taken AS (
                 SELECT ctid AS place, domain_id FROM tasks
                 WHERE due <= now() AND (leased_until IS NULL OR leased_until < now())
                   AND quick IS NOT NULL AND kind = 'look'
                 ORDER BY due LIMIT $3 FOR UPDATE SKIP LOCKED)
               UPDATE tasks t SET lease = $1, leased_until = now() + make_interval(secs => $2), again = false
               -- Row by row: a join by hash would read both tables whole.
               FROM taken, LATERAL (
                   SELECT host, zone, stage, quiet_looks FROM domains WHERE id = taken.domain_id OFFSET 0) d
               WHERE t.ctid = taken.place
               RETURNING t.domain_id, d.host, d.zone, d.stage, d.quiet_looks, t.quick_looks,
                         t.quick AS "quick!""#,
            lease,
            LEASE_SECONDS,
            most
        )
        .fetch_all(&self.pool)
        .await?;
        let read = |stage: &str| stage.parse().map_err(|e: String| StoreError::unreadable("stage", e));
        let sights = rows.into_iter().map(|r| {
            Ok(Sight {
                domain_id: r.domain_id,
                stage: read(&r.stage)?,
                host: r.host,
                zone: r.zone,
                quiet_looks: r.quiet_looks,
                quick_looks: r.quick_looks,
                quick: r.quick,
            })
        });
        Ok(Sweep { sights: sights.collect::<Result<_, StoreError>>()?, lease })
    }

    /// Keeps the lease of a sweep for another term.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn renew_sweep(&self, sweep: &Sweep) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE tasks SET leased_until = now() + make_interval(secs => $2)
             WHERE lease = $1 AND domain_id = ANY($3)",
            sweep.lease,
            LEASE_SECONDS,
            &sweep.sights.iter().map(|s| s.domain_id).collect::<Vec<_>>()
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Ends a sweep; domains that another process has taken are left alone.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn finish_sweep(
        &self,
        sweep: &Sweep,
        glanced: &[Glanced],
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let ids: Vec<_> = glanced.iter().map(|g| g.domain_id).collect();
        let due: Vec<_> = glanced.iter().map(|g| g.due).collect();
        let quick: Vec<_> = glanced.iter().map(|g| g.quick).collect();
        sqlx::query!(
            "UPDATE tasks t SET due = CASE WHEN t.again THEN now() ELSE g.due END,
                 quick = CASE WHEN g.quick AND NOT t.again THEN t.quick END,
                 quick_looks = t.quick_looks + 1, seen_at = $5,
                 lease = NULL, leased_until = NULL, again = false
             -- Row by row, as above.
             FROM unnest($1::uuid[], $2::timestamptz[], $3::boolean[]) AS g (id, due, quick),
                  LATERAL (SELECT ctid AS place FROM tasks WHERE domain_id = g.id AND kind = 'look' OFFSET 0) found
             WHERE t.ctid = found.place AND t.lease = $4",
            &ids,
            &due,
            &quick,
            sweep.lease,
            now
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}

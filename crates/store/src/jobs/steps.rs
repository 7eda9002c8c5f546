//! How a job goes on: it is taken by one process at a time, gathers its domains, and then
//! does what it is for to a few of them in each transaction.

use nomenta_api::job::{ItemResult, JobState};
use sqlx::PgConnection;
use uuid::Uuid;

use super::acts::{Done, Item, Manner};
use super::lease::{FreshToken, JobLease};
use crate::Store;
use crate::StoreError;
use crate::change::Change;
use crate::error::{read, read_if, word};
use crate::locks;
use crate::places::Place;
use crate::roster::{Order, Sort};
use crate::tasks::LEASE_SECONDS;

/// Domains gathered at once.
const GATHERED: i64 = 1000;

impl Store {
    /// Takes a job that nobody does.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn lease_job(&self) -> Result<Option<JobLease>, StoreError> {
        let lease = Uuid::new_v4();
        let job = sqlx::query!(
            "UPDATE jobs SET lease = $1, leased_until = now() + make_interval(secs => $2)
             WHERE id = (SELECT id FROM jobs WHERE ended_at IS NULL AND (leased_until IS NULL OR leased_until < now())
                         ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED)
             RETURNING id, act, filter, actor",
            lease,
            LEASE_SECONDS
        );
        let Some(job) = job.fetch_optional(&self.pool).await? else { return Ok(None) };

        Ok(Some(JobLease {
            id: job.id,
            act: read("act", job.act)?,
            filter: read("filter of the roster", job.filter)?,
            actor: read_if("actor", job.actor)?,
            lease,
        }))
    }

    /// Goes one step on with a job; `false` if it has ended.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has it, or somebody stopped it.
    pub async fn step_job(
        &self,
        lease: &JobLease,
        fresh: &(dyn Fn() -> FreshToken + Sync),
    ) -> Result<bool, StoreError> {
        let job = sqlx::query!(
            "SELECT state, gathered_host, gathered_id FROM jobs WHERE id = $1 AND lease = $2",
            lease.id,
            lease.lease
        );
        let job = job.fetch_optional(&self.pool).await?.ok_or(StoreError::LeaseLost)?;

        match word("state of a job", &job.state)? {
            JobState::Gathering => {
                let place = job.gathered_host.zip(job.gathered_id).map(|(by, id)| Place { by, id });
                self.gather(lease, place).await
            }
            JobState::Running => self.go_on(lease, fresh).await,
            JobState::Stopped | JobState::Done => Err(StoreError::LeaseLost),
        }
    }

    /// Gathers the next page of a job's domains; `false` if nobody wants it any more.
    async fn gather(&self, lease: &JobLease, place: Option<Place<String>>) -> Result<bool, StoreError> {
        let order = Order { by: Sort::Name(place), is_descending: false };
        let rows = self.roster(&lease.filter, &order, GATHERED).await?;
        let hosts: Vec<_> = rows.iter().map(|row| row.host.clone()).collect();
        let ids: Vec<_> = rows.iter().map(|row| row.id).collect();
        let is_last = i64::try_from(rows.len()).unwrap_or(0) < GATHERED;
        let state = if is_last { JobState::Running } else { JobState::Gathering };

        let mut tx = self.begin().await?;
        hold(&mut tx, lease).await?;
        if !is_wanted(&mut tx, lease).await? {
            return self.stop(tx, lease).await.map(|()| false);
        }
        let gathered = sqlx::query!(
            "INSERT INTO job_items (job_id, host, domain_id)
             SELECT $1, n.host, n.id FROM unnest($2::text[], $3::uuid[]) AS n (host, id) ON CONFLICT DO NOTHING",
            lease.id,
            &hosts,
            &ids
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "UPDATE jobs SET total = total + $2, state = $3, gathered_host = coalesce($4, gathered_host),
                 gathered_id = coalesce($5, gathered_id), leased_until = now() + make_interval(secs => $6)
             WHERE id = $1",
            lease.id,
            i32::try_from(gathered.rows_affected()).unwrap_or(i32::MAX),
            state.as_str(),
            hosts.last(),
            ids.last().copied(),
            LEASE_SECONDS
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(true)
    }

    /// Stops a job behind what it has done.
    async fn stop(&self, mut tx: Change, lease: &JobLease) -> Result<(), StoreError> {
        end(&mut tx, lease.id, JobState::Stopped).await?;
        self.commit(tx).await
    }

    /// Does what a job is for to the next few of its domains; `false` if none was left.
    async fn go_on(
        &self,
        lease: &JobLease,
        fresh: &(dyn Fn() -> FreshToken + Sync),
    ) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        hold(&mut tx, lease).await?;
        if !is_wanted(&mut tx, lease).await? {
            return self.stop(tx, lease).await.map(|()| false);
        }
        let items = sqlx::query_as!(
            Item,
            "SELECT host, domain_id AS id FROM job_items WHERE job_id = $1 AND result IS NULL
             ORDER BY host, domain_id LIMIT $2",
            lease.id,
            Manner::of(&lease.act).at_once()
        )
        .fetch_all(&mut *tx)
        .await?;
        if items.is_empty() {
            end(&mut tx, lease.id, JobState::Done).await?;
            self.commit(tx).await?;
            return Ok(false);
        }

        // All at once, so that two jobs take what both are about in one order.
        let ids: Vec<_> = items.iter().map(|item| item.id).collect();
        let claims = locks::lock(&mut tx, &ids).await?;
        self.name_actor(&mut tx, lease.actor.as_ref()).await?;
        let done = self.act(&mut tx, lease, &items, &claims, fresh).await?;
        self.name_actor(&mut tx, None).await?;

        write(&mut tx, lease, &items, &done).await?;
        self.commit_work(tx).await?;
        Ok(true)
    }
}

/// Locks a job that is still under way, and still ours.
async fn hold(tx: &mut PgConnection, lease: &JobLease) -> Result<(), StoreError> {
    let held = sqlx::query_scalar!(
        "SELECT id FROM jobs WHERE id = $1 AND lease = $2 AND ended_at IS NULL FOR UPDATE",
        lease.id,
        lease.lease
    );
    held.fetch_optional(&mut *tx).await?.map(drop).ok_or(StoreError::LeaseLost)
}

/// Whether whoever began a job may still do what it does: their key has not ended, and does not before
/// the transaction does.
async fn is_wanted(tx: &mut PgConnection, lease: &JobLease) -> Result<bool, StoreError> {
    let Some(actor) = &lease.actor else { return Ok(true) };
    let has_ended = sqlx::query_scalar!(
        r#"SELECT revoked_at IS NOT NULL OR coalesce(expires_at <= now(), false) AS "has_ended!" FROM access_keys
           WHERE id = $1 FOR SHARE"#,
        actor.key_id
    );
    Ok(!has_ended.fetch_optional(&mut *tx).await?.unwrap_or(false))
}

async fn end(tx: &mut PgConnection, id: Uuid, state: JobState) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE jobs SET state = $2, ended_at = now(), lease = NULL, leased_until = NULL WHERE id = $1",
        id,
        state.as_str()
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// Writes the lines of what was done, and how far the job has come.
async fn write(
    tx: &mut PgConnection,
    lease: &JobLease,
    items: &[Item],
    done: &[Done],
) -> Result<(), StoreError> {
    let hosts: Vec<_> = items.iter().map(|item| item.host.clone()).collect();
    let ids: Vec<_> = items.iter().map(|item| item.id).collect();
    let results: Vec<_> = done.iter().map(|one| one.result.as_str().to_owned()).collect();
    let because: Vec<_> = done.iter().map(|one| one.because.clone()).collect();
    sqlx::query!(
        "UPDATE job_items i SET result = n.result, because = n.because, done_at = now()
         FROM unnest($2::text[], $3::uuid[], $4::text[], $5::text[]) AS n (host, id, result, because)
         WHERE i.job_id = $1 AND i.host = n.host AND i.domain_id = n.id",
        lease.id,
        &hosts,
        &ids,
        &results,
        &because as &[Option<String>]
    )
    .execute(&mut *tx)
    .await?;

    sqlx::query!(
        "UPDATE jobs SET changed = changed + $2, unchanged = unchanged + $3, refused = refused + $4,
             leased_until = now() + make_interval(secs => $5) WHERE id = $1",
        lease.id,
        count(done, ItemResult::Changed),
        count(done, ItemResult::Unchanged),
        count(done, ItemResult::Refused),
        LEASE_SECONDS
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

fn count(done: &[Done], result: ItemResult) -> i32 {
    let of = done.iter().filter(|one| one.result == result);
    i32::try_from(of.count()).unwrap_or(i32::MAX)
}

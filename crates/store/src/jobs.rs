//! Jobs: bulk work over part of the roster.
//!
//! A job first gathers its domains, page by page, and then does what it is for to a few of
//! them at a time. What is done to a domain, and the line that says so, are written in one
//! transaction: whoever takes a job over from a process that died goes on behind the last
//! line, and does nothing twice.

use chrono::{DateTime, Utc};
use nomenta_api::job::{Act, ItemResult, JobState, Selection};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::Stage;
use nomenta_core::name::token::Token;
use serde_json::{Value, json};
use sqlx::{Acquire, PgConnection};
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::actor::Actor;
use crate::domains;
use crate::error::{read, read_if, word};
use crate::lanes::Lane;
use crate::locks;
use crate::moves::{self, Move};
use crate::places::{Place, Whose};
use crate::rest;
use crate::roster::{Order, RosterFilter, Sort};
use crate::tallies::Counted;
use crate::tasks::{self, LEASE_SECONDS, TaskKind};
use crate::version::Expected;

/// Domains gathered at once.
const GATHERED: i64 = 1000;
/// Domains that are looked at again at once: one statement queues them all.
const LOOKED_AT: i64 = 500;
/// Domains that something else is done to in one transaction.
const AT_ONCE: i64 = 25;

/// A job to begin.
#[derive(Clone, Copy, Debug)]
pub struct NewJob<'a> {
    /// What is done.
    pub act: &'a Act,
    /// To which domains, as it was asked for.
    pub asked: &'a Selection,
    /// The same, as the roster reads it.
    pub filter: &'a RosterFilter,
}

/// A job, and how far it has come.
#[derive(Clone, Debug)]
pub struct JobRow {
    /// Identifies it.
    pub id: Uuid,
    /// What is done.
    pub act: Act,
    /// To which domains.
    pub asked: Selection,
    /// The key that began it.
    pub by: Option<String>,
    /// How far it has come.
    pub state: JobState,
    /// Domains, as far as they are gathered.
    pub total: i32,
    /// Domains that were changed.
    pub changed: i32,
    /// Domains for which nothing is different.
    pub unchanged: i32,
    /// Domains for which it could not be done.
    pub refused: i32,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
}

/// What a job did to one domain.
#[derive(Clone, Debug)]
pub struct ItemRow {
    /// Key of the domain's record.
    pub domain_id: Uuid,
    /// The domain.
    pub host: String,
    /// What was done, if it has been its turn.
    pub result: Option<ItemResult>,
    /// Why it could not be done.
    pub because: Option<String>,
    /// When.
    pub done_at: Option<DateTime<Utc>>,
}

/// The right to do a job until the lease runs out; each step renews it.
#[derive(Clone, Debug)]
pub struct JobLease {
    /// The job.
    pub id: Uuid,
    /// What is done.
    pub act: Act,
    filter: RosterFilter,
    actor: Option<Actor>,
    lease: Uuid,
}

/// A token that has not been given to anybody, and its end.
pub type FreshToken = (Token, DateTime<Utc>);

struct JobColumns {
    id: Uuid,
    act: Value,
    asked: Value,
    by: Option<String>,
    state: String,
    total: i32,
    changed: i32,
    unchanged: i32,
    refused: i32,
    created_at: DateTime<Utc>,
    ended_at: Option<DateTime<Utc>>,
}

impl JobColumns {
    fn read(self) -> Result<JobRow, StoreError> {
        Ok(JobRow {
            id: self.id,
            act: read("act", self.act)?,
            asked: read("selection", self.asked)?,
            by: self.by,
            state: word("state of a job", &self.state)?,
            total: self.total,
            changed: self.changed,
            unchanged: self.unchanged,
            refused: self.refused,
            created_at: self.created_at,
            ended_at: self.ended_at,
        })
    }
}

/// Jobs of those accounts, by what the statement goes along.
macro_rules! jobs {
    ($which:literal, $whose:expr, $($given:expr),+) => {
        sqlx::query_as!(
            JobColumns,
            "SELECT id, act, asked, actor->>'who' AS by, state, total, changed, unchanged, refused, created_at, ended_at
             FROM jobs WHERE ($1::uuid[] IS NULL OR account_ids <@ $1) AND " + $which,
            $whose.accounts(),
            $($given),+
        )
    };
}

impl Store {
    /// How many domains stand at each stage, of those that a filter leaves, counted up to
    /// `most`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn selected(
        &self,
        filter: &RosterFilter,
        most: i64,
    ) -> Result<Vec<Counted<Stage>>, StoreError> {
        let stages: Vec<_> = filter.stages().iter().map(|stage| stage.as_str().to_owned()).collect();
        let rows = sqlx::query!(
            r#"SELECT stage, count(*) AS "count!" FROM (
                   SELECT stage FROM domains
                   WHERE stage = ANY($1) AND ($2::text IS NULL OR sought LIKE $2)
                     AND ($3::uuid[] IS NULL OR account_id = ANY($3))
                     AND ($4::text IS NULL OR site_id = (SELECT id FROM sites WHERE name = $4))
                     AND ($5::text IS NULL OR ingress_id = (SELECT id FROM ingresses WHERE name = $5))
                     AND ($6::text IS NULL OR operator = $6)
                     AND ($7::text IS NULL OR codes @> ARRAY[$7])
                     AND ($8::timestamptz IS NULL OR enrolled_at < $8)
                     AND ($9::timestamptz IS NULL OR enrolled_at >= $9)
                   LIMIT $10) d
               GROUP BY stage"#,
            &stages,
            filter.pattern(),
            filter.whose.accounts(),
            filter.site,
            filter.ingress,
            filter.operator,
            filter.finding.map(Code::as_str),
            filter.before,
            filter.since,
            most
        )
        .fetch_all(&self.search)
        .await?;
        rows.into_iter().map(|row| Ok(Counted { of: word("stage", &row.stage)?, count: row.count })).collect()
    }

    /// Begins a job; a worker takes it up.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn begin_job(&self, new: NewJob<'_>) -> Result<Uuid, StoreError> {
        let mut tx = self.begin().await?;
        let id = insert(&mut tx, new, self.actor.as_deref()).await?;
        self.commit_work(tx).await?;
        Ok(id)
    }

    /// Jobs of those accounts alone, newest first, at most `limit`, those begun before the
    /// one with an id.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn jobs(
        &self,
        whose: &Whose,
        after: Option<Uuid>,
        limit: i64,
    ) -> Result<Vec<JobRow>, StoreError> {
        let rows = jobs!("id < $2 ORDER BY id DESC LIMIT $3", whose, after.unwrap_or(Uuid::max()), limit);
        rows.fetch_all(&self.pool).await?.into_iter().map(JobColumns::read).collect()
    }

    /// One job of those accounts alone.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn job(&self, whose: &Whose, id: Uuid) -> Result<JobRow, StoreError> {
        let row = jobs!("id = $2", whose, id);
        let row = row.fetch_optional(&self.pool).await?;
        row.ok_or_else(|| StoreError::missing("job", &id.to_string()))?.read()
    }

    /// What a job did to each of its domains, by name, at most `limit`: those with a result,
    /// or all.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn job_items(
        &self,
        id: Uuid,
        result: Option<ItemResult>,
        after: Option<&Place<String>>,
        limit: i64,
    ) -> Result<Vec<ItemRow>, StoreError> {
        let (host, domain_id) = after.map_or(("", Uuid::nil()), |place| (place.by.as_str(), place.id));
        let rows = sqlx::query!(
            "SELECT domain_id, host, result, because, done_at FROM job_items
             WHERE job_id = $1 AND ($2::text IS NULL OR result = $2) AND (host, domain_id) > ($3, $4)
             ORDER BY host, domain_id LIMIT $5",
            id,
            result.map(ItemResult::as_str),
            host,
            domain_id,
            limit
        )
        .fetch_all(&self.pool)
        .await?;

        let mut items = Vec::with_capacity(rows.len());
        for row in rows {
            let result = row.result.as_deref().map(|result| word("result", result)).transpose()?;
            items.push(ItemRow {
                domain_id: row.domain_id,
                host: row.host,
                result,
                because: row.because,
                done_at: row.done_at,
            });
        }
        Ok(items)
    }

    /// Stops a job behind what it has done; `false` if it had ended.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn stop_job(&self, whose: &Whose, id: Uuid) -> Result<bool, StoreError> {
        self.job(whose, id).await?;
        let mut tx = self.begin().await?;
        let done = sqlx::query!(
            "UPDATE jobs SET state = $2, ended_at = now(), lease = NULL, leased_until = NULL
             WHERE id = $1 AND ended_at IS NULL",
            id,
            JobState::Stopped.as_str()
        )
        .execute(&mut *tx)
        .await?;
        self.commit_work(tx).await?;
        Ok(done.rows_affected() > 0)
    }

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

    /// Lets go of every job under way, as when its process has died a while ago.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    #[doc(hidden)]
    pub async fn let_go_of_jobs(&self) -> Result<(), StoreError> {
        sqlx::query!("UPDATE jobs SET leased_until = now() - interval '1 second' WHERE ended_at IS NULL")
            .execute(&self.pool)
            .await?;
        Ok(())
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
                self.gather(lease, place).await?;
                Ok(true)
            }
            JobState::Running => self.go_on(lease, fresh).await,
            JobState::Stopped | JobState::Done => Err(StoreError::LeaseLost),
        }
    }

    /// Gathers the next page of a job's domains.
    async fn gather(&self, lease: &JobLease, place: Option<Place<String>>) -> Result<(), StoreError> {
        let order = Order { by: Sort::Name(place), is_descending: false };
        let rows = self.roster(&lease.filter, &order, GATHERED).await?;
        let hosts: Vec<_> = rows.iter().map(|row| row.host.clone()).collect();
        let ids: Vec<_> = rows.iter().map(|row| row.id).collect();
        let is_last = i64::try_from(rows.len()).unwrap_or(0) < GATHERED;
        let state = if is_last { JobState::Running } else { JobState::Gathering };

        let mut tx = self.begin().await?;
        hold(&mut tx, lease).await?;
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
        Ok(())
    }

    /// Does what a job is for to the next few of its domains; `false` if none was left.
    async fn go_on(
        &self,
        lease: &JobLease,
        fresh: &(dyn Fn() -> FreshToken + Sync),
    ) -> Result<bool, StoreError> {
        let is_look = matches!(lease.act, Act::Look {});
        let mut tx = self.begin().await?;
        hold(&mut tx, lease).await?;
        let items = sqlx::query_as!(
            Item,
            "SELECT host, domain_id AS id FROM job_items WHERE job_id = $1 AND result IS NULL
             ORDER BY host, domain_id LIMIT $2",
            lease.id,
            if is_look { LOOKED_AT } else { AT_ONCE }
        )
        .fetch_all(&mut *tx)
        .await?;
        if items.is_empty() {
            end(&mut tx, lease.id).await?;
            self.commit(tx).await?;
            return Ok(false);
        }

        // All at once, so that two jobs take what both are about in one order.
        let ids: Vec<_> = items.iter().map(|item| item.id).collect();
        locks::lock(&mut tx, &ids).await?;
        self.name_actor(&mut tx, lease.actor.as_ref()).await?;
        let done = if is_look {
            look(&mut tx, &ids).await?
        } else {
            let mut done = Vec::with_capacity(items.len());
            for item in &items {
                done.push(self.one(&mut tx, lease, item, fresh).await?);
            }
            done
        };
        self.name_actor(&mut tx, None).await?;

        write(&mut tx, lease, &items, &done).await?;
        self.commit_work(tx).await?;
        Ok(true)
    }

    /// Does what a job is for to one domain. What cannot be done is undone by itself, and
    /// said on its line.
    async fn one(
        &self,
        tx: &mut PgConnection,
        lease: &JobLease,
        item: &Item,
        fresh: &(dyn Fn() -> FreshToken + Sync),
    ) -> Result<Done, StoreError> {
        let mut inner = tx.begin().await?;
        let done = self.act(&mut inner, lease, item, fresh).await;
        match done {
            Ok(is_changed) => {
                inner.commit().await?;
                let result = if is_changed { ItemResult::Changed } else { ItemResult::Unchanged };
                Ok(Done { result, because: None })
            }
            Err(error) if error.is_passing() => Err(error),
            Err(error) => {
                inner.rollback().await?;
                Ok(Done::refused(&error))
            }
        }
    }

    /// `false` if nothing is different for it.
    async fn act(
        &self,
        tx: &mut PgConnection,
        lease: &JobLease,
        item: &Item,
        fresh: &(dyn Fn() -> FreshToken + Sync),
    ) -> Result<bool, StoreError> {
        let now = Utc::now();
        let id = item.id;
        let whichever = Expected::default();
        match &lease.act {
            Act::Look {} => Ok(tasks::wake_in(tx, &[id], TaskKind::Look, now, Lane::Bulk).await? > 0),
            Act::Pause {} => rest::pause(tx, id, whichever, now).await,
            Act::Resume {} => rest::resume(tx, id, whichever, now).await,
            Act::Release {} => self.release_in(tx, id, whichever, now).await.map(|()| true),
            Act::Move { site } => {
                if shows(tx, id, site).await? {
                    return Ok(false);
                }
                let change = Move { site: Some(site), ..Move::default() };
                moves::move_domain(tx, id, &change, whichever, now).await.map(|_| true)
            }
            Act::Rotate {} => {
                if has_new_token(tx, lease.id, id).await? {
                    return Ok(false);
                }
                let (token, expires_at) = fresh();
                domains::rotate(tx, id, &token, expires_at, whichever).await?;
                note(tx, lease.id, item).await?;
                Ok(true)
            }
        }
    }
}

/// A domain whose turn it is.
struct Item {
    host: String,
    id: Uuid,
}

/// What was done to one domain.
struct Done {
    result: ItemResult,
    because: Option<String>,
}

impl Done {
    fn refused(error: &StoreError) -> Self {
        Self { result: ItemResult::Refused, because: Some(error.to_string()) }
    }
}

/// Writes a job, to be taken up by a worker.
pub(crate) async fn insert(
    tx: &mut PgConnection,
    new: NewJob<'_>,
    actor: Option<&Actor>,
) -> Result<Uuid, StoreError> {
    let id = Uuid::now_v7();
    // What is done by a job is told from what was done by the call that began it.
    let actor = actor.map(|actor| Actor { call: format!("job {id}"), ..actor.clone() });
    sqlx::query!(
        "INSERT INTO jobs (id, act, asked, filter, actor, account_ids, state) VALUES ($1, $2, $3, $4, $5, $6, $7)",
        id,
        json!(new.act),
        json!(new.asked),
        json!(new.filter),
        actor.map(|actor| json!(actor)),
        new.filter.whose.accounts(),
        JobState::Gathering.as_str()
    )
    .execute(&mut *tx)
    .await?;
    Ok(id)
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

async fn end(tx: &mut PgConnection, id: Uuid) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE jobs SET state = $2, ended_at = now(), lease = NULL, leased_until = NULL WHERE id = $1",
        id,
        JobState::Done.as_str()
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// Makes domains due for a look, in the lane of bulk work.
async fn look(tx: &mut PgConnection, ids: &[Uuid]) -> Result<Vec<Done>, StoreError> {
    let at_work = sqlx::query_scalar!("SELECT id FROM domains WHERE id = ANY($1) AND is_at_work", ids)
        .fetch_all(&mut *tx)
        .await?;
    tasks::wake_in(tx, ids, TaskKind::Look, Utc::now(), Lane::Bulk).await?;

    let done = ids.iter().map(|id| match at_work.contains(id) {
        true => Done { result: ItemResult::Changed, because: None },
        false => Done::refused(&StoreError::Resting),
    });
    Ok(done.collect())
}

/// Whether a domain shows a site.
async fn shows(tx: &mut PgConnection, id: Uuid, site: &str) -> Result<bool, StoreError> {
    let shows = sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT FROM domains d JOIN sites s ON s.id = d.site_id
                          WHERE d.id = $1 AND s.name = $2 AND d.ended_at IS NULL) AS "is!""#,
        id,
        site
    );
    Ok(shows.fetch_one(&mut *tx).await?)
}

/// Whether a job has replaced a domain's token already, along with that of another name
/// which the same token proves.
async fn has_new_token(tx: &mut PgConnection, job_id: Uuid, id: Uuid) -> Result<bool, StoreError> {
    let has = sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT FROM domains d JOIN domains o ON o.account_id = d.account_id AND o.token = d.token
                          JOIN job_items i ON i.job_id = $1 AND i.host = o.host AND i.domain_id = o.id
                          WHERE d.id = $2 AND d.is_proved_by_zone AND i.result = $3) AS "is!""#,
        job_id,
        id,
        ItemResult::Changed.as_str()
    );
    Ok(has.fetch_one(&mut *tx).await?)
}

/// Notes at once that a domain was changed.
async fn note(tx: &mut PgConnection, job_id: Uuid, item: &Item) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE job_items SET result = $4 WHERE job_id = $1 AND host = $2 AND domain_id = $3",
        job_id,
        item.host,
        item.id,
        ItemResult::Changed.as_str()
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

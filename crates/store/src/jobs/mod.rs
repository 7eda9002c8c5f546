//! Jobs: bulk work over part of the roster.
//!
//! A job first gathers its domains, page by page, and then does what it is for to a few of
//! them at a time. What is done to a domain, and the line that says so, are written in one
//! transaction: whoever takes a job over from a process that died goes on behind the last
//! line, and does nothing twice.

mod acts;
mod lease;
mod steps;

use chrono::{DateTime, Utc};
use nomenta_api::job::{Act, ItemResult, Job, JobState, Selection};
use nomenta_core::judge::gate::Stage;
use serde_json::{Value, json};
use sqlx::PgConnection;
use uuid::Uuid;

pub use self::lease::{FreshToken, JobLease};
use crate::Store;
use crate::StoreError;
use crate::actor::Actor;
use crate::error::{read, word};
use crate::places::{Place, Whose};
use crate::roster::{Along, RosterFilter};
use crate::tallies::Counted;

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

struct OfStage {
    stage: String,
    count: i64,
}

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
    fn read(self) -> Result<Job, StoreError> {
        Ok(Job {
            id: self.id,
            act: read("act", self.act)?,
            domains: read("selection", self.asked)?,
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
             -- A job that was of no account is nobody's: no set is contained in every other.
             FROM jobs WHERE ($1::uuid[] IS NULL OR account_ids <@ $1 AND cardinality(account_ids) > 0) AND " + $which,
            $whose.accounts(),
            $($given),+
        )
    };
}

/// How many domains of a table stand at each stage, of those that a filter leaves.
macro_rules! selected {
    ($store:expr, $filter:expr, $most:expr, $from:literal) => {
        sqlx::query_as!(
            OfStage,
            r#"SELECT stage, count(*) AS "count!" FROM (
                   SELECT stage FROM "#
                + $from
                + r#"
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
            &$filter.stages().iter().map(|stage| stage.as_str().to_owned()).collect::<Vec<_>>(),
            $filter.pattern(),
            $filter.whose.accounts(),
            $filter.site,
            $filter.ingress,
            $filter.operator,
            $filter.code(),
            $filter.before,
            $filter.since,
            $most
        )
        .fetch_all(&$store.search)
        .await?
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
        let rows = match filter.along(self.is_of_common_text(filter).await?) {
            Along::Text => selected!(self, filter, most, "named_like($2) AS t (id) JOIN domains USING (id)"),
            _ => selected!(self, filter, most, "domains"),
        };
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
    pub async fn jobs(&self, whose: &Whose, after: Option<Uuid>, limit: i64) -> Result<Vec<Job>, StoreError> {
        let rows = jobs!("id < $2 ORDER BY id DESC LIMIT $3", whose, after.unwrap_or(Uuid::max()), limit);
        rows.fetch_all(&self.pool).await?.into_iter().map(JobColumns::read).collect()
    }

    /// One job of those accounts alone.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn job(&self, whose: &Whose, id: Uuid) -> Result<Job, StoreError> {
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

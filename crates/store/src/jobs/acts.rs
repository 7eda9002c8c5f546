//! What a job does to a domain.

use chrono::Utc;
use nomenta_api::job::{Act, ItemResult};
use sqlx::{Acquire, PgConnection};
use uuid::Uuid;

use super::lease::{FreshToken, JobLease};
use crate::Store;
use crate::StoreError;
use crate::lanes::Lane;
use crate::locks::Claims;
use crate::moves::{self, Move};
use crate::rest;
use crate::tasks::{self, TaskKind};
use crate::tokens;
use crate::version::Expected;

/// A domain whose turn it is.
pub(super) struct Item {
    pub host: String,
    pub id: Uuid,
}

/// What was done to one domain.
pub(super) struct Done {
    pub result: ItemResult,
    pub because: Option<String>,
}

impl Done {
    fn of(is_changed: bool) -> Self {
        let result = if is_changed { ItemResult::Changed } else { ItemResult::Unchanged };
        Self { result, because: None }
    }

    fn refused(error: &StoreError) -> Self {
        Self { result: ItemResult::Refused, because: Some(error.to_string()) }
    }
}

/// How an act is done: by one statement for all whose turn it is, or to one after another.
#[derive(Clone, Copy)]
pub(super) enum Manner<'a> {
    Look,
    Pause,
    Resume,
    Each(Each<'a>),
}

/// What is done to one domain at a time, and can fail for it alone.
#[derive(Clone, Copy)]
pub(super) enum Each<'a> {
    Release,
    Move { site: &'a str },
    Rotate,
}

impl<'a> Manner<'a> {
    pub(super) fn of(act: &'a Act) -> Self {
        match act {
            Act::Look {} => Self::Look,
            Act::Pause {} => Self::Pause,
            Act::Resume {} => Self::Resume,
            Act::Release {} => Self::Each(Each::Release),
            Act::Move { site } => Self::Each(Each::Move { site }),
            Act::Rotate {} => Self::Each(Each::Rotate),
        }
    }

    /// To how many domains it is done in one transaction: their looks wait for it.
    pub(super) fn at_once(self) -> i64 {
        match self {
            Self::Look => 500,
            Self::Pause | Self::Resume => 200,
            Self::Each(_) => 25,
        }
    }
}

impl Store {
    /// Does what a job is for to some locked domains; one line for each, in their order.
    pub(super) async fn act(
        &self,
        tx: &mut PgConnection,
        lease: &JobLease,
        items: &[Item],
        claims: &Claims,
        fresh: &(dyn Fn() -> FreshToken + Sync),
    ) -> Result<Vec<Done>, StoreError> {
        let now = Utc::now();
        let open: Vec<_> = items.iter().filter_map(|item| claims.get(item.id)).collect();
        let changed = match Manner::of(&lease.act) {
            Manner::Look => return look(tx, items).await,
            Manner::Pause => rest::pause(tx, &open, now).await?,
            Manner::Resume => rest::resume(tx, &open, now).await?,
            Manner::Each(each) => {
                let mut done = Vec::with_capacity(items.len());
                for item in items {
                    done.push(self.one(tx, lease.id, each, item, fresh).await?);
                }
                return Ok(done);
            }
        };

        let done = items.iter().map(|item| match claims.get(item.id) {
            None => Done::refused(&StoreError::Ended),
            Some(_) => Done::of(changed.contains(&item.id)),
        });
        Ok(done.collect())
    }

    /// Does something to one domain. What cannot be done is undone by itself, and said on
    /// its line.
    async fn one(
        &self,
        tx: &mut PgConnection,
        job_id: Uuid,
        each: Each<'_>,
        item: &Item,
        fresh: &(dyn Fn() -> FreshToken + Sync),
    ) -> Result<Done, StoreError> {
        let mut inner = tx.begin().await?;
        match self.do_to(&mut inner, job_id, each, item, fresh).await {
            Ok(is_changed) => {
                inner.commit().await?;
                Ok(Done::of(is_changed))
            }
            Err(error) if error.is_passing() => Err(error),
            Err(error) => {
                inner.rollback().await?;
                Ok(Done::refused(&error))
            }
        }
    }

    /// `false` if nothing is different for it.
    async fn do_to(
        &self,
        tx: &mut PgConnection,
        job_id: Uuid,
        each: Each<'_>,
        item: &Item,
        fresh: &(dyn Fn() -> FreshToken + Sync),
    ) -> Result<bool, StoreError> {
        let now = Utc::now();
        let id = item.id;
        let whichever = Expected::default();
        match each {
            Each::Release => self.release_in(tx, id, whichever, now).await.map(|()| true),
            Each::Move { site } => {
                if shows(tx, id, site).await? {
                    return Ok(false);
                }
                let change = Move { site: Some(site), ..Move::default() };
                moves::move_domain(tx, id, &change, whichever, now).await.map(|_| true)
            }
            Each::Rotate => {
                if has_new_token(tx, job_id, id).await? {
                    return Ok(false);
                }
                let (token, expires_at) = fresh();
                tokens::rotate(tx, id, &token, expires_at, whichever).await?;
                note(tx, job_id, item).await?;
                Ok(true)
            }
        }
    }
}

/// Makes domains due for a look, in the lane of bulk work.
async fn look(tx: &mut PgConnection, items: &[Item]) -> Result<Vec<Done>, StoreError> {
    let ids: Vec<_> = items.iter().map(|item| item.id).collect();
    let at_work = sqlx::query_scalar!("SELECT id FROM domains WHERE id = ANY($1) AND is_at_work", &ids)
        .fetch_all(&mut *tx)
        .await?;
    tasks::wake_in(tx, &ids, TaskKind::Look, Utc::now(), Lane::Bulk).await?;

    let done = ids.iter().map(|id| match at_work.contains(id) {
        true => Done::of(true),
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

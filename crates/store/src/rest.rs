//! Rest: a domain is paused, or an account suspended, and resumed.

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::judge::gate::Stage;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::lanes::Lane;
use crate::locks::{self, Locked, Told};
use crate::tasks::{self, TaskKind};
use crate::version::Expected;

impl Store {
    /// Leaves a domain alone: nothing is looked at or ordered, but its token while somebody else claims
    /// the name. What is served stays.
    /// `false` if it was paused already.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Changed`].
    pub async fn pause(&self, id: Uuid, expected: Expected) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let claims = locks::lock(&mut tx, &[id]).await?;
        let paused = pause(&mut tx, &[claims.expect(id, expected)?], Utc::now()).await?;
        self.commit_work(tx).await?;
        Ok(!paused.is_empty())
    }

    /// Goes on with a domain that was paused; `false` if it was not.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Changed`].
    pub async fn resume(&self, id: Uuid, expected: Expected) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let claims = locks::lock(&mut tx, &[id]).await?;
        let resumed = resume(&mut tx, &[claims.expect(id, expected)?], Utc::now()).await?;
        self.commit_work(tx).await?;
        Ok(!resumed.is_empty())
    }

    /// Withdraws the routes of an account, and looks at nothing of it; nothing is
    /// lost. `false` if it was suspended already.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown account; [`StoreError::Changed`].
    pub async fn suspend(&self, account: &str, expected: Expected) -> Result<bool, StoreError> {
        let now = Utc::now();
        let mut tx = self.begin().await?;
        let Some(id) = self.set_suspended(&mut tx, account, Some(now), expected).await? else {
            return Ok(false);
        };

        let claims = locks::lock_account(&mut tx, id).await?.0;
        let ids: Vec<_> = claims.iter().map(|claim| claim.id).collect();
        sqlx::query!("UPDATE domains SET is_at_work = false WHERE id = ANY($1)", &ids)
            .execute(&mut *tx)
            .await?;
        leave_alone(&mut tx, &ids, now).await?;
        tell_all(&mut tx, id, &claims, &Event::Suspended {}, now).await?;
        self.commit_work(tx).await?;
        Ok(true)
    }

    /// Gives a suspended account its routes back; `false` if it was not suspended.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown account; [`StoreError::Changed`].
    pub async fn unsuspend(&self, account: &str, expected: Expected) -> Result<bool, StoreError> {
        let now = Utc::now();
        let mut tx = self.begin().await?;
        let Some(id) = self.set_suspended(&mut tx, account, None, expected).await? else { return Ok(false) };

        let claims = locks::lock_account(&mut tx, id).await?.0;
        let ids: Vec<_> = claims.iter().map(|claim| claim.id).collect();
        sqlx::query!("UPDATE domains SET is_at_work = paused_at IS NULL WHERE id = ANY($1)", &ids)
            .execute(&mut *tx)
            .await?;
        go_on(&mut tx, &ids, now).await?;
        tell_all(&mut tx, id, &claims, &Event::Unsuspended {}, now).await?;
        self.commit_work(tx).await?;
        Ok(true)
    }

    /// Locks the account; `None` where it stands so already.
    async fn set_suspended(
        &self,
        tx: &mut PgConnection,
        account: &str,
        at: Option<DateTime<Utc>>,
        expected: Expected,
    ) -> Result<Option<Uuid>, StoreError> {
        let row = sqlx::query!(
            "SELECT id, version, suspended_at FROM accounts WHERE name = $1 FOR NO KEY UPDATE",
            account
        )
        .fetch_optional(&mut *tx)
        .await?
        .ok_or_else(|| StoreError::missing("account", account))?;
        expected.meets(row.id, row.version)?;
        if row.suspended_at.is_some() == at.is_some() {
            return Ok(None);
        }

        sqlx::query!("UPDATE accounts SET suspended_at = $2 WHERE id = $1", row.id, at)
            .execute(&mut *tx)
            .await?;
        Ok(Some(row.id))
    }
}

/// Pauses some locked domains; returns those that were not paused already.
pub(crate) async fn pause(
    tx: &mut PgConnection,
    claims: &[&Locked],
    now: DateTime<Utc>,
) -> Result<Vec<Uuid>, StoreError> {
    let paused = sqlx::query_scalar!(
        "UPDATE domains SET paused_at = $2, is_at_work = false, stage = $3
         WHERE id = ANY($1) AND paused_at IS NULL RETURNING id",
        &keys(claims),
        now,
        Stage::Paused.as_str()
    )
    .fetch_all(&mut *tx)
    .await?;
    leave_alone(tx, &paused, now).await?;
    tell_of(tx, claims, &paused, &Event::Paused {}, now).await?;
    Ok(paused)
}

/// Goes on with some locked domains; returns those that were paused.
pub(crate) async fn resume(
    tx: &mut PgConnection,
    claims: &[&Locked],
    now: DateTime<Utc>,
) -> Result<Vec<Uuid>, StoreError> {
    let stages: Vec<_> = claims.iter().map(|claim| claim.gates.stage().as_str().to_owned()).collect();
    let resumed = sqlx::query_scalar!(
        "UPDATE domains d SET paused_at = NULL, is_at_work = a.suspended_at IS NULL, stage = n.stage
         FROM accounts a, unnest($1::uuid[], $2::text[]) AS n (id, stage)
         WHERE d.id = n.id AND d.paused_at IS NOT NULL AND a.id = d.account_id RETURNING d.id",
        &keys(claims),
        &stages
    )
    .fetch_all(&mut *tx)
    .await?;

    go_on(tx, &resumed, now).await?;
    tell_of(tx, claims, &resumed, &Event::Resumed {}, now).await?;
    Ok(resumed)
}

/// Ends all work on some domains, but for the question whether they may keep their names.
async fn leave_alone(tx: &mut PgConnection, ids: &[Uuid], now: DateTime<Utc>) -> Result<(), StoreError> {
    sqlx::query!("DELETE FROM tasks WHERE domain_id = ANY($1)", ids).execute(&mut *tx).await?;
    tasks::wake_in(tx, ids, TaskKind::Look, now, Lane::Usual).await?;
    Ok(())
}

fn keys(claims: &[&Locked]) -> Vec<Uuid> {
    claims.iter().map(|claim| claim.id).collect()
}

/// Takes up the work of some domains again: a look, and the order that was on its way.
async fn go_on(tx: &mut PgConnection, ids: &[Uuid], now: DateTime<Utc>) -> Result<(), StoreError> {
    tasks::wake_in(tx, ids, TaskKind::Look, now, Lane::Usual).await?;
    let ordered =
        sqlx::query_scalar!("SELECT domain_id FROM orders WHERE domain_id = ANY($1) AND state = 'open'", ids)
            .fetch_all(&mut *tx)
            .await?;
    tasks::wake_in(tx, &ordered, TaskKind::Order, now, Lane::Usual).await?;
    Ok(())
}

/// Tells the same of those claims that something happened to.
async fn tell_of(
    tx: &mut PgConnection,
    claims: &[&Locked],
    ids: &[Uuid],
    event: &Event,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let mut told = Told::default();
    for claim in claims.iter().filter(|claim| ids.contains(&claim.id)) {
        told.event(claim, event.clone());
    }
    told.write(tx, now).await
}

/// Tells the same of every domain of an account; the edge hears of its sites too.
async fn tell_all(
    tx: &mut PgConnection,
    account_id: Uuid,
    claims: &[Locked],
    event: &Event,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let mut told = Told::default();
    for claim in claims {
        told.event(claim, event.clone());
        told.touch(&claim.host);
    }

    let hosts = sqlx::query_scalar!(
        r#"SELECT default_host AS "host!" FROM sites WHERE account_id = $1
           UNION ALL SELECT f.host FROM former_hosts f JOIN sites s ON s.id = f.site_id WHERE s.account_id = $1"#,
        account_id
    );
    for host in hosts.fetch_all(&mut *tx).await? {
        told.touch(&host);
    }
    told.write(tx, now).await
}

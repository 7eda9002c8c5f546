//! Rest: a domain is paused, or an account suspended, and resumed.

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::judge::gate::Stage;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::locks::{self, Locked, Told};
use crate::tasks::{self, TaskKind};
use crate::version::Expected;

impl Store {
    /// Leaves a domain alone: nothing is looked at or ordered. What is served stays.
    /// `false` if it was paused already.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Changed`].
    pub async fn pause(&self, id: Uuid, expected: Expected) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let is_new = pause(&mut tx, id, expected, Utc::now()).await?;
        self.commit_work(tx).await?;
        Ok(is_new)
    }

    /// Goes on with a domain that was paused; `false` if it was not.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Changed`].
    pub async fn resume(&self, id: Uuid, expected: Expected) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let is_new = resume(&mut tx, id, expected, Utc::now()).await?;
        self.commit_work(tx).await?;
        Ok(is_new)
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
        sqlx::query!("DELETE FROM tasks WHERE domain_id = ANY($1)", &ids).execute(&mut *tx).await?;
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
        for claim in &claims {
            go_on(&mut tx, claim, now).await?;
        }
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

/// Pauses a domain; `false` if it was paused already.
pub(crate) async fn pause(
    tx: &mut PgConnection,
    id: Uuid,
    expected: Expected,
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let claims = locks::lock(tx, &[id]).await?;
    let claim = claims.expect(id, expected)?;

    let done = sqlx::query!(
        "UPDATE domains SET paused_at = $2, is_at_work = false, stage = $3 WHERE id = $1 AND paused_at IS NULL",
        id,
        now,
        Stage::Paused.as_str()
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() == 0 {
        return Ok(false);
    }

    sqlx::query!("DELETE FROM tasks WHERE domain_id = $1", id).execute(&mut *tx).await?;
    let mut told = Told::default();
    told.event(claim, Event::Paused {});
    told.write(tx, now).await?;
    Ok(true)
}

/// Goes on with a paused domain; `false` if it was not paused.
pub(crate) async fn resume(
    tx: &mut PgConnection,
    id: Uuid,
    expected: Expected,
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let claims = locks::lock(tx, &[id]).await?;
    let claim = claims.expect(id, expected)?;

    let done = sqlx::query!(
        "UPDATE domains d SET paused_at = NULL, is_at_work = a.suspended_at IS NULL, stage = $2
         FROM accounts a WHERE d.id = $1 AND d.paused_at IS NOT NULL AND a.id = d.account_id",
        id,
        claim.gates.stage().as_str()
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() == 0 {
        return Ok(false);
    }
    go_on(tx, claim, now).await?;

    let mut told = Told::default();
    told.event(claim, Event::Resumed {});
    told.write(tx, now).await?;
    Ok(true)
}

/// Takes up a domain's work again: a look, and the order that was on its way.
async fn go_on(tx: &mut PgConnection, claim: &Locked, now: DateTime<Utc>) -> Result<(), StoreError> {
    tasks::wake(tx, claim.id, TaskKind::Look, now).await?;
    let is_ordered = sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT FROM orders WHERE domain_id = $1 AND state = 'open') AS "is!""#,
        claim.id
    );
    if is_ordered.fetch_one(&mut *tx).await? {
        tasks::wake(tx, claim.id, TaskKind::Order, now).await?;
    }
    Ok(())
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

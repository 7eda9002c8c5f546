//! Leaving the platform, by request or when time is up, and giving certificates up.

use chrono::{DateTime, Utc};
use nomenta_core::judge::certificate::RevocationReason;
use nomenta_core::judge::standing::Ending;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Store;
use crate::StoreError;
use crate::claims;
use crate::ending;
use crate::locks::{self, Locked, Told};
use crate::tasks::{self, TaskKind};
use crate::version::Expected;

impl Store {
    /// Gives up every certificate that covers a domain and was ordered for it,
    /// and asks for its revocation; returns how many. The domain is looked at
    /// again, so that a new one is ordered.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Changed`]; [`StoreError::Database`]; nothing is
    /// given up then.
    pub async fn revoke(
        &self,
        domain: &DomainRecord,
        reason: RevocationReason,
        expected: Expected,
    ) -> Result<usize, StoreError> {
        let now = Utc::now();
        let mut tx = self.begin().await?;
        let claims = locks::lock(&mut tx, &[domain.id]).await?;
        claims.expect(domain.id, expected)?;

        let revoked = ending::give_up(&mut tx, domain.id, reason, now).await?;
        tasks::wake(&mut tx, domain.id, TaskKind::Look, now).await?;
        self.commit_work(tx).await?;

        Ok(revoked)
    }

    /// Lets a domain leave the platform: no more looks, no route, its certificates
    /// revoked; one that another domain shares goes on being served for that until
    /// it has one of its own.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Changed`]; [`StoreError::Database`]; the domain
    /// stays as it is then.
    pub async fn release(&self, id: Uuid, expected: Expected) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        self.release_in(&mut tx, id, expected, Utc::now()).await?;
        self.commit_work(tx).await?;
        Ok(())
    }

    pub(crate) async fn release_in(
        &self,
        tx: &mut PgConnection,
        id: Uuid,
        expected: Expected,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let claims = locks::lock(tx, &[id]).await?;
        self.leave(tx, claims.expect(id, expected)?, Ending::Released, now).await
    }

    /// Ends a claim that is locked, and settles what that means for the others of its
    /// name.
    async fn leave(
        &self,
        tx: &mut PgConnection,
        claim: &Locked,
        ending: Ending,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let mut told = Told::default();
        ending::end(tx, claim.id, ending, &mut told, now).await?;
        claims::settle(tx, self, &claim.host, &mut told, now).await?;
        told.write(tx, now).await
    }

    /// Gives up claims that were never proved, once their token and the patience
    /// with them have run out; returns how many.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn expire_claims(&self, now: DateTime<Utc>, most: i64) -> Result<usize, StoreError> {
        let due = sqlx::query_scalar!(
            // A proof that was lost is waited for as long as one that never came.
            "SELECT id FROM domains
             WHERE ended_at IS NULL AND held_since IS NULL AND token_expires_at < $1
               AND ownership IN ('waiting', 'blocked') AND (gates->0->>'since')::timestamptz < $1
             ORDER BY token_expires_at LIMIT $2",
            now - self.rules.patience,
            most
        )
        .fetch_all(&self.pool)
        .await?;

        let mut expired = 0;
        for id in due {
            expired += usize::from(self.expire(id, now).await?);
        }
        Ok(expired)
    }

    /// Forgets claims that ended longer ago than they are kept, with their history;
    /// returns how many.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn forget_ended(&self, now: DateTime<Utc>, most: i64) -> Result<usize, StoreError> {
        let mut tx = self.begin().await?;
        let ids = sqlx::query_scalar!(
            "SELECT id FROM domains WHERE ended_at < $1 ORDER BY ended_at LIMIT $2 FOR UPDATE SKIP LOCKED",
            now - self.rules.kept,
            most
        )
        .fetch_all(&mut *tx)
        .await?;

        sqlx::query!("DELETE FROM events WHERE domain_id = ANY($1)", &ids).execute(&mut *tx).await?;
        sqlx::query!("DELETE FROM domains WHERE id = ANY($1)", &ids).execute(&mut *tx).await?;
        self.commit_work(tx).await?;
        Ok(ids.len())
    }

    /// Gives one of them up; `false` if something has come in between.
    async fn expire(&self, id: Uuid, now: DateTime<Utc>) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let claims = locks::lock(&mut tx, &[id]).await?;
        let Some(claim) = claims.get(id) else { return Ok(false) };

        let is_due = sqlx::query_scalar!(
            r#"SELECT token_expires_at < $2 AND (gates->0->>'since')::timestamptz < $2
                   AND held_since IS NULL AND ownership IN ('waiting', 'blocked') AS "due!"
               FROM domains WHERE id = $1"#,
            id,
            now - self.rules.patience
        );
        if !is_due.fetch_one(&mut *tx).await? {
            return Ok(false);
        }

        self.leave(&mut tx, claim, Ending::Expired, now).await?;
        self.commit_work(tx).await?;
        Ok(true)
    }
}

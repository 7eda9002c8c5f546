//! Orders that the CA has and that nobody works on any more, since their domain has left. A process
//! may have been about to bring one to its end, or have died right after it: the certificate that
//! comes of it is in nobody's records, so it is revoked.

use chrono::{DateTime, Duration, Utc};
use nomenta_core::judge::certificate::{CertificateFacts, RevocationReason};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;

/// While one process follows an order, no other does.
const TERM: Duration = Duration::seconds(60);
/// Time between two looks at one that has not ended.
const AGAIN: Duration = Duration::minutes(2);
/// How long one is followed: nobody who was at work on it is by then.
const FOLLOWED: Duration = Duration::hours(1);

/// An order that is followed.
#[derive(Clone, Debug)]
pub struct Stray {
    /// Where the CA keeps it.
    pub url: String,
    /// The domain that placed it.
    pub domain_id: Uuid,
    /// That domain's name.
    pub host: String,
}

impl Store {
    /// Takes orders that are to be looked at now.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn lease_strays(&self, now: DateTime<Utc>, most: i64) -> Result<Vec<Stray>, StoreError> {
        let leased = sqlx::query_as!(
            Stray,
            "UPDATE strays SET try_at = $2 WHERE url IN (
                 SELECT url FROM strays WHERE try_at <= $1 ORDER BY try_at LIMIT $3 FOR UPDATE SKIP LOCKED)
             RETURNING url, domain_id, host",
            now,
            now + TERM,
            most
        );
        Ok(leased.fetch_all(&self.pool).await?)
    }

    /// When the next one is to be looked at; `None` if there is none.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn next_stray(&self) -> Result<Option<DateTime<Utc>>, StoreError> {
        Ok(sqlx::query_scalar!("SELECT min(try_at) FROM strays").fetch_one(&self.pool).await?)
    }

    /// Has the certificate that came of one revoked, and follows it no longer.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn revoke_stray(
        &self,
        stray: &Stray,
        facts: &CertificateFacts,
        chain_pem: &str,
    ) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        let followed = sqlx::query!("DELETE FROM strays WHERE url = $1", stray.url);
        let is_ours = followed.execute(&mut *tx).await?.rows_affected() > 0;

        if is_ours {
            sqlx::query!(
                "INSERT INTO revocations
                 (certificate_id, domain_id, host, serial, chain_pem, reason, asked_at, try_at)
                 VALUES ($1, $2, $3, $4, $5, $6, now(), now())",
                Uuid::now_v7(),
                stray.domain_id,
                stray.host,
                facts.serial,
                chain_pem,
                RevocationReason::CessationOfOperation.as_str()
            )
            .execute(&mut *tx)
            .await?;
        }

        self.commit_work(tx).await?;
        Ok(())
    }

    /// Looks at one again later, or, if it has been followed long enough or `has_ended`, never.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn leave_stray(
        &self,
        stray: &Stray,
        has_ended: bool,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        sqlx::query!("UPDATE strays SET try_at = $2 WHERE url = $1", stray.url, now + AGAIN)
            .execute(&mut *tx)
            .await?;
        sqlx::query!("DELETE FROM strays WHERE url = $1 AND ($2 OR until < $3)", stray.url, has_ended, now)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(())
    }
}

/// Follows an order from now on.
pub(crate) async fn follow(
    tx: &mut PgConnection,
    url: &str,
    domain_id: Uuid,
    host: &str,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO strays (url, domain_id, host, try_at, until) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING",
        url,
        domain_id,
        host,
        now + Duration::seconds(5),
        now + FOLLOWED
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

//! The account at the CA, and how much of it may be used.

use chrono::{DateTime, Duration, Utc};

use crate::Store;
use crate::StoreError;
use crate::change::Change;

/// Over how long the budget of a registered domain counts.
pub(crate) const DOMAIN_WINDOW: Duration = Duration::days(7);
/// Over how long the budget of the account at the CA counts.
pub(crate) const ACCOUNT_WINDOW: Duration = Duration::hours(3);

/// Budgets of orders.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Most in a week for one registered domain.
    pub per_domain: u32,
    /// Most in three hours with the account at the CA.
    pub per_account: u32,
    /// Most of these for the domains of one account of the platform.
    pub per_customer: u32,
}

/// A change of the account at the CA; given up where it is let go of.
pub struct AccountChangeAtCa {
    tx: Change,
    directory: String,
}

impl AccountChangeAtCa {
    /// Keeps other credentials.
    ///
    /// # Errors
    /// [`StoreError::Database`]: the CA knows the new ones alone by now.
    pub async fn keep(mut self, sealed: &[u8]) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE acme_accounts SET sealed = $2, key_since = now() WHERE directory = $1",
            self.directory,
            sealed
        )
        .execute(&mut *self.tx)
        .await?;
        self.tx.commit().await
    }
}

impl Store {
    /// The CA account's credentials, sealed.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn acme_account(&self, directory: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let row = sqlx::query_scalar!("SELECT sealed FROM acme_accounts WHERE directory = $1", directory);
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Since when the CA's account has its key.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn acme_key_since(&self, directory: &str) -> Result<Option<DateTime<Utc>>, StoreError> {
        let row = sqlx::query_scalar!("SELECT key_since FROM acme_accounts WHERE directory = $1", directory);
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Keeps the CA account's credentials; if another process was first, its
    /// are kept and returned.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn keep_acme_account(&self, directory: &str, sealed: &[u8]) -> Result<Vec<u8>, StoreError> {
        let kept = sqlx::query_scalar!(
            "INSERT INTO acme_accounts (directory, sealed) VALUES ($1, $2)
             ON CONFLICT (directory) DO UPDATE SET directory = $1 RETURNING sealed",
            directory,
            sealed
        );
        Ok(kept.fetch_one(&self.pool).await?)
    }

    /// Forgets credentials that the CA no longer knows, if they are the ones that are kept:
    /// another process may have replaced them.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn drop_acme_account(&self, directory: &str, sealed: &[u8]) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM acme_accounts WHERE directory = $1 AND sealed = $2", directory, sealed)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Keeps everybody else from changing the account until the change is made or given up;
    /// `sealed` is what is kept of it now.
    ///
    /// # Errors
    /// [`StoreError::Changed`] if something else is kept by now.
    pub async fn change_acme_account(
        &self,
        directory: &str,
        sealed: &[u8],
    ) -> Result<AccountChangeAtCa, StoreError> {
        let mut tx = self.begin().await?;
        let kept = sqlx::query_scalar!(
            "SELECT directory FROM acme_accounts WHERE directory = $1 AND sealed = $2 FOR UPDATE",
            directory,
            sealed
        );
        let directory = kept.fetch_optional(&mut *tx).await?.ok_or(StoreError::Changed)?;
        Ok(AccountChangeAtCa { tx, directory })
    }

    /// Notes that the CA does not want to be asked for certificates until then.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn throttle(&self, directory: &str, until: DateTime<Utc>) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE acme_accounts SET throttled_until = greatest(throttled_until, $2) WHERE directory = $1",
            directory,
            until
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}

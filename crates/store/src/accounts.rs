//! Accounts and their sites.

use chrono::{DateTime, Utc};
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::edge;

/// A customer of the platform.
#[derive(Clone, Debug)]
pub struct AccountRow {
    /// Short name, unique.
    pub name: String,
    /// Name for people.
    pub title: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Domains taken in for it.
    pub domains: i64,
}

/// What a domain will show.
#[derive(Clone, Debug)]
pub struct SiteRow {
    /// Short name, unique.
    pub name: String,
    /// Account it belongs to.
    pub account: String,
    /// Ingress that its traffic lands on.
    pub ingress: String,
    /// Host under the platform's own zone.
    pub default_host: String,
    /// Where visitors enter.
    pub entry_path: String,
    /// What they get when something is missing.
    pub error_path: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
}

/// A site to add.
#[derive(Clone, Copy, Debug)]
pub struct NewSite<'a> {
    /// Account it belongs to.
    pub account: &'a str,
    /// Short name.
    pub name: &'a str,
    /// Ingress that its traffic lands on.
    pub ingress: &'a str,
    /// Host under the platform's own zone.
    pub default_host: &'a str,
    /// Where visitors enter.
    pub entry_path: &'a str,
    /// What they get when something is missing.
    pub error_path: &'a str,
}

impl Store {
    /// Adds an account.
    ///
    /// # Errors
    /// [`StoreError::Taken`] if the name is in use.
    pub async fn add_account(&self, name: &str, title: &str) -> Result<(), StoreError> {
        let id = Uuid::now_v7();
        sqlx::query!("INSERT INTO accounts (id, name, title) VALUES ($1, $2, $3)", id, name, title)
            .execute(&self.pool)
            .await
            .map_err(|e| StoreError::or_taken(e, "an account", name))?;

        Ok(())
    }

    /// All accounts by name.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn accounts(&self) -> Result<Vec<AccountRow>, StoreError> {
        let rows = sqlx::query_as!(
            AccountRow,
            r#"SELECT a.name, a.title, a.created_at, count(d.id) AS "domains!"
               FROM accounts a
               LEFT JOIN sites s ON s.account_id = a.id
               LEFT JOIN domains d ON d.site_id = s.id
               GROUP BY a.id ORDER BY a.name"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Adds a site to an account.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown account or ingress,
    /// [`StoreError::Taken`] if the name is in use.
    pub async fn add_site(&self, new: &NewSite<'_>) -> Result<(), StoreError> {
        let NewSite { account, name, ingress, default_host, entry_path, error_path } = *new;
        let account_id = sqlx::query_scalar!("SELECT id FROM accounts WHERE name = $1", account)
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| StoreError::missing("account", account))?;

        let ingress_id = sqlx::query_scalar!("SELECT id FROM ingresses WHERE name = $1", ingress)
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| StoreError::missing("ingress", ingress))?;

        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "INSERT INTO sites (id, account_id, ingress_id, name, default_host, entry_path, error_path)
             VALUES ($1, $2, $3, $4, $5, $6, $7)",
            Uuid::now_v7(),
            account_id,
            ingress_id,
            name,
            default_host,
            entry_path,
            error_path
        )
        .execute(&mut *tx)
        .await
        .map_err(|e| StoreError::or_taken(e, "a site", name))?;

        edge::touch(&mut tx, &[default_host]).await?;
        tx.commit().await?;
        Ok(())
    }

    /// All sites by name.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn sites(&self) -> Result<Vec<SiteRow>, StoreError> {
        let rows = sqlx::query_as!(
            SiteRow,
            "SELECT s.name, a.name AS account, i.name AS ingress, s.default_host, s.entry_path, s.error_path,
                    s.created_at
             FROM sites s
             JOIN accounts a ON a.id = s.account_id
             JOIN ingresses i ON i.id = s.ingress_id
             ORDER BY s.name"
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}

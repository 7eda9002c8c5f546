//! What registries say of registered domains.

use chrono::{DateTime, Utc};
use nomenta_core::reading::registration::Registration;
use serde_json::json;

use crate::Store;
use crate::StoreError;
use crate::error::read_if;

/// What is known of a registered domain.
#[derive(Clone, Debug)]
pub struct RegistrationRow {
    /// What its registry said the last time that it said anything.
    pub told: Option<Registration>,
    /// When it was asked last.
    pub asked_at: DateTime<Utc>,
}

impl Store {
    /// What is known of a registered domain, if its registry was ever asked.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn registration(&self, domain: &str) -> Result<Option<RegistrationRow>, StoreError> {
        let row = sqlx::query!("SELECT told, asked_at FROM registrations WHERE domain = $1", domain);
        let Some(row) = row.fetch_optional(&self.pool).await? else { return Ok(None) };
        Ok(Some(RegistrationRow { told: read_if("registration", row.told)?, asked_at: row.asked_at }))
    }

    /// Writes down that a registry was asked, and what it said; without an answer what it said
    /// before stays.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn keep_registration(
        &self,
        domain: &str,
        told: Option<&Registration>,
    ) -> Result<(), StoreError> {
        sqlx::query!(
            "INSERT INTO registrations (domain, told, asked_at) VALUES ($1, $2, now())
             ON CONFLICT (domain) DO UPDATE SET told = coalesce(excluded.told, registrations.told), asked_at = now()",
            domain,
            told.map(|told| json!(told))
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}

//! Access keys, by the hash of their secret.

use chrono::{DateTime, Utc};
use nomenta_api::role::Role;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;

/// A key as its row has it.
struct KeyColumns {
    id: Uuid,
    name: String,
    role: String,
    hint: String,
    created_at: DateTime<Utc>,
    used_at: Option<DateTime<Utc>>,
    revoked_at: Option<DateTime<Utc>>,
}

impl KeyColumns {
    fn read(self) -> Result<KeyRow, StoreError> {
        Ok(KeyRow {
            id: self.id,
            name: self.name,
            role: word("role", &self.role)?,
            hint: self.hint,
            created_at: self.created_at,
            used_at: self.used_at,
            revoked_at: self.revoked_at,
        })
    }
}

/// An access key, without its secret.
#[derive(Clone, Debug)]
pub struct KeyRow {
    /// Identifies the key in listings.
    pub id: Uuid,
    /// What it is for.
    pub name: String,
    /// What it opens.
    pub role: Role,
    /// Last four characters of the secret.
    pub hint: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Last use, to the minute.
    pub used_at: Option<DateTime<Utc>>,
    /// Since when it opens nothing.
    pub revoked_at: Option<DateTime<Utc>>,
}

impl Store {
    /// Keeps a new key; a known hash is left as it is.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn add_key(&self, name: &str, role: Role, hash: &[u8], hint: &str) -> Result<Uuid, StoreError> {
        let id = sqlx::query_scalar!(
            "INSERT INTO access_keys (id, name, role, hash, hint) VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT (hash) DO UPDATE SET name = $2 RETURNING id",
            Uuid::now_v7(),
            name,
            role.as_str(),
            hash,
            hint
        )
        .fetch_one(&self.pool)
        .await?;
        Ok(id)
    }

    /// The key with this hash, unless it is revoked; notes its use.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn key_by_hash(&self, hash: &[u8]) -> Result<Option<KeyRow>, StoreError> {
        let key = sqlx::query_as!(
            KeyColumns,
            "SELECT id, name, role, hint, created_at, used_at, revoked_at FROM access_keys
             WHERE hash = $1 AND revoked_at IS NULL",
            hash
        )
        .fetch_optional(&self.pool)
        .await?;

        if let Some(key) = &key {
            sqlx::query!(
                "UPDATE access_keys SET used_at = now()
                 WHERE id = $1 AND (used_at IS NULL OR used_at < now() - interval '1 minute')",
                key.id
            )
            .execute(&self.pool)
            .await?;
        }

        key.map(KeyColumns::read).transpose()
    }

    /// The key with this id, unless it is revoked.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn key(&self, id: Uuid) -> Result<Option<KeyRow>, StoreError> {
        let key = sqlx::query_as!(
            KeyColumns,
            "SELECT id, name, role, hint, created_at, used_at, revoked_at FROM access_keys
             WHERE id = $1 AND revoked_at IS NULL",
            id
        );
        key.fetch_optional(&self.pool).await?.map(KeyColumns::read).transpose()
    }

    /// All keys, newest first.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn keys(&self) -> Result<Vec<KeyRow>, StoreError> {
        let rows = sqlx::query_as!(
            KeyColumns,
            "SELECT id, name, role, hint, created_at, used_at, revoked_at FROM access_keys ORDER BY id DESC"
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(KeyColumns::read).collect()
    }

    /// Makes a key open nothing from now on.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is no such key.
    pub async fn revoke_key(&self, id: Uuid) -> Result<(), StoreError> {
        let done =
            sqlx::query!("UPDATE access_keys SET revoked_at = coalesce(revoked_at, now()) WHERE id = $1", id)
                .execute(&self.pool)
                .await?;

        match done.rows_affected() {
            0 => Err(StoreError::missing("key", &id.to_string())),
            _ => Ok(()),
        }
    }
}

//! Access keys, by the hash of their secret.

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_api::role::Role;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::channel::call_doors;
use crate::error::word;
use crate::version::Expected;

/// A key as its row has it.
struct KeyColumns {
    id: Uuid,
    name: String,
    role: String,
    account_ids: Option<Vec<Uuid>>,
    accounts: Vec<String>,
    hint: String,
    created_at: DateTime<Utc>,
    used_at: Option<DateTime<Utc>>,
    expires_at: Option<DateTime<Utc>>,
    revoked_at: Option<DateTime<Utc>>,
    version: i64,
}

impl KeyColumns {
    fn read(self) -> Result<KeyRow, StoreError> {
        let accounts = self.account_ids.map(|ids| {
            let accounts = ids.into_iter().zip(self.accounts);
            accounts.map(|(id, name)| KeyAccount { id, name }).collect()
        });
        Ok(KeyRow {
            id: self.id,
            name: self.name,
            role: word("role", &self.role)?,
            accounts,
            hint: self.hint,
            created_at: self.created_at,
            used_at: self.used_at,
            expires_at: self.expires_at,
            revoked_at: self.revoked_at,
            version: self.version,
        })
    }
}

/// An account that a key opens.
#[derive(Clone, Debug)]
pub struct KeyAccount {
    /// Key of its record.
    pub id: Uuid,
    /// Its name.
    pub name: String,
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
    /// The accounts that it opens alone; without them, every one.
    pub accounts: Option<Vec<KeyAccount>>,
    /// Last four characters of the secret.
    pub hint: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Last use, to the minute.
    pub used_at: Option<DateTime<Utc>>,
    /// From when on it opens nothing.
    pub expires_at: Option<DateTime<Utc>>,
    /// Since when it opens nothing.
    pub revoked_at: Option<DateTime<Utc>>,
    /// Which version of it there is.
    pub version: i64,
}

/// A key to be kept, by the hash of its secret.
#[derive(Clone, Copy, Debug)]
pub struct NewKey<'a> {
    /// What it is for.
    pub name: &'a str,
    /// What it opens.
    pub role: Role,
    /// The accounts that it opens alone; every one, if there are none.
    pub accounts: &'a [String],
    /// From when on it opens nothing.
    pub expires_at: Option<DateTime<Utc>>,
    /// Hash of the secret.
    pub hash: &'a [u8],
    /// Last characters of the secret.
    pub hint: &'a str,
}

/// Whether a last use is to be written again: it is kept to the minute, and most calls come
/// sooner after another.
pub(crate) fn is_stale(used_at: Option<DateTime<Utc>>) -> bool {
    used_at.is_none_or(|at| Utc::now() - at > TimeDelta::minutes(1))
}

/// Keys, by what the statement goes along.
macro_rules! keys {
    ($which:literal, $($given:expr),+) => {
        sqlx::query_as!(
            KeyColumns,
            r#"SELECT k.id, k.name, k.role, k.hint, k.created_at, k.used_at, k.expires_at, k.revoked_at, k.version,
                      CASE WHEN k.account_ids IS NOT NULL THEN coalesce(a.ids, '{}') END AS account_ids, coalesce(a.names, '{}') AS "accounts!"
               FROM access_keys k
               LEFT JOIN LATERAL (SELECT array_agg(id ORDER BY name) AS ids, array_agg(name::text ORDER BY name) AS names
                                  FROM accounts WHERE id = ANY(k.account_ids)) a ON true
               WHERE "# + $which,
            $($given),+
        )
    };
}

impl Store {
    /// Keeps a new key; a known hash is left as it is.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown account.
    pub async fn add_key(&self, new: &NewKey<'_>) -> Result<Uuid, StoreError> {
        let mut account_ids = Vec::new();
        for account in new.accounts {
            account_ids.push(self.account(account).await?.id);
        }
        let account_ids = (!account_ids.is_empty()).then_some(account_ids);

        let mut tx = self.begin().await?;
        let id = sqlx::query_scalar!(
            "INSERT INTO access_keys (id, name, role, hash, hint, account_ids, expires_at)
             VALUES ($1, $2, $3, $4, $5, $6, $7)
             ON CONFLICT (hash) DO UPDATE SET name = $2 RETURNING id",
            Uuid::now_v7(),
            new.name,
            new.role.as_str(),
            new.hash,
            new.hint,
            account_ids.as_deref(),
            new.expires_at
        )
        .fetch_one(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(id)
    }

    /// The key with this hash, unless it opens nothing any more; notes its use.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn key_by_hash(&self, hash: &[u8]) -> Result<Option<KeyRow>, StoreError> {
        let key = keys!(
            "k.hash = $1 AND k.revoked_at IS NULL AND (k.expires_at IS NULL OR k.expires_at > now())",
            hash
        );
        let key = key.fetch_optional(&self.pool).await?;

        if let Some(key) = key.as_ref().filter(|key| is_stale(key.used_at)) {
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

    /// The key with this id, unless it opens nothing any more.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn key(&self, id: Uuid) -> Result<Option<KeyRow>, StoreError> {
        let key = keys!(
            "k.id = $1 AND k.revoked_at IS NULL AND (k.expires_at IS NULL OR k.expires_at > now())",
            id
        );
        key.fetch_optional(&self.pool).await?.map(KeyColumns::read).transpose()
    }

    /// Keys, newest first, at most `limit`, those that are older than the one with an id.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn keys(&self, after: Option<Uuid>, limit: i64) -> Result<Vec<KeyRow>, StoreError> {
        let rows = keys!("k.id < $1 ORDER BY k.id DESC LIMIT $2", after.unwrap_or(Uuid::max()), limit);
        rows.fetch_all(&self.pool).await?.into_iter().map(KeyColumns::read).collect()
    }

    /// Makes a key open nothing from now on, nor anything that it has opened.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is no such key.
    pub async fn revoke_key(&self, id: Uuid, expected: Expected) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        let version = sqlx::query_scalar!("SELECT version FROM access_keys WHERE id = $1 FOR UPDATE", id)
            .fetch_optional(&mut *tx)
            .await?
            .ok_or_else(|| StoreError::missing("key", &id.to_string()))?;
        expected.meets(id, version)?;

        sqlx::query!("UPDATE access_keys SET revoked_at = coalesce(revoked_at, now()) WHERE id = $1", id)
            .execute(&mut *tx)
            .await?;
        call_doors(&mut tx).await?;
        tx.commit().await?;
        Ok(())
    }
}

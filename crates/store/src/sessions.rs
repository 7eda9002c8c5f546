//! Sessions of the console: a secret in a cookie, kept here by its hash, that lasts as long
//! as its key, and ends for good when somebody signs out.

use chrono::{DateTime, Utc};
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::channel::call_doors;
use crate::keys::{KeyRow, is_stale};

/// A session to begin.
#[derive(Clone, Copy, Debug)]
pub struct NewSession<'a> {
    /// The key that signs in.
    pub key_id: Uuid,
    /// Hash of what the cookie holds.
    pub hash: &'a [u8],
    /// The address that it came from.
    pub came_from: Option<&'a str>,
    /// When it ends by itself.
    pub expires_at: DateTime<Utc>,
}

/// A session that has not ended.
#[derive(Clone, Debug)]
pub struct SessionRow {
    /// Identifies it.
    pub id: Uuid,
    /// The name of the key that signed in.
    pub key: String,
    /// The address that it came from.
    pub came_from: Option<String>,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Last use, to the minute.
    pub used_at: DateTime<Utc>,
    /// When it ends by itself.
    pub expires_at: DateTime<Utc>,
}

impl Store {
    /// Begins a session; returns what identifies it.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn begin_session(&self, new: &NewSession<'_>) -> Result<Uuid, StoreError> {
        let mut tx = self.begin().await?;
        let id = sqlx::query_scalar!(
            "INSERT INTO sessions (id, key_id, hash, came_from, expires_at) VALUES ($1, $2, $3, $4, $5) RETURNING id",
            Uuid::now_v7(),
            new.key_id,
            new.hash,
            new.came_from,
            new.expires_at
        )
        .fetch_one(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(id)
    }

    /// The session with this hash, with its key, unless either has ended; notes its use.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn session(&self, hash: &[u8]) -> Result<Option<(SessionRow, KeyRow)>, StoreError> {
        let session = sqlx::query!(
            r#"SELECT s.id, s.key_id, k.name AS key, s.came_from, s.created_at, s.used_at, s.expires_at
               FROM sessions s JOIN access_keys k ON k.id = s.key_id
               WHERE s.hash = $1 AND s.ended_at IS NULL AND s.expires_at > now()"#,
            hash
        );
        let Some(session) = session.fetch_optional(&self.pool).await? else { return Ok(None) };
        let Some(key) = self.key(session.key_id).await? else { return Ok(None) };

        if is_stale(Some(session.used_at)) {
            sqlx::query!(
                "UPDATE sessions SET used_at = now() WHERE id = $1 AND used_at < now() - interval '1 minute'",
                session.id
            )
            .execute(&self.pool)
            .await?;
        }

        let session = SessionRow {
            id: session.id,
            key: session.key,
            came_from: session.came_from,
            created_at: session.created_at,
            used_at: session.used_at,
            expires_at: session.expires_at,
        };
        Ok(Some((session, key)))
    }

    /// Sessions that have not ended, newest first, at most `limit`, those that began before
    /// the one with an id.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn sessions(&self, after: Option<Uuid>, limit: i64) -> Result<Vec<SessionRow>, StoreError> {
        let rows = sqlx::query_as!(
            SessionRow,
            "SELECT s.id, k.name AS key, s.came_from, s.created_at, s.used_at, s.expires_at
             FROM sessions s JOIN access_keys k ON k.id = s.key_id
             WHERE s.id < $1 AND s.ended_at IS NULL AND s.expires_at > now() AND k.revoked_at IS NULL
               AND (k.expires_at IS NULL OR k.expires_at > now())
             ORDER BY s.id DESC LIMIT $2",
            after.unwrap_or(Uuid::max()),
            limit
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Ends a session, everywhere at once.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none that has not ended.
    pub async fn end_session(&self, id: Uuid) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        let done =
            sqlx::query!("UPDATE sessions SET ended_at = now() WHERE id = $1 AND ended_at IS NULL", id)
                .execute(&mut *tx)
                .await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::missing("session", &id.to_string()));
        }

        call_doors(&mut tx).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Whether a key opens anything, and the session that it signed in to lasts.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn is_open(&self, key_id: Uuid, session_id: Option<Uuid>) -> Result<bool, StoreError> {
        let is_open = sqlx::query_scalar!(
            r#"SELECT EXISTS (SELECT FROM access_keys WHERE id = $1 AND revoked_at IS NULL
                              AND (expires_at IS NULL OR expires_at > now()))
                  AND ($2::uuid IS NULL OR EXISTS (SELECT FROM sessions WHERE id = $2 AND ended_at IS NULL
                                                   AND expires_at > now())) AS "is!""#,
            key_id,
            session_id
        );
        Ok(is_open.fetch_one(&self.pool).await?)
    }
}

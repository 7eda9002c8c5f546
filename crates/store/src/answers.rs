//! Answers that are kept for whoever repeats a call.

use chrono::{DateTime, Utc};
use uuid::Uuid;

use crate::Store;
use crate::StoreError;

/// A call that carries a key of its own.
#[derive(Clone, Copy, Debug)]
pub struct Kept<'a> {
    /// Whose call.
    pub caller: Uuid,
    /// The key that the caller chose for it.
    pub key: &'a str,
    /// Of all that makes the call what it is.
    pub fingerprint: &'a [u8],
}

/// What is known of a call.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Claimed {
    /// Nothing: it is to be done now.
    New,
    /// It was done, with this answer.
    Done(Vec<u8>),
    /// It was begun at this time, and has no answer yet.
    UnderWay(DateTime<Utc>),
    /// The key was used for another call.
    Another,
}

impl Store {
    /// Claims a call, so that nobody else does it. An attempt that claims it again, since it did
    /// not hear of the first time, has it.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn claim_call(&self, call: Kept<'_>, attempt: Uuid) -> Result<Claimed, StoreError> {
        let claimed = sqlx::query!(
            "INSERT INTO answers (caller, key, fingerprint, attempt) VALUES ($1, $2, $3, $4)
             ON CONFLICT (caller, key) DO UPDATE SET attempt = excluded.attempt
             WHERE answers.attempt = excluded.attempt AND answers.answer IS NULL",
            call.caller,
            call.key,
            call.fingerprint,
            attempt
        )
        .execute(&self.pool)
        .await?;
        if claimed.rows_affected() == 1 {
            return Ok(Claimed::New);
        }

        let row = sqlx::query!(
            "SELECT fingerprint, asked_at, answer FROM answers WHERE caller = $1 AND key = $2",
            call.caller,
            call.key
        );
        Ok(match row.fetch_optional(&self.pool).await? {
            // Given up in between.
            None => Claimed::UnderWay(Utc::now()),
            Some(row) if row.fingerprint != call.fingerprint => Claimed::Another,
            Some(row) => row.answer.map_or(Claimed::UnderWay(row.asked_at), Claimed::Done),
        })
    }

    /// Keeps the answer to a claimed call.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn keep_answer(&self, call: Kept<'_>, answer: &[u8]) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE answers SET answer = $3 WHERE caller = $1 AND key = $2",
            call.caller,
            call.key,
            answer
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Gives a claimed call up that came to nothing: it may be tried again.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn give_up_call(&self, call: Kept<'_>) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM answers WHERE caller = $1 AND key = $2", call.caller, call.key)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

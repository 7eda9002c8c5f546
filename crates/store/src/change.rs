//! Transactions that change something for somebody: what came of one is known, and when the
//! connection breaks just as it is committed.

use std::ops::{Deref, DerefMut};
use std::time::{Duration, Instant};

use sqlx::{PgConnection, PgPool, Postgres, Transaction};
use tokio::time::sleep;

use crate::Store;
use crate::StoreError;

/// How long it is asked what came of a transaction, while the database is away.
const ASKED_FOR: Duration = Duration::from_secs(60);
/// Between two such questions.
const PAUSE: Duration = Duration::from_millis(500);

/// A transaction; undone if it is let go of.
pub(crate) struct Change {
    tx: Transaction<'static, Postgres>,
    /// What it is asked for with when the answer to its end is lost; none where whoever made it does
    /// the same again anyway, and nothing twice.
    number: Option<String>,
    pool: PgPool,
}

impl Store {
    /// Begins a transaction, under whoever it is for.
    pub(crate) async fn begin(&self) -> Result<Change, StoreError> {
        let mut tx = self.pool.begin().await?;
        let number = match &self.actor {
            Some(actor) => Some(self.name_actor(&mut tx, Some(actor)).await?),
            None => None,
        };
        Ok(Change { tx, number, pool: self.pool.clone() })
    }
}

impl Change {
    /// Commits it.
    ///
    /// # Errors
    /// [`StoreError::Database`]; nothing was changed then, unless the database was away for so long
    /// that nobody could tell.
    pub(crate) async fn commit(self) -> Result<(), StoreError> {
        let Err(error) = self.tx.commit().await.map_err(StoreError::from) else { return Ok(()) };
        match self.number {
            Some(number) if error.is_away() => came_to(&self.pool, &number, error).await,
            _ => Err(error),
        }
    }
}

/// What a transaction came to whose end was not heard of.
async fn came_to(pool: &PgPool, number: &str, error: StoreError) -> Result<(), StoreError> {
    let until = Instant::now() + ASKED_FOR;
    while Instant::now() < until {
        let status = sqlx::query_scalar!("SELECT pg_xact_status($1::text::xid8)", number);
        match status.fetch_one(pool).await.map_err(StoreError::from) {
            Ok(Some(status)) if status == "committed" => return Ok(()),
            // Another process of the server may still be at it.
            Ok(Some(status)) if status == "in progress" => {}
            Ok(_) => return Err(error),
            Err(again) if again.is_passing() => {}
            Err(again) => return Err(again),
        }
        sleep(PAUSE).await;
    }
    Err(error)
}

impl Deref for Change {
    type Target = PgConnection;

    fn deref(&self) -> &PgConnection {
        &self.tx
    }
}

impl DerefMut for Change {
    fn deref_mut(&mut self) -> &mut PgConnection {
        &mut self.tx
    }
}

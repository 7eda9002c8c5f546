//! Bringing the schema up to date: one process at a time, beside others that are at work.

use std::time::Duration;

use sqlx::{Executor as _, PgConnection, PgPool};
use tokio::time::{Instant, sleep};

use crate::StoreError;

/// The number that PostgreSQL knows the turn by.
const TURN: i64 = 0x006e_6f6d_656e_7461;
/// How often it is asked for. Whoever waited in the database would be waited for by the building of
/// an index, and would wait for it.
const ASKED_EVERY: Duration = Duration::from_millis(200);
/// How long: as a migration may take on many records.
const PATIENCE: Duration = Duration::from_secs(2 * 60 * 60);

/// Runs what has not been run of the migrations.
///
/// # Errors
/// [`StoreError::Database`] if one fails, or others never come to an end with theirs.
pub(crate) async fn migrate(pool: &PgPool) -> Result<(), StoreError> {
    let mut connection = pool.acquire().await?;
    let until = Instant::now() + PATIENCE;
    while !take_turn(&mut connection).await? {
        if Instant::now() > until {
            return Err(sqlx::Error::PoolTimedOut.into());
        }
        sleep(ASKED_EVERY).await;
    }

    drop_unfinished(&mut connection).await?;
    let mut migrator = sqlx::migrate!();
    migrator.set_locking(false).run_direct(&mut *connection).await.map_err(sqlx::Error::from)?;
    // The turn ends with it.
    connection.close().await?;
    Ok(())
}

async fn take_turn(connection: &mut PgConnection) -> Result<bool, StoreError> {
    let taken = sqlx::query_scalar!(r#"SELECT pg_try_advisory_lock($1) AS "taken!""#, TURN);
    Ok(taken.fetch_one(connection).await?)
}

/// Drops indexes whose building was cut short: they are built anew.
async fn drop_unfinished(connection: &mut PgConnection) -> Result<(), StoreError> {
    let unfinished = sqlx::query_scalar!(
        r#"SELECT format('DROP INDEX %s', i.indexrelid::regclass) AS "drop!" FROM pg_index i
           JOIN pg_class c ON c.oid = i.indexrelid
           WHERE NOT i.indisvalid AND c.relnamespace = current_schema()::regnamespace"#
    );
    for statement in unfinished.fetch_all(&mut *connection).await? {
        tracing::warn!(statement, "an index was not built to its end");
        connection.execute(statement.as_str()).await?;
    }
    Ok(())
}

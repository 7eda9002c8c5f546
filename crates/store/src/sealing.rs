//! Everything that is sealed: telling the right key from a wrong one, and
//! sealing anew under another while processes work on.

use sqlx::PgPool;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;

/// How long a process counts that has not been heard of, in seconds.
const GONE_AFTER: f64 = 30.0;
/// Boxes of a long shelf that are looked at together.
const TOGETHER: i64 = 500;

/// What a box holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sealed {
    /// A certificate's private key.
    PrivateKey,
    /// The key that answers a challenge by TLS.
    TlsAnswer,
    /// Credentials at the CA.
    Account,
    /// A key of a customer's zone.
    ZoneKey,
    /// What a hook's calls are signed with.
    HookSecret,
    /// A link that leads a reader to what a mail is about.
    Link,
    /// The secret of the page of whoever reads mails.
    Reader,
}

/// The known secret as it is kept.
#[derive(Clone, Debug)]
pub struct Checks {
    /// Under the key that seals the records.
    pub now: Vec<u8>,
    /// Under the key that they are being changed to, if they are.
    pub next: Option<Vec<u8>>,
}

/// A process that works on the records.
#[derive(Clone, Debug)]
pub struct ProcessRow {
    /// Made when it started.
    pub id: Uuid,
    /// Numbers of the keys whose boxes it opens.
    pub opens: Vec<String>,
    /// Number of the key that it seals with.
    pub seals_with: String,
}

/// Replaces boxes for which there are others, one by one: whoever changes one meanwhile has sealed
/// it anew already.
macro_rules! reseal_rows {
    ($pool:expr, $rows:expr, $reseal:expr, $kind:expr, $write:literal) => {{
        let mut replaced = 0;
        for row in &$rows {
            let Some(new) = $reseal($kind, &row.sealed)? else { continue };
            let write = sqlx::query!($write, row.key, new, row.sealed);
            replaced += write.execute($pool).await.map_err(StoreError::from)?.rows_affected();
        }
        replaced
    }};
}

/// The same of a whole table.
macro_rules! reseal_table {
    ($pool:expr, $reseal:expr, $kind:expr, $read:literal, $write:literal) => {{
        let rows = sqlx::query!($read).fetch_all($pool).await.map_err(StoreError::from)?;
        reseal_rows!($pool, rows, $reseal, $kind, $write)
    }};
}

/// The same of a table that is as long as the fleet.
macro_rules! reseal_long_table {
    ($pool:expr, $reseal:expr, $kind:expr, $read:literal, $write:literal) => {{
        let mut replaced = 0;
        let mut after = Uuid::nil();
        loop {
            let rows =
                sqlx::query!($read, after, TOGETHER).fetch_all($pool).await.map_err(StoreError::from)?;
            let Some(last) = rows.last() else { break replaced };
            after = last.key;
            replaced += reseal_rows!($pool, rows, $reseal, $kind, $write);
        }
    }};
}

impl Store {
    /// The known secret, sealed; `new` if there was none yet.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn sealing_checks(&self, new: &[u8]) -> Result<Checks, StoreError> {
        let kept = sqlx::query_as!(
            Checks,
            "INSERT INTO sealing (box) VALUES ($1) ON CONFLICT (one) DO UPDATE SET one = true
             RETURNING box AS now, next_box AS next",
            new
        );
        Ok(kept.fetch_one(&self.pool).await?)
    }

    /// Says that a process is there, and what it opens.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn note_process(&self, process: &ProcessRow) -> Result<(), StoreError> {
        sqlx::query!(
            "INSERT INTO processes (id, opens, seals_with) VALUES ($1, $2, $3)
             ON CONFLICT (id) DO UPDATE SET seals_with = $3, seen_at = now()",
            process.id,
            &process.opens,
            process.seals_with
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Says that a process has ended.
    ///
    /// # Errors
    /// [`StoreError::Database`]; it is found out all the same, later.
    pub async fn forget_process(&self, id: Uuid) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM processes WHERE id = $1 OR seen_at < now() - interval '1 day'", id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// How many processes do not open what a key seals.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn processes_without(&self, key: &str) -> Result<i64, StoreError> {
        let count = sqlx::query_scalar!(
            r#"SELECT count(*) AS "count!" FROM processes
               WHERE seen_at > now() - make_interval(secs => $2) AND NOT opens @> ARRAY[$1]"#,
            key,
            GONE_AFTER
        );
        Ok(count.fetch_one(&self.pool).await?)
    }

    /// How many processes seal with another key.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn processes_sealing_without(&self, key: &str) -> Result<i64, StoreError> {
        let count = sqlx::query_scalar!(
            r#"SELECT count(*) AS "count!" FROM processes
               WHERE seen_at > now() - make_interval(secs => $2) AND seals_with <> $1"#,
            key,
            GONE_AFTER
        );
        Ok(count.fetch_one(&self.pool).await?)
    }

    /// Begins the change to another key: from now on no process starts that cannot open
    /// `next`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn begin_resealing(&self, next: &[u8]) -> Result<(), StoreError> {
        sqlx::query!("UPDATE sealing SET next_box = coalesce(next_box, $1)", next)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Ends the change: everything is sealed with the other key.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn end_resealing(&self) -> Result<(), StoreError> {
        sqlx::query!("UPDATE sealing SET box = coalesce(next_box, box), next_box = NULL")
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Seals everything anew that `reseal` has another box for; returns how many boxes were
    /// replaced. What it was broken off in is gone on with by the next call.
    ///
    /// # Errors
    /// Whatever `reseal` fails with, or the database.
    pub async fn reseal<E: From<StoreError>>(
        &self,
        reseal: impl Fn(Sealed, &[u8]) -> Result<Option<Vec<u8>>, E>,
    ) -> Result<u64, E> {
        let pool = &self.pool;
        let mut replaced = reseal_keys(pool, &reseal).await?;
        replaced += reseal_receivers(pool, &reseal).await?;

        replaced += reseal_table!(
            pool,
            reseal,
            Sealed::ZoneKey,
            "SELECT id AS key, sealed FROM zone_keys",
            "UPDATE zone_keys SET sealed = $2 WHERE id = $1 AND sealed = $3"
        );

        replaced += reseal_table!(
            pool,
            reseal,
            Sealed::Account,
            "SELECT directory AS key, sealed FROM acme_accounts",
            "UPDATE acme_accounts SET sealed = $2 WHERE directory = $1 AND sealed = $3"
        );
        Ok(replaced)
    }
}

/// Keys of certificates, of orders, and of answers by TLS.
async fn reseal_keys<E: From<StoreError>>(
    pool: &PgPool,
    reseal: &impl Fn(Sealed, &[u8]) -> Result<Option<Vec<u8>>, E>,
) -> Result<u64, E> {
    let mut replaced = reseal_long_table!(
        pool,
        reseal,
        Sealed::PrivateKey,
        "SELECT id AS key, sealed_key AS sealed FROM orders WHERE id > $1 ORDER BY id LIMIT $2",
        "UPDATE orders SET sealed_key = $2 WHERE id = $1 AND sealed_key = $3"
    );

    replaced += reseal_long_table!(
        pool,
        reseal,
        Sealed::PrivateKey,
        "SELECT id AS key, sealed_key AS sealed FROM certificates WHERE id > $1 ORDER BY id LIMIT $2",
        "UPDATE certificates SET sealed_key = $2 WHERE id = $1 AND sealed_key = $3"
    );

    replaced += reseal_table!(
        pool,
        reseal,
        Sealed::TlsAnswer,
        r#"SELECT token AS key, sealed_answer_key AS "sealed!" FROM challenges
           WHERE sealed_answer_key IS NOT NULL"#,
        "UPDATE challenges SET sealed_answer_key = $2 WHERE token = $1 AND sealed_answer_key = $3"
    );
    Ok(replaced)
}

/// What is kept of those who are told things.
async fn reseal_receivers<E: From<StoreError>>(
    pool: &PgPool,
    reseal: &impl Fn(Sealed, &[u8]) -> Result<Option<Vec<u8>>, E>,
) -> Result<u64, E> {
    let mut replaced = reseal_table!(
        pool,
        reseal,
        Sealed::HookSecret,
        r#"SELECT id AS key, sealed AS "sealed!" FROM receivers WHERE sealed IS NOT NULL"#,
        "UPDATE receivers SET sealed = $2 WHERE id = $1 AND sealed = $3"
    );

    replaced += reseal_table!(
        pool,
        reseal,
        Sealed::HookSecret,
        r#"SELECT id AS key, former AS "sealed!" FROM receivers WHERE former IS NOT NULL AND former_until > now()"#,
        "UPDATE receivers SET former = $2 WHERE id = $1 AND former = $3"
    );

    replaced += reseal_table!(
        pool,
        reseal,
        Sealed::Link,
        r#"SELECT id AS key, sealed_link AS "sealed!" FROM receivers WHERE sealed_link IS NOT NULL"#,
        "UPDATE receivers SET sealed_link = $2 WHERE id = $1 AND sealed_link = $3"
    );

    replaced += reseal_table!(
        pool,
        reseal,
        Sealed::Reader,
        r#"SELECT id AS key, sealed_reader AS "sealed!" FROM receivers WHERE sealed_reader IS NOT NULL"#,
        "UPDATE receivers SET sealed_reader = $2 WHERE id = $1 AND sealed_reader = $3"
    );
    Ok(replaced)
}

//! Everything that is sealed: telling the right key from a wrong one, and
//! sealing anew under another.

use crate::Store;
use crate::StoreError;

/// What a box holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sealed {
    /// The known secret.
    Check,
    /// A certificate's private key.
    PrivateKey,
    /// Credentials at the CA.
    Account,
    /// A key of a customer's zone.
    ZoneKey,
    /// What a hook's calls are signed with.
    HookSecret,
    /// A link that leads a reader to what a mail is about.
    Link,
}

/// Replaces the boxes of one table that there are others for.
macro_rules! reseal_table {
    ($tx:expr, $reseal:expr, $kind:expr, $read:literal, $write:literal) => {{
        let rows = sqlx::query!($read).fetch_all(&mut *$tx).await.map_err(StoreError::from)?;
        let mut replaced = 0;
        for row in rows {
            let Some(new) = $reseal($kind, &row.sealed)? else { continue };
            sqlx::query!($write, row.key, new).execute(&mut *$tx).await.map_err(StoreError::from)?;
            replaced += 1;
        }
        replaced
    }};
}

impl Store {
    /// The known secret, sealed; `new` if there was none yet.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn sealing_check(&self, new: &[u8]) -> Result<Vec<u8>, StoreError> {
        let kept = sqlx::query_scalar!(
            "INSERT INTO sealing (box) VALUES ($1) ON CONFLICT (one) DO UPDATE SET one = true RETURNING box",
            new
        );
        Ok(kept.fetch_one(&self.pool).await?)
    }

    /// Seals everything anew that `reseal` has another box for, all or nothing;
    /// returns how many boxes were replaced.
    ///
    /// # Errors
    /// Whatever `reseal` fails with, or the database.
    pub async fn reseal<E: From<StoreError>>(
        &self,
        reseal: impl Fn(Sealed, &[u8]) -> Result<Option<Vec<u8>>, E>,
    ) -> Result<u64, E> {
        let mut tx = self.pool.begin().await.map_err(StoreError::from)?;
        let mut replaced = reseal_table!(
            tx,
            reseal,
            Sealed::PrivateKey,
            "SELECT id AS key, sealed_key AS sealed FROM orders FOR UPDATE",
            "UPDATE orders SET sealed_key = $2 WHERE id = $1"
        );

        replaced += reseal_table!(
            tx,
            reseal,
            Sealed::PrivateKey,
            "SELECT id AS key, sealed_key AS sealed FROM certificates FOR UPDATE",
            "UPDATE certificates SET sealed_key = $2 WHERE id = $1"
        );

        replaced += reseal_table!(
            tx,
            reseal,
            Sealed::Account,
            "SELECT directory AS key, sealed FROM acme_accounts FOR UPDATE",
            "UPDATE acme_accounts SET sealed = $2 WHERE directory = $1"
        );

        replaced += reseal_table!(
            tx,
            reseal,
            Sealed::ZoneKey,
            "SELECT id AS key, sealed FROM zone_keys FOR UPDATE",
            "UPDATE zone_keys SET sealed = $2 WHERE id = $1"
        );

        replaced += reseal_table!(
            tx,
            reseal,
            Sealed::HookSecret,
            r#"SELECT id AS key, sealed AS "sealed!" FROM receivers WHERE sealed IS NOT NULL FOR UPDATE"#,
            "UPDATE receivers SET sealed = $2, former = NULL WHERE id = $1"
        );

        replaced += reseal_table!(
            tx,
            reseal,
            Sealed::Link,
            r#"SELECT id AS key, sealed_link AS "sealed!" FROM receivers WHERE sealed_link IS NOT NULL FOR UPDATE"#,
            "UPDATE receivers SET sealed_link = $2 WHERE id = $1"
        );

        replaced += reseal_table!(
            tx,
            reseal,
            Sealed::Check,
            "SELECT one AS key, box AS sealed FROM sealing FOR UPDATE",
            "UPDATE sealing SET box = $2 WHERE one = $1"
        );

        tx.commit().await.map_err(StoreError::from)?;
        Ok(replaced)
    }
}

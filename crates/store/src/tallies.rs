//! Counts of the fleet, kept by the transactions that change them.
//!
//! The database adds a row to `tallies` for whatever a statement changes about domains and
//! certificates (see the migration that makes the triggers), [`Store::merge_tallies`] puts
//! them together in `tally_sums`, and readers add up both.

use chrono::NaiveDate;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::Stage;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;
use crate::places::Whose;

nomenta_core::spelled! {
    /// What is counted; the migrations spell these words too.
    pub enum Tally: "count" {
        /// Domains, by stage.
        Stage = "stage",
        /// Open findings, by code.
        Finding = "finding",
        /// Domains on the platform, by who runs their DNS.
        Operator = "operator",
        /// Domains that count against an allowance.
        Used = "used",
        /// Certificates in use, by the day on which they run out.
        Ending = "ending",
        /// Certificates in use, by the day on which they are renewed.
        Renewing = "renewing",
    }
}

/// Rows that are put together at once.
const MOST: i64 = 20_000;
/// One process at a time puts them together.
const MERGE_LOCK: i64 = 0x7461_6c6c;

/// How many there are of one kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Counted<T> {
    /// Of which.
    pub of: T,
    /// So many.
    pub count: i64,
}

/// The accounts that counts are kept under: that of zeros has the whole fleet's.
pub(crate) fn counted_under(whose: &Whose) -> Vec<Uuid> {
    whose.accounts().map_or_else(|| vec![Uuid::nil()], <[Uuid]>::to_vec)
}

impl Store {
    /// How many domains stand at each stage that has any.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn stage_counts(&self, whose: &Whose) -> Result<Vec<Counted<Stage>>, StoreError> {
        let counts = self.tally(Tally::Stage, whose).await?;
        counts.into_iter().map(|one| Ok(Counted { of: word("stage", &one.of)?, count: one.count })).collect()
    }

    /// How many domains have each finding that any has.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn finding_counts(&self, whose: &Whose) -> Result<Vec<Counted<Code>>, StoreError> {
        let mut counts = Vec::new();
        for one in self.tally(Tally::Finding, whose).await? {
            let seen = whose.seen(word("finding", &one.of)?);
            counts.extend(seen.map(|of| Counted { of, count: one.count }));
        }
        Ok(counts)
    }

    /// How many domains lie with each DNS operator: those with most first, at most `most`.
    /// Zones with servers of their own are operators of one domain each, so they are not
    /// all looked at.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn operator_counts(
        &self,
        whose: &Whose,
        most: i64,
    ) -> Result<Vec<Counted<String>>, StoreError> {
        let counts = sqlx::query_as!(
            Counted,
            r#"WITH known AS (
                   (SELECT s.key FROM unnest($2::uuid[]) AS w (id)
                    CROSS JOIN LATERAL (SELECT key FROM tally_sums WHERE kind = $1 AND account_id = w.id
                                        ORDER BY n DESC LIMIT 2 * $3::bigint) s)
                   UNION SELECT key FROM tallies WHERE kind = $1 AND account_id = ANY($2))
               SELECT k.key AS "of!", t.n AS "count!"
               FROM known k
               -- Key by key: zones with servers of their own are a third of the fleet.
               CROSS JOIN LATERAL (SELECT sum(n)::bigint AS n FROM tallied
                                   WHERE kind = $1 AND account_id = ANY($2) AND key = k.key OFFSET 0) t
               WHERE t.n <> 0 ORDER BY 2 DESC, 1 LIMIT $3"#,
            Tally::Operator.as_str(),
            &counted_under(whose),
            most
        );
        Ok(counts.fetch_all(&self.pool).await?)
    }

    /// How many certificates run out, and how many are renewed, on each day (UTC) that
    /// has any, up to `until`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn certificate_counts(
        &self,
        whose: &Whose,
        until: NaiveDate,
    ) -> Result<[Vec<Counted<NaiveDate>>; 2], StoreError> {
        let ending = self.days(Tally::Ending, whose, until).await?;
        let renewing = self.days(Tally::Renewing, whose, until).await?;
        Ok([ending, renewing])
    }

    async fn days(
        &self,
        kind: Tally,
        whose: &Whose,
        until: NaiveDate,
    ) -> Result<Vec<Counted<NaiveDate>>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT key AS "key!", sum(n)::bigint AS "count!" FROM tallied
               WHERE kind = $1 AND account_id = ANY($2) AND key <= $3 GROUP BY key HAVING sum(n) <> 0 ORDER BY key"#,
            kind.as_str(),
            &counted_under(whose),
            until.to_string()
        )
        .fetch_all(&self.pool)
        .await?;

        let mut days = Vec::with_capacity(rows.len());
        for row in rows {
            let of =
                row.key.parse().map_err(|cause: chrono::ParseError| StoreError::unreadable("day", cause))?;
            days.push(Counted { of, count: row.count });
        }
        Ok(days)
    }

    async fn tally(&self, kind: Tally, whose: &Whose) -> Result<Vec<Counted<String>>, StoreError> {
        let rows = sqlx::query_as!(
            Counted,
            r#"SELECT key AS "of!", sum(n)::bigint AS "count!" FROM tallied WHERE kind = $1 AND account_id = ANY($2)
               GROUP BY key HAVING sum(n) <> 0 ORDER BY key"#,
            kind.as_str(),
            &counted_under(whose)
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// How many domains count against each account's allowance, in the order of
    /// `accounts`.
    pub(crate) async fn used(&self, accounts: &[Uuid]) -> Result<Vec<i64>, StoreError> {
        let used = sqlx::query_scalar!(
            r#"SELECT coalesce((SELECT sum(n)::bigint FROM tallied WHERE kind = $2 AND account_id = a.id AND key = ''), 0)
                   AS "used!"
               FROM unnest($1::uuid[]) WITH ORDINALITY AS a (id, place) ORDER BY a.place"#,
            accounts,
            Tally::Used.as_str()
        );
        Ok(used.fetch_all(&self.pool).await?)
    }

    /// Puts together what was added since the last time; `true` if more is left.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn merge_tallies(&self) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let is_free =
            sqlx::query_scalar!(r#"SELECT pg_try_advisory_xact_lock($1) AS "is_free!""#, MERGE_LOCK);
        if !is_free.fetch_one(&mut *tx).await? {
            return Ok(false);
        }

        let merged = sqlx::query_scalar!(
            r#"WITH new AS (SELECT ctid AS place FROM tallies LIMIT $1),
                    taken AS (DELETE FROM tallies t USING new n WHERE t.ctid = n.place
                              RETURNING t.account_id, t.kind, t.key, t.n),
                    written AS (
                        INSERT INTO tally_sums (account_id, kind, key, n)
                        SELECT account_id, kind, key, sum(n) FROM taken
                        GROUP BY account_id, kind, key HAVING sum(n) <> 0
                        ON CONFLICT (kind, account_id, key) DO UPDATE SET n = tally_sums.n + excluded.n)
               SELECT count(*) AS "taken!" FROM taken"#,
            MOST
        );
        let taken = merged.fetch_one(&mut *tx).await?;
        sqlx::query!(
            "DELETE FROM tally_sums WHERE ctid = ANY(ARRAY(SELECT ctid FROM tally_sums WHERE n = 0 LIMIT $1))",
            MOST
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(taken == MOST)
    }
}

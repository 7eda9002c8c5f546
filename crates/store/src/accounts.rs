//! Accounts.

use chrono::{DateTime, Utc};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::locks;
use crate::places::{Page, Passed, Whose, beyond, containing, gone_along};
use crate::tasks::{self, TaskKind};
use crate::version::Expected;

/// A customer of the platform.
#[derive(Clone, Debug)]
pub struct AccountRow {
    /// Key of the record.
    pub id: Uuid,
    /// Short name, unique.
    pub name: String,
    /// Name for people.
    pub title: String,
    /// Whom to write to.
    pub contact: Option<String>,
    /// The language that it is written to in (BCP 47).
    pub language: String,
    /// What the platform's staff should know.
    pub notes: String,
    /// Domains that its plan grants; without a number, as many as are wanted.
    pub allowance: Option<i32>,
    /// Since when it is suspended.
    pub suspended_at: Option<DateTime<Utc>>,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Which version of it there is.
    pub version: i64,
    /// Domains taken in for it that have not ended; a pair counts as one.
    pub domains: i64,
}

/// Which accounts or sites to list.
#[derive(Clone, Debug, Default)]
pub struct NameFilter {
    /// Only of these accounts.
    pub whose: Whose,
    /// Only those whose names, of either kind, contain this.
    pub text: Option<String>,
    /// Only those after this name.
    pub after: Option<String>,
}

/// An account's row.
struct AccountColumns {
    id: Uuid,
    name: String,
    title: String,
    contact: Option<String>,
    language: String,
    notes: String,
    allowance: Option<i32>,
    suspended_at: Option<DateTime<Utc>>,
    created_at: DateTime<Utc>,
    version: i64,
    is_end: bool,
}

impl Passed for AccountColumns {
    fn is_end(&self) -> bool {
        self.is_end
    }
}

impl AccountColumns {
    fn with(self, domains: i64) -> AccountRow {
        AccountRow {
            id: self.id,
            name: self.name,
            title: self.title,
            contact: self.contact,
            language: self.language,
            notes: self.notes,
            allowance: self.allowance,
            suspended_at: self.suspended_at,
            created_at: self.created_at,
            version: self.version,
            domains,
        }
    }
}

/// What is looked for in names and titles, as a pattern for LIKE.
pub(crate) fn pattern(text: &str) -> String {
    containing(&text.trim().to_lowercase())
}

/// Accounts, by what the statement goes along; `$is_end` tells where a walk ends.
macro_rules! accounts {
    ($along:literal, $($given:expr),+) => {
        accounts!(@found "false"; $($given),+ => $along)
    };
    (@gone_along $pool:expr; $($given:expr),+ => $($found:tt)+) => {
        accounts!(@found "p.is_end"; $($given),+ =>
            "(" + $($found)+ + ") p CROSS JOIN LATERAL (SELECT * FROM accounts WHERE id = p.id OFFSET 0) a
             ORDER BY a.name, p.is_end")
        .fetch_all(&$pool)
        .await?
    };
    (@found $is_end:literal; $($given:expr),+ => $($along:tt)+) => {
        sqlx::query_as!(
            AccountColumns,
            r#"SELECT a.id, a.name, title, contact, language, notes, allowance, suspended_at, created_at, version,
                      "# + $is_end + r#" AS "is_end!" FROM "# + $($along)+,
            $($given),+
        )
    };
}

/// What is to change about an account; what is left out stays.
#[derive(Clone, Copy, Debug, Default)]
pub struct AccountChange<'a> {
    /// Name for people.
    pub title: Option<&'a str>,
    /// Whom to write to; empty for nobody.
    pub contact: Option<&'a str>,
    /// The language that it is written to in.
    pub language: Option<&'a str>,
    /// What the platform's staff should know.
    pub notes: Option<&'a str>,
    /// Domains that its plan grants; none for as many as are wanted.
    pub allowance: Option<Option<i32>>,
}

impl Store {
    /// Adds an account.
    ///
    /// # Errors
    /// [`StoreError::Taken`] if the name is in use.
    pub async fn add_account(
        &self,
        name: &str,
        title: &str,
        change: &AccountChange<'_>,
    ) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        sqlx::query!(
            "INSERT INTO accounts (id, name, title, contact, language, notes, allowance)
             VALUES ($1, $2, $3, nullif($4, ''), coalesce($5, 'en'), coalesce($6, ''), $7)",
            Uuid::now_v7(),
            name,
            title,
            change.contact,
            change.language,
            change.notes,
            change.allowance.flatten()
        )
        .execute(&mut *tx)
        .await
        .map_err(|e| StoreError::or_taken(e, "an account", name))?;

        tx.commit().await?;
        Ok(())
    }

    /// Accounts by name, at most `limit`, and after which name to go on if there may be more.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn accounts(
        &self,
        of: &NameFilter,
        limit: i64,
    ) -> Result<Page<AccountRow, String>, StoreError> {
        let after = of.after.as_deref().unwrap_or_default();
        let accounts = of.whose.accounts();
        let mut rows = match &of.text {
            None => accounts!(
                "accounts a WHERE name > $1 AND ($2::uuid[] IS NULL OR id = ANY($2)) ORDER BY name LIMIT $3",
                after,
                accounts,
                limit
            )
            .fetch_all(&self.pool)
            .await?,
            Some(text) if accounts.is_none() && self.is_common_to_accounts(&pattern(text)).await? => {
                gone_along!(accounts, "accounts", self.pool, after, pattern(text), limit)
            }
            Some(text) => {
                accounts!(
                    "accounts a WHERE sought LIKE $4 AND name > $1 AND ($2::uuid[] IS NULL OR id = ANY($2))
                     ORDER BY name LIMIT $3",
                    after,
                    accounts,
                    limit,
                    pattern(text)
                )
                .fetch_all(&self.search)
                .await?
            }
        };

        let beyond = beyond(&mut rows, |row| row.name.clone());
        Ok(Page { rows: self.with_used(rows).await?, beyond })
    }

    async fn with_used(&self, rows: Vec<AccountColumns>) -> Result<Vec<AccountRow>, StoreError> {
        let ids: Vec<_> = rows.iter().map(|row| row.id).collect();
        let used = self.used(&ids).await?;
        Ok(rows.into_iter().zip(used).map(|(row, domains)| row.with(domains)).collect())
    }

    /// The account with a name.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn account(&self, name: &str) -> Result<AccountRow, StoreError> {
        let row = accounts!("accounts a WHERE name = $1", name);
        let row =
            row.fetch_optional(&self.pool).await?.ok_or_else(|| StoreError::missing("account", name))?;

        let mut rows = self.with_used(vec![row]).await?;
        rows.pop().ok_or_else(|| StoreError::missing("account", name))
    }

    /// Changes what is known of an account. With another allowance, the domains that
    /// it matters to are looked at again.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none; [`StoreError::Changed`].
    pub async fn change_account(
        &self,
        name: &str,
        change: &AccountChange<'_>,
        expected: Expected,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.begin().await?;
        let row = sqlx::query!("SELECT id, version FROM accounts WHERE name = $1 FOR NO KEY UPDATE", name)
            .fetch_optional(&mut *tx)
            .await?
            .ok_or_else(|| StoreError::missing("account", name))?;
        let id = row.id;
        expected.meets(id, row.version)?;

        sqlx::query!(
            "UPDATE accounts SET title = coalesce($2, title), contact = nullif(coalesce($3, contact), ''),
             language = coalesce($4, language), notes = coalesce($5, notes),
             allowance = CASE WHEN $6 THEN $7 ELSE allowance END WHERE id = $1",
            id,
            change.title,
            change.contact,
            change.language,
            change.notes,
            change.allowance.is_some(),
            change.allowance.flatten()
        )
        .execute(&mut *tx)
        .await?;

        if change.allowance.is_some() {
            wake_waiting(&mut tx, id, now).await?;
        }
        self.commit_work(tx).await?;
        Ok(())
    }
}

/// Makes the domains of an account due that wait for a certificate: there may be
/// room for them now, or no longer.
async fn wake_waiting(tx: &mut PgConnection, account_id: Uuid, now: DateTime<Utc>) -> Result<(), StoreError> {
    let ids = sqlx::query_scalar!(
        "SELECT id FROM domains WHERE account_id = $1 AND ended_at IS NULL AND certificate <> 'passed'",
        account_id
    )
    .fetch_all(&mut *tx)
    .await?;

    locks::lock(tx, &ids).await?;
    for id in ids {
        tasks::wake(tx, id, TaskKind::Look, now).await?;
    }
    Ok(())
}

impl Store {
    /// The part of some records that is one account's.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is no such account, or they have nothing of it.
    pub async fn part(&self, whose: &Whose, name: &str) -> Result<Whose, StoreError> {
        let id = account_id(&self.pool, name).await?;
        whose.of_account(id).ok_or_else(|| StoreError::missing("account", name))
    }
}

pub(crate) async fn account_id(pool: &sqlx::PgPool, name: &str) -> Result<Uuid, StoreError> {
    sqlx::query_scalar!("SELECT id FROM accounts WHERE name = $1", name)
        .fetch_optional(pool)
        .await?
        .ok_or_else(|| StoreError::missing("account", name))
}

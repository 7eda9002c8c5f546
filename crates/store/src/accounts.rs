//! Accounts and their sites.

use chrono::{DateTime, Utc};
use nomenta_core::name::dns::DnsName;
use nomenta_core::sheet::ingress::CanonicalHost;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::edge;
use crate::locks;
use crate::places::{Whose, containing};
use crate::tasks::{self, TaskKind};
use crate::version::Expected;

/// Ingresses whose hosts are kept from sites.
const MOST_INGRESSES: i64 = 10_000;

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
fn pattern(text: &str) -> String {
    containing(&text.trim().to_lowercase())
}

/// Sites, by what the statement goes along.
macro_rules! sites {
    ($pool:expr, $along:literal, $name:expr, $account:expr, $pattern:expr, $limit:expr) => {
        sites!(@of "sites", $pool, $along, $name, $account, $pattern, $limit)
    };
    (@of $of:literal, $pool:expr, $along:literal, $name:expr, $account:expr, $pattern:expr, $limit:expr) => {
        sqlx::query_as!(
            SiteRow,
            r#"SELECT s.id, s.version, s.name, (SELECT name FROM accounts WHERE id = s.account_id) AS "account!",
                      (SELECT name FROM ingresses WHERE id = s.ingress_id) AS "ingress!", s.default_host,
                      s.entry_path, s.error_path, s.created_at,
                      ARRAY(SELECT host FROM former_hosts f WHERE f.site_id = s.id ORDER BY host) AS "former_hosts!"
               FROM (SELECT * FROM "# + $of + " WHERE " + $along + " AND ($2::uuid[] IS NULL OR account_id = ANY($2))
                     AND ($3::text IS NULL OR sought LIKE $3) ORDER BY name LIMIT $4) s
               ORDER BY s.name",
            $name,
            $account,
            $pattern,
            $limit
        )
        .fetch_all(&$pool)
        .await?
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

/// What a domain will show.
#[derive(Clone, Debug)]
pub struct SiteRow {
    /// Key of the record.
    pub id: Uuid,
    /// Which version of it there is.
    pub version: i64,
    /// Short name, unique.
    pub name: String,
    /// Account it belongs to.
    pub account: String,
    /// Ingress that its traffic lands on.
    pub ingress: String,
    /// Host under the platform's own zone.
    pub default_host: String,
    /// Hosts that lead there since it was renamed.
    pub former_hosts: Vec<String>,
    /// Where visitors enter.
    pub entry_path: String,
    /// What they get when something is missing.
    pub error_path: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
}

/// A site to add.
#[derive(Clone, Copy, Debug)]
pub struct NewSite<'a> {
    /// Account it belongs to.
    pub account: &'a str,
    /// Short name.
    pub name: &'a str,
    /// Ingress that its traffic lands on.
    pub ingress: &'a str,
    /// Host under the platform's own zone.
    pub default_host: &'a str,
    /// Where visitors enter.
    pub entry_path: &'a str,
    /// What they get when something is missing.
    pub error_path: &'a str,
}

/// What is to change about a site; what is left out stays.
#[derive(Clone, Copy, Debug, Default)]
pub struct SiteChange<'a> {
    /// Another short name, with the default host that goes with it.
    pub name: Option<(&'a str, &'a str)>,
    /// Where visitors enter.
    pub entry_path: Option<&'a str>,
    /// What they get when something is missing.
    pub error_path: Option<&'a str>,
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

    /// Accounts by name, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn accounts(&self, of: &NameFilter, limit: i64) -> Result<Vec<AccountRow>, StoreError> {
        let after = of.after.as_deref().unwrap_or_default();
        let rows = match &of.text {
            None => {
                sqlx::query_as!(
                    AccountColumns,
                    "SELECT id, name, title, contact, language, notes, allowance, suspended_at, created_at, version FROM accounts
                     WHERE name > $1 AND ($2::uuid[] IS NULL OR id = ANY($2)) ORDER BY name LIMIT $3",
                    after,
                    of.whose.accounts(),
                    limit
                )
                .fetch_all(&self.pool)
                .await?
            }
            Some(text) if self.is_common_to_accounts(&pattern(text)).await? => {
                sqlx::query_as!(
                    AccountColumns,
                    "SELECT id, name, title, contact, language, notes, allowance, suspended_at, created_at, version
                     -- By name, one after the other, until there are enough.
                     FROM (SELECT * FROM accounts WHERE name > $1 ORDER BY name OFFSET 0) a
                     WHERE sought LIKE $4 AND ($2::uuid[] IS NULL OR id = ANY($2)) ORDER BY name LIMIT $3",
                    after,
                    of.whose.accounts(),
                    limit,
                    pattern(text)
                )
                .fetch_all(&self.pool)
                .await?
            }
            Some(text) => {
                sqlx::query_as!(
                    AccountColumns,
                    "SELECT id, name, title, contact, language, notes, allowance, suspended_at, created_at, version FROM accounts
                     WHERE sought LIKE $4 AND name > $1 AND ($2::uuid[] IS NULL OR id = ANY($2)) ORDER BY name LIMIT $3",
                    after,
                    of.whose.accounts(),
                    limit,
                    pattern(text)
                )
                .fetch_all(&self.search)
                .await?
            }
        };
        self.with_used(rows).await
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
        let row = sqlx::query_as!(
            AccountColumns,
            "SELECT id, name, title, contact, language, notes, allowance, suspended_at, created_at, version FROM accounts
             WHERE name = $1",
            name
        );
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

    /// Adds a site to an account.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown account or ingress,
    /// [`StoreError::Taken`] if the name, or its default host, is in use.
    pub async fn add_site(&self, new: &NewSite<'_>) -> Result<(), StoreError> {
        let NewSite { account, name, ingress, default_host, entry_path, error_path } = *new;
        let account_id = account_id(&self.pool, account).await?;
        let ingress_id = sqlx::query_scalar!("SELECT id FROM ingresses WHERE name = $1", ingress)
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| StoreError::missing("ingress", ingress))?;

        let mut tx = self.begin().await?;
        leave_to_former(&mut tx, name, default_host, None).await?;
        sqlx::query!(
            "INSERT INTO sites (id, account_id, ingress_id, name, label, default_host, entry_path, error_path)
             VALUES ($1, $2, $3, $4, $4, $5, $6, $7)",
            Uuid::now_v7(),
            account_id,
            ingress_id,
            name,
            default_host,
            entry_path,
            error_path
        )
        .execute(&mut *tx)
        .await
        .map_err(|e| StoreError::or_taken(e, "a site", name))?;

        edge::touch(&mut tx, &[default_host]).await?;
        self.commit(tx).await?;
        Ok(())
    }

    /// Which of these names no site has, nor had.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn free_site_names(
        &self,
        names: &[String],
        default_hosts: &[String],
    ) -> Result<Vec<String>, StoreError> {
        let free = sqlx::query_scalar!(
            r#"SELECT n.name AS "name!" FROM unnest($1::text[], $2::text[]) WITH ORDINALITY AS n (name, host, place)
               WHERE NOT EXISTS (SELECT FROM sites s WHERE s.name = n.name OR s.label = n.name OR s.default_host = n.host)
                 AND NOT EXISTS (SELECT FROM former_hosts f WHERE f.host = n.host) ORDER BY n.place"#,
            names,
            default_hosts
        );
        Ok(free.fetch_all(&self.pool).await?)
    }

    /// Sites by name, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn sites(&self, of: &NameFilter, limit: i64) -> Result<Vec<SiteRow>, StoreError> {
        let after = of.after.as_deref().unwrap_or_default();
        let pattern = of.text.as_deref().map(|text| pattern(text));

        Ok(match (of.whose.accounts(), pattern) {
            (None, None) => sites!(self.pool, "name > $1", after, None::<&[Uuid]>, None::<String>, limit),
            (Some(accounts), pattern) => {
                sites!(self.pool, "name > $1 AND account_id = ANY($2)", after, Some(accounts), pattern, limit)
            }
            (None, Some(pattern)) if self.is_common_to_sites(&pattern).await? => {
                let (nobody, common) = (None::<&[Uuid]>, Some(pattern));
                sites!(
                    // By name, one after the other, until there are enough.
                    @of "(SELECT * FROM sites WHERE name > $1 ORDER BY name OFFSET 0) t",
                    self.pool, "sought LIKE $3", after, nobody, common, limit
                )
            }
            (None, pattern) => {
                let nobody = None::<&[Uuid]>;
                sites!(self.search, "name > $1 AND sought LIKE $3", after, nobody, pattern, limit)
            }
        })
    }

    /// The site with a name.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn site(&self, name: &str) -> Result<SiteRow, StoreError> {
        let mut rows = sites!(self.pool, "name = $1", name, None::<&[Uuid]>, None::<String>, 1);
        rows.pop().ok_or_else(|| StoreError::missing("site", name))
    }

    /// Hosts that ingresses need under the platform's zone: what their canonical hosts
    /// end in, and their name servers.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn ingress_hosts(&self) -> Result<Vec<DnsName>, StoreError> {
        let mut hosts = Vec::new();
        for ingress in self.ingresses("", MOST_INGRESSES).await? {
            hosts.push(canonical_end(&ingress.canonical));
            hosts.extend(ingress.name_servers);
        }
        Ok(hosts)
    }

    /// Changes a site. A name that it had goes on leading to it, and so does what
    /// customers' records point at.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none; [`StoreError::Taken`] if the new name is
    /// in use.
    pub async fn change_site(
        &self,
        name: &str,
        change: &SiteChange<'_>,
        expected: Expected,
    ) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        let site = sqlx::query!(
            "SELECT id, version, default_host FROM sites WHERE name = $1 FOR NO KEY UPDATE",
            name
        )
        .fetch_optional(&mut *tx)
        .await?
        .ok_or_else(|| StoreError::missing("site", name))?;
        expected.meets(site.id, site.version)?;

        sqlx::query!(
            "UPDATE sites SET entry_path = coalesce($2, entry_path), error_path = coalesce($3, error_path)
             WHERE id = $1",
            site.id,
            change.entry_path,
            change.error_path
        )
        .execute(&mut *tx)
        .await?;
        if let Some((renamed, host)) = change.name.filter(|(renamed, _)| *renamed != name) {
            rename(&mut tx, (site.id, &site.default_host), renamed, host).await?;
        }

        let touched = sqlx::query_scalar!(
            r#"SELECT host AS "host!" FROM domains WHERE site_id = $1 AND ended_at IS NULL
               UNION ALL SELECT default_host FROM sites WHERE id = $1
               UNION ALL SELECT host FROM former_hosts WHERE site_id = $1"#,
            site.id
        )
        .fetch_all(&mut *tx)
        .await?;
        edge::touch(&mut tx, &touched.iter().map(String::as_str).collect::<Vec<_>>()).await?;
        self.commit(tx).await?;
        Ok(())
    }
}

/// What a canonical host is for whatever site, without what stands for the site.
fn canonical_end(canonical: &CanonicalHost) -> DnsName {
    let host = canonical.for_site("x");
    match host.split_once('.') {
        Some(("x", rest)) => rest.into(),
        _ => host,
    }
}

/// Gives a site another name; its former default host leads to the new one.
async fn rename(
    tx: &mut PgConnection,
    (id, former): (Uuid, &str),
    name: &str,
    host: &str,
) -> Result<(), StoreError> {
    leave_to_former(tx, name, host, Some(id)).await?;
    sqlx::query!("DELETE FROM former_hosts WHERE host = $1", host).execute(&mut *tx).await?;
    sqlx::query!("UPDATE sites SET name = $2, default_host = $3 WHERE id = $1", id, name, host)
        .execute(&mut *tx)
        .await
        .map_err(|e| StoreError::or_taken(e, "a site", name))?;
    sqlx::query!("INSERT INTO former_hosts (host, site_id) VALUES ($1, $2)", former, id)
        .execute(&mut *tx)
        .await?;
    Ok(())
}

/// Refuses a default host that leads to another site since that was renamed.
async fn leave_to_former(
    tx: &mut PgConnection,
    name: &str,
    host: &str,
    own: Option<Uuid>,
) -> Result<(), StoreError> {
    let owner = sqlx::query_scalar!("SELECT site_id FROM former_hosts WHERE host = $1", host)
        .fetch_optional(&mut *tx)
        .await?;
    match owner {
        Some(owner) if Some(owner) != own => Err(StoreError::Taken { what: "a site", name: name.to_owned() }),
        _ => Ok(()),
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
    /// The records of accounts with these names; those that there are not have none.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn whose(&self, names: &[String]) -> Result<Whose, StoreError> {
        let ids = sqlx::query_scalar!("SELECT id FROM accounts WHERE name = ANY($1)", names);
        Ok(Whose::Of(ids.fetch_all(&self.pool).await?))
    }
}

async fn account_id(pool: &sqlx::PgPool, name: &str) -> Result<Uuid, StoreError> {
    sqlx::query_scalar!("SELECT id FROM accounts WHERE name = $1", name)
        .fetch_optional(pool)
        .await?
        .ok_or_else(|| StoreError::missing("account", name))
}

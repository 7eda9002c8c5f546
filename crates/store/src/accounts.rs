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
use crate::tasks::{self, TaskKind};

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
    /// Domains taken in for it that have not ended; a pair counts as one.
    pub domains: i64,
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
        .execute(&self.pool)
        .await
        .map_err(|e| StoreError::or_taken(e, "an account", name))?;

        Ok(())
    }

    /// All accounts by name, or the one with a key.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn accounts(&self, only: Option<Uuid>) -> Result<Vec<AccountRow>, StoreError> {
        let rows = sqlx::query_as!(
            AccountRow,
            r#"SELECT a.id, a.name, a.title, a.contact, a.language, a.notes, a.allowance, a.suspended_at, a.created_at,
                      (SELECT count(*) FROM domains d WHERE d.account_id = a.id AND d.ended_at IS NULL
                       AND d.is_primary) AS "domains!"
               FROM accounts a WHERE $1::uuid IS NULL OR a.id = $1 ORDER BY a.name"#,
            only
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The account with a name.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn account(&self, name: &str) -> Result<AccountRow, StoreError> {
        let id = account_id(&self.pool, name).await?;
        let mut rows = self.accounts(Some(id)).await?;
        rows.pop().ok_or_else(|| StoreError::missing("account", name))
    }

    /// Changes what is known of an account. With another allowance, the domains that
    /// it matters to are looked at again.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn change_account(&self, name: &str, change: &AccountChange<'_>) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;
        let id = sqlx::query_scalar!("SELECT id FROM accounts WHERE name = $1 FOR NO KEY UPDATE", name)
            .fetch_optional(&mut *tx)
            .await?
            .ok_or_else(|| StoreError::missing("account", name))?;

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
        tx.commit().await?;
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

        let mut tx = self.pool.begin().await?;
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
        tx.commit().await?;
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

    /// All sites by name, or those of one account.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn sites(&self, account: Option<Uuid>) -> Result<Vec<SiteRow>, StoreError> {
        let rows = sqlx::query_as!(
            SiteRow,
            r#"SELECT s.name, a.name AS account, i.name AS ingress, s.default_host, s.entry_path, s.error_path,
                      s.created_at,
                      ARRAY(SELECT host FROM former_hosts f WHERE f.site_id = s.id ORDER BY host) AS "former_hosts!"
               FROM sites s
               JOIN accounts a ON a.id = s.account_id
               JOIN ingresses i ON i.id = s.ingress_id
               WHERE $1::uuid IS NULL OR s.account_id = $1
               ORDER BY s.name"#,
            account
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Hosts that ingresses need under the platform's zone: what their canonical hosts
    /// end in, and their name servers.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn ingress_hosts(&self) -> Result<Vec<DnsName>, StoreError> {
        let mut hosts = Vec::new();
        for ingress in self.ingresses().await? {
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
    pub async fn change_site(&self, name: &str, change: &SiteChange<'_>) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        let site = sqlx::query!("SELECT id, default_host FROM sites WHERE name = $1 FOR NO KEY UPDATE", name)
            .fetch_optional(&mut *tx)
            .await?
            .ok_or_else(|| StoreError::missing("site", name))?;

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
        tx.commit().await?;
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

async fn account_id(pool: &sqlx::PgPool, name: &str) -> Result<Uuid, StoreError> {
    sqlx::query_scalar!("SELECT id FROM accounts WHERE name = $1", name)
        .fetch_optional(pool)
        .await?
        .ok_or_else(|| StoreError::missing("account", name))
}

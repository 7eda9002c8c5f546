//! Sites: what domains show.

use chrono::{DateTime, Utc};
use nomenta_core::name::dns::DnsName;
use nomenta_core::sheet::ingress::CanonicalHost;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::accounts::{NameFilter, account_id, pattern};
use crate::edge;
use crate::places::{Page, Passed, beyond, gone_along};
use crate::version::Expected;

/// Ingresses whose hosts are kept from sites.
const MOST_INGRESSES: i64 = 10_000;

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

/// A site's row.
struct SiteColumns {
    id: Uuid,
    version: i64,
    name: String,
    account: String,
    ingress: String,
    default_host: String,
    former_hosts: Vec<String>,
    entry_path: String,
    error_path: String,
    created_at: DateTime<Utc>,
    is_end: bool,
}

impl Passed for SiteColumns {
    fn is_end(&self) -> bool {
        self.is_end
    }
}

impl From<SiteColumns> for SiteRow {
    fn from(row: SiteColumns) -> Self {
        Self {
            id: row.id,
            version: row.version,
            name: row.name,
            account: row.account,
            ingress: row.ingress,
            default_host: row.default_host,
            former_hosts: row.former_hosts,
            entry_path: row.entry_path,
            error_path: row.error_path,
            created_at: row.created_at,
        }
    }
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

/// Sites by name: of those that a statement finds, each with its key; `$is_end` tells where a walk ends.
macro_rules! sites {
    ($pool:expr, $along:literal, $name:expr, $account:expr, $pattern:expr, $limit:expr) => {
        sites!(@found $pool, "false"; $name, $account, $pattern, $limit =>
            "SELECT id FROM sites WHERE " + $along + " AND ($2::uuid[] IS NULL OR account_id = ANY($2))
                 AND ($3::text IS NULL OR sought LIKE $3) ORDER BY name LIMIT $4")
    };
    (@gone_along $pool:expr; $($given:expr),+ => $($found:tt)+) => {
        sites!(@found $pool, "p.is_end"; $($given),+ => $($found)+)
    };
    (@found $pool:expr, $is_end:literal; $($given:expr),+ => $($found:tt)+) => {
        sqlx::query_as!(
            SiteColumns,
            r#"SELECT s.id, s.version, s.name, (SELECT name FROM accounts WHERE id = s.account_id) AS "account!",
                      (SELECT name FROM ingresses WHERE id = s.ingress_id) AS "ingress!", s.default_host,
                      s.entry_path, s.error_path, s.created_at,
                      ARRAY(SELECT host FROM former_hosts f WHERE f.site_id = s.id ORDER BY host) AS "former_hosts!", "#
                + $is_end + r#" AS "is_end!"
               FROM ("# + $($found)+ + r#") p CROSS JOIN LATERAL (SELECT * FROM sites WHERE id = p.id OFFSET 0) s
               ORDER BY s.name, "is_end!""#,
            $($given),+
        )
        .fetch_all(&$pool)
        .await?
    };
}

impl Store {
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

    /// Sites by name, at most `limit`, and after which name to go on if there may be more.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn sites(&self, of: &NameFilter, limit: i64) -> Result<Page<SiteRow, String>, StoreError> {
        let after = of.after.as_deref().unwrap_or_default();
        let pattern = of.text.as_deref().map(pattern);

        let mut rows = match (of.whose.accounts(), pattern) {
            (None, None) => sites!(self.pool, "name > $1", after, None::<&[Uuid]>, None::<String>, limit),
            (Some(accounts), pattern) => {
                sites!(self.pool, "name > $1 AND account_id = ANY($2)", after, Some(accounts), pattern, limit)
            }
            (None, Some(pattern)) if self.is_common_to_sites(&pattern).await? => {
                gone_along!(sites, "sites", self.pool, after, pattern, limit)
            }
            (None, pattern) => {
                let nobody = None::<&[Uuid]>;
                sites!(self.search, "name > $1 AND sought LIKE $3", after, nobody, pattern, limit)
            }
        };

        let beyond = beyond(&mut rows, |row| row.name.clone());
        Ok(Page { rows: rows.into_iter().map(SiteRow::from).collect(), beyond })
    }

    /// The site with a name.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn site(&self, name: &str) -> Result<SiteRow, StoreError> {
        let mut rows = sites!(self.pool, "name = $1", name, None::<&[Uuid]>, None::<String>, 1);
        rows.pop().map(SiteRow::from).ok_or_else(|| StoreError::missing("site", name))
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

//! What the platform's edge servers need, and what of it has changed.

use nomenta_core::judge::gate::GateState;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::places::Whose;

/// How many changes are kept for edges that resume.
const KEPT: i64 = 20_000;

/// What the edge needs for one host.
#[derive(Clone, Debug)]
pub struct EdgeRow {
    /// The name: a customer's domain, or a site's default host.
    pub host: String,
    /// The site to show.
    pub site: String,
    /// The site's default host.
    pub default_host: String,
    /// Where visitors enter.
    pub entry_path: String,
    /// What they get when something is missing.
    pub error_path: String,
    /// The primary of the pair, to which visitors are sent on.
    pub redirect_to: Option<String>,
    /// Whether it is a default host.
    pub is_default: bool,
    /// Whether it shows nothing before its hour, and visitors are sent to the
    /// default host until then.
    pub is_staged: bool,
    /// The certificate, once there is one.
    pub certificate_id: Option<Uuid>,
    /// Its chain, leaf first.
    pub chain_pem: Option<String>,
    /// Its private key, sealed.
    pub sealed_key: Option<Vec<u8>>,
}

/// A certificate that answers a challenge by TLS.
#[derive(Clone, Debug)]
pub struct TlsAnswer {
    /// The name that is validated.
    pub name: String,
    /// The answering certificate, PEM.
    pub chain_pem: String,
    /// Its key, sealed.
    pub sealed_key: Vec<u8>,
}

impl Store {
    /// Every host of some accounts that traffic may come for: those that a claim holds, the sites'
    /// default hosts, and those that were. With `hosts`, only those of them.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn edge_rows(
        &self,
        whose: &Whose,
        hosts: Option<&[String]>,
    ) -> Result<Vec<EdgeRow>, StoreError> {
        let reached = GateState::REACHED.map(|state| state.to_string());
        let mut rows = sqlx::query_as!(
            EdgeRow,
            r#"SELECT d.host, s.name AS site, s.default_host, coalesce(d.entry_path, s.entry_path) AS "entry_path!",
                      coalesce(d.error_path, s.error_path) AS "error_path!",
                      p.host AS "redirect_to?", false AS "is_default!",
                      d.switch_at IS NOT NULL AND d.next_site_id IS NULL AS "is_staged!",
                      c.id AS "certificate_id?", c.chain_pem AS "chain_pem?", c.sealed_key AS "sealed_key?"
               FROM domains d
               JOIN sites s ON s.id = d.site_id
               JOIN accounts a ON a.id = d.account_id
               LEFT JOIN domains p ON p.pair_id = d.pair_id AND p.id <> d.id AND p.is_primary
                    AND p.held_since IS NOT NULL AND p.certificate = ANY($2)
               LEFT JOIN LATERAL (SELECT id, chain_pem, sealed_key FROM certificates
                                  WHERE domain_ids @> ARRAY[d.id]
                                  ORDER BY (revoked_at IS NULL) DESC, issued_at DESC LIMIT 1) c ON true
               WHERE d.held_since IS NOT NULL AND a.suspended_at IS NULL
                 AND ($1::text[] IS NULL OR d.host = ANY($1))
                 AND ($3::uuid[] IS NULL OR d.account_id = ANY($3))
               ORDER BY d.host"#,
            hosts,
            &reached,
            whose.accounts()
        )
        .fetch_all(&self.pool)
        .await?;

        rows.extend(self.default_rows(whose, hosts).await?);
        Ok(rows)
    }

    /// The sites' default hosts, and those that lead to them since a site was renamed.
    async fn default_rows(
        &self,
        whose: &Whose,
        hosts: Option<&[String]>,
    ) -> Result<Vec<EdgeRow>, StoreError> {
        let rows = sqlx::query_as!(
            EdgeRow,
            r#"SELECT n.host AS "host!", s.name AS site, s.default_host, s.entry_path, s.error_path,
                      nullif(s.default_host, n.host) AS "redirect_to?", true AS "is_default!", false AS "is_staged!",
                      NULL::uuid AS "certificate_id?", NULL AS "chain_pem?", NULL::bytea AS "sealed_key?"
               FROM (SELECT default_host AS host, id FROM sites
                     UNION ALL SELECT host, site_id FROM former_hosts) n
               JOIN sites s ON s.id = n.id
               JOIN accounts a ON a.id = s.account_id
               WHERE a.suspended_at IS NULL AND ($1::text[] IS NULL OR n.host = ANY($1))
                 AND ($2::uuid[] IS NULL OR s.account_id = ANY($2)) ORDER BY n.host"#,
            hosts,
            whose.accounts()
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Certificates that answer challenges by TLS now, for domains of some accounts. With `hosts`,
    /// only for those names.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn tls_answers(
        &self,
        whose: &Whose,
        hosts: Option<&[String]>,
    ) -> Result<Vec<TlsAnswer>, StoreError> {
        let rows = sqlx::query_as!(
            TlsAnswer,
            r#"SELECT c.name, c.answer_chain AS "chain_pem!", c.sealed_answer_key AS "sealed_key!"
               FROM challenges c JOIN orders o ON o.id = c.order_id JOIN domains d ON d.id = o.domain_id
               WHERE c.sealed_answer_key IS NOT NULL AND ($1::text[] IS NULL OR c.name = ANY($1))
                 AND ($2::uuid[] IS NULL OR d.account_id = ANY($2)) ORDER BY c.name"#,
            hosts,
            whose.accounts()
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Number of the latest change; 0 before the first.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn edge_position(&self) -> Result<i64, StoreError> {
        let seq = sqlx::query_scalar!(r#"SELECT coalesce(max(seq), 0) AS "seq!" FROM edge_changes"#);
        Ok(seq.fetch_one(&self.pool).await?)
    }

    /// Hosts of some accounts that changed after `after`, each once with its latest number, at
    /// most `limit`; `None` if changes that old are no longer kept. What an account has had before
    /// is of it, too: its edges are to let go of it.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn edge_changes(
        &self,
        whose: &Whose,
        after: i64,
        limit: i64,
    ) -> Result<Option<Vec<(i64, String)>>, StoreError> {
        let first = sqlx::query_scalar!("SELECT min(seq) FROM edge_changes").fetch_one(&self.pool).await?;
        let last = self.edge_position().await?;
        if after > last || first.is_some_and(|first| after + 1 < first) {
            return Ok(None);
        }

        let rows = sqlx::query!(
            r#"SELECT max(c.seq) AS "seq!", c.host FROM edge_changes c
               WHERE c.seq > $1 AND ($3::uuid[] IS NULL
                   OR EXISTS (SELECT FROM domains d WHERE d.host = c.host AND d.account_id = ANY($3))
                   OR EXISTS (SELECT FROM sites s WHERE s.default_host = c.host AND s.account_id = ANY($3))
                   OR EXISTS (SELECT FROM former_hosts f JOIN sites s ON s.id = f.site_id
                              WHERE f.host = c.host AND s.account_id = ANY($3)))
               GROUP BY c.host ORDER BY 1 LIMIT $2"#,
            after,
            limit,
            whose.accounts()
        )
        .fetch_all(&self.pool)
        .await?;

        Ok(Some(rows.into_iter().map(|row| (row.seq, row.host)).collect()))
    }

    /// Forgets changes that nobody is expected to resume from.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn prune_edge_changes(&self) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM edge_changes WHERE seq < (SELECT max(seq) FROM edge_changes) - $1", KEPT)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

/// Notes that the edge needs something else for these hosts; numbered, as events are, once
/// it is committed.
pub(crate) async fn touch(tx: &mut PgConnection, hosts: &[&str]) -> Result<(), StoreError> {
    let hosts: Vec<String> = hosts.iter().map(|host| (*host).to_owned()).collect();
    sqlx::query!("INSERT INTO edge_new (host) SELECT * FROM unnest($1::text[])", &hosts)
        .execute(&mut *tx)
        .await?;

    Ok(())
}

//! Domains: taking in, loading, listing.

use chrono::{DateTime, Utc};
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::judge::domain::{Domain, Pair};
use nomenta_core::judge::evidence::Probe;
use nomenta_core::judge::gate::{GateName, Gates, Stage};
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_core::reading::survey::Survey;
use serde_json::{Value, json};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::events::{self, About, EventKind};
use crate::ingresses::IngressColumns;
use crate::tasks::{self, TaskKind};

/// A domain to take in.
pub struct NewDomain<'a> {
    /// The name.
    pub subject: &'a Subject,
    /// The site it will show.
    pub site: &'a str,
    /// Its token.
    pub token: &'a Token,
    /// When the token runs out.
    pub token_expires_at: DateTime<Utc>,
}

/// What a domain has to do with the other one of its pair.
#[derive(Clone, Copy)]
struct Paired {
    id: Option<Uuid>,
    is_primary: bool,
}

/// A domain with what the store alone knows of it.
#[derive(Clone, Debug)]
pub struct DomainRecord {
    /// Key of the record.
    pub id: Uuid,
    /// What the judgement sees.
    pub domain: Domain,
    /// The account.
    pub account: String,
    /// Host under the platform's own zone.
    pub default_host: String,
    /// Share of vantages that see the routing.
    pub spread: Option<f64>,
    /// The customer's records as they were at enrolment.
    pub baseline: Option<Baseline>,
    /// The latest survey.
    pub survey: Option<Survey>,
    /// When it was made.
    pub looked_at: Option<DateTime<Utc>>,
    /// When the next one is due.
    pub next_look: Option<DateTime<Utc>>,
    /// What a browser got at the last full look.
    pub probe: Option<Probe>,
    /// The other domain of the pair.
    pub pair_id: Option<Uuid>,
    /// When it left the platform.
    pub released_at: Option<DateTime<Utc>>,
}

/// Which domains to list.
#[derive(Clone, Debug, Default)]
pub struct RosterFilter {
    /// Only those at this stage.
    pub stage: Option<Stage>,
    /// Only those of this account.
    pub account: Option<String>,
    /// Only those whose name contains this.
    pub text: Option<String>,
    /// Only those after this name.
    pub after: Option<String>,
}

/// One line of the roster.
#[derive(Clone, Debug)]
pub struct RosterRow {
    /// The name.
    pub host: String,
    /// The account.
    pub account: String,
    /// The site.
    pub site: String,
    /// The stage.
    pub stage: String,
    /// The gates.
    pub gates: Value,
    /// Codes of open findings.
    pub findings: Vec<String>,
    /// Share of vantages that see the routing.
    pub spread: Option<f64>,
    /// When it was taken in.
    pub enrolled_at: DateTime<Utc>,
    /// Latest look.
    pub looked_at: Option<DateTime<Utc>>,
}

impl Store {
    /// Takes a domain in, and makes it due for a look.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown site, [`StoreError::Taken`] if
    /// the domain is enrolled already.
    pub async fn enrol(&self, new: NewDomain<'_>) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        insert(&mut tx, new, Paired { id: None, is_primary: true }).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Takes two domains in that belong together, the primary first; both or
    /// neither.
    ///
    /// # Errors
    /// As for [`enrol`](Self::enrol).
    pub async fn enrol_pair(&self, primary: NewDomain<'_>, other: NewDomain<'_>) -> Result<(), StoreError> {
        let id = Some(Uuid::now_v7());
        let mut tx = self.pool.begin().await?;
        insert(&mut tx, primary, Paired { id, is_primary: true }).await?;
        insert(&mut tx, other, Paired { id, is_primary: false }).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Takes many domains of one site in at once; all or none.
    ///
    /// # Errors
    /// As for [`enrol`](Self::enrol); the name of the first one that is taken
    /// already.
    pub async fn enrol_many(
        &self,
        site: &str,
        domains: &[(Subject, Token)],
        token_expires_at: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        let found = sqlx::query!(
            "SELECT s.id, a.name AS account FROM sites s JOIN accounts a ON a.id = s.account_id
             WHERE s.name = $1",
            site
        );
        let found =
            found.fetch_optional(&self.pool).await?.ok_or_else(|| StoreError::missing("site", site))?;
        let ids: Vec<_> = domains.iter().map(|_| Uuid::now_v7()).collect();
        let hosts: Vec<_> = domains.iter().map(|(subject, _)| subject.to_string()).collect();
        let zones: Vec<_> = domains.iter().map(|(subject, _)| subject.host.registered().to_owned()).collect();
        let tokens: Vec<_> = domains.iter().map(|(_, token)| token.as_str().to_owned()).collect();
        let gates = Gates::new(now);
        let mut tx = self.pool.begin().await?;
        let taken = sqlx::query_scalar!(
            "SELECT host FROM domains WHERE host = ANY($1) ORDER BY host LIMIT 1",
            &hosts
        );
        if let Some(host) = taken.fetch_optional(&mut *tx).await? {
            return Err(StoreError::Taken { what: "a domain", name: host });
        }
        sqlx::query!(
            "INSERT INTO domains (id, host, zone, token, site_id, token_expires_at, gates, stage, enrolled_at)
             SELECT n.id, n.host, n.zone, n.token, $5, $6, $7, $8, $9
             FROM unnest($1::uuid[], $2::text[], $3::text[], $4::text[]) AS n (id, host, zone, token)",
            &ids,
            &hosts,
            &zones,
            &tokens,
            found.id,
            token_expires_at,
            json!(gates),
            gates.stage().to_string(),
            now
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "INSERT INTO tasks (domain_id, kind, due) SELECT id, 'look', $2 FROM unnest($1::uuid[]) AS n (id)",
            &ids,
            now
        )
        .execute(&mut *tx)
        .await?;
        let data = json!({ "site": site, "account": found.account });
        events::append_many(&mut tx, &ids, &hosts, now, EventKind::Enrolled, &data).await?;
        sqlx::query!("SELECT pg_notify('nomenta_work', '')").fetch_one(&mut *tx).await?;
        tx.commit().await?;
        Ok(())
    }

    pub(crate) async fn domain_id(&self, host: &str) -> Result<Uuid, StoreError> {
        sqlx::query_scalar!("SELECT id FROM domains WHERE host = $1", host)
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| StoreError::missing("domain", host))
    }

    /// The domain with this name.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if it is not enrolled.
    pub async fn domain_named(&self, host: &str) -> Result<DomainRecord, StoreError> {
        self.domain(self.domain_id(host).await?).await
    }

    /// The domain with this key.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if it is gone.
    pub async fn domain(&self, id: Uuid) -> Result<DomainRecord, StoreError> {
        let row = sqlx::query!(
            r#"SELECT d.host, d.token, d.token_expires_at, d.zone, d.gates, d.spread, d.fingerprint,
                      d.quiet_looks, d.survey, d.enrolled_at, d.superseded, d.baseline,
                      d.moved_at, d.is_primary, d.probe, d.released_at,
                      p.id AS "other_id?", p.host AS "other?", p.stage AS "other_stage?",
                      p.gates->2->>'state' AS other_certificate,
                      EXISTS (SELECT FROM orders_in_flight f WHERE f.domain_id = p.id) AS "other_ordered!",
                      s.name AS site, s.default_host, a.name AS account, i.name AS ingress,
                      i.revision, i.ipv4, i.ipv6, i.canonical, i.name_servers, i.subdomain_addresses,
                      t.due AS "due?", greatest(d.looked_at, t.seen_at) AS seen_at
               FROM domains d
               JOIN sites s ON s.id = d.site_id
               JOIN accounts a ON a.id = s.account_id
               JOIN ingresses i ON i.id = s.ingress_id
               LEFT JOIN domains p ON p.pair_id = d.pair_id AND p.id <> d.id
               LEFT JOIN tasks t ON t.domain_id = d.id AND t.kind = 'look'
               WHERE d.id = $1"#,
            id
        )
        .fetch_optional(&self.pool)
        .await?
        .ok_or_else(|| StoreError::missing("domain", &id.to_string()))?;
        let ingress = IngressColumns {
            name: row.ingress,
            revision: row.revision,
            ipv4: row.ipv4,
            ipv6: row.ipv6,
            canonical: row.canonical,
            name_servers: row.name_servers,
            subdomain_addresses: row.subdomain_addresses,
        };
        let baseline: Option<Baseline> = row
            .baseline
            .map(serde_json::from_value)
            .transpose()
            .map_err(|e| StoreError::unreadable("baseline", e))?;
        let subject = Subject::parse(&row.host).map_err(|e| StoreError::unreadable("host", e))?;
        let domain = Domain {
            host: subject.host,
            wildcard: subject.wildcard,
            site: row.site,
            ingress: ingress.read()?,
            token: Token::from_stored(row.token),
            token_expires_at: row.token_expires_at,
            superseded: row.superseded.into_iter().map(Token::from_stored).collect(),
            mail_before: baseline.as_ref().map(Baseline::mail).unwrap_or_default(),
            moved_at: row.moved_at,
            form: None,
            gates: serde_json::from_value(row.gates).map_err(|e| StoreError::unreadable("gate", e))?,
            zone: row.zone,
            fingerprint: row.fingerprint,
            quiet_looks: row.quiet_looks,
            enrolled_at: row.enrolled_at,
            pair: None,
        };
        let pair = match (row.other, row.other_stage) {
            (Some(other), Some(stage)) => {
                let other_stage = stage.parse().map_err(|e: String| StoreError::unreadable("stage", e))?;
                // A blocked gate has a finding in the way; a waiting one has not.
                let waits = row.other_certificate.as_deref() == Some("waiting");
                let other_ready =
                    other_stage == Stage::At(GateName::Certificate) && waits && !row.other_ordered;
                Some(Pair { other, other_stage, is_primary: row.is_primary, other_ready })
            }
            _ => None,
        };
        let survey = row.survey.map(serde_json::from_value).transpose();
        Ok(DomainRecord {
            id,
            domain: Domain { pair, ..domain },
            account: row.account,
            default_host: row.default_host,
            spread: row.spread,
            survey: survey.map_err(|e| StoreError::unreadable("survey", e))?,
            baseline,
            looked_at: row.seen_at,
            next_look: row.due,
            probe: row
                .probe
                .map(serde_json::from_value)
                .transpose()
                .map_err(|e| StoreError::unreadable("probe", e))?,
            pair_id: row.other_id,
            released_at: row.released_at,
        })
    }

    /// Domains by name, at most `limit`.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn roster(&self, filter: &RosterFilter, limit: i64) -> Result<Vec<RosterRow>, StoreError> {
        let stage = filter.stage.map(|s| s.to_string());
        let rows = sqlx::query_as!(
            RosterRow,
            r#"SELECT d.host, a.name AS account, s.name AS site, d.stage, d.gates, d.spread, d.enrolled_at,
                      d.looked_at,
                      ARRAY(SELECT f.code FROM findings f WHERE f.domain_id = d.id ORDER BY f.first_seen)
                          AS "findings!"
               FROM domains d
               JOIN sites s ON s.id = d.site_id
               JOIN accounts a ON a.id = s.account_id
               WHERE CASE WHEN $1::text IS NULL THEN d.released_at IS NULL ELSE d.stage = $1 END
                 AND ($2::text IS NULL OR a.name = $2)
                 AND ($3::text IS NULL OR strpos(d.host, $3) > 0)
                 AND ($4::text IS NULL OR d.host > $4)
               ORDER BY d.host LIMIT $5"#,
            stage,
            filter.account,
            filter.text,
            filter.after,
            limit
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Gives a domain a new token; the one before it is remembered as
    /// superseded. The domain is looked at again.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if it is not enrolled.
    pub async fn rotate_token(
        &self,
        host: &str,
        token: &Token,
        expires_at: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let (id, now) = (self.domain_id(host).await?, Utc::now());
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "UPDATE domains SET superseded = array_prepend(token, superseded), token = $2,
             token_expires_at = $3, moved_at = $4 WHERE id = $1",
            id,
            token.as_str(),
            expires_at,
            now
        )
        .execute(&mut *tx)
        .await?;
        tasks::wake(&mut tx, id, TaskKind::Look, now).await?;
        events::append(&mut tx, About { id, host }, now, &[(EventKind::TokenRotated, json!({}))]).await?;
        tx.commit().await?;
        Ok(())
    }

    /// How many domains stand at each stage.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn stage_counts(&self) -> Result<Vec<(String, i64)>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT stage, count(*) AS "count!" FROM domains WHERE released_at IS NULL GROUP BY stage"#
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|r| (r.stage, r.count)).collect())
    }
}

/// Writes a new domain and makes it due for a look.
async fn insert(tx: &mut PgConnection, new: NewDomain<'_>, paired: Paired) -> Result<(), StoreError> {
    let (name, now, id) = (new.subject.to_string(), Utc::now(), Uuid::now_v7());
    let host = name.as_str();
    let site = sqlx::query!(
        "SELECT s.id, a.name AS account FROM sites s JOIN accounts a ON a.id = s.account_id
         WHERE s.name = $1",
        new.site
    )
    .fetch_optional(&mut *tx)
    .await?
    .ok_or_else(|| StoreError::missing("site", new.site))?;
    let gates = Gates::new(now);
    // A name that has left may come back, to anyone.
    sqlx::query!("DELETE FROM domains WHERE host = $1 AND released_at IS NOT NULL", host)
        .execute(&mut *tx)
        .await?;
    sqlx::query!(
        "INSERT INTO domains (id, host, site_id, token, token_expires_at, zone, gates, stage, enrolled_at,
             pair_id, is_primary)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)",
        id,
        host,
        site.id,
        new.token.as_str(),
        new.token_expires_at,
        new.subject.host.registered(),
        json!(gates),
        gates.stage().to_string(),
        now,
        paired.id,
        paired.is_primary
    )
    .execute(&mut *tx)
    .await
    .map_err(|e| StoreError::or_taken(e, "a domain", host))?;
    tasks::wake(tx, id, TaskKind::Look, now).await?;
    let data = json!({ "site": new.site, "account": site.account });
    events::append(tx, About { id, host }, now, &[(EventKind::Enrolled, data)]).await
}

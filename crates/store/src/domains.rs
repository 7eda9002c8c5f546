//! Domains: loading one, and giving it another token.

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::judge::domain::{Domain, Pair};
use nomenta_core::judge::evidence::Probe;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_core::reading::survey::Survey;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::{read, read_if, word};
use crate::events::{self, About};
use crate::ingresses::IngressColumns;
use crate::tasks::{self, TaskKind};

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
    pub default_host: DnsName,
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

/// A domain's row, with what belongs to it in other tables.
struct DomainColumns {
    host: String,
    token: String,
    token_expires_at: DateTime<Utc>,
    zone: String,
    gates: serde_json::Value,
    spread: Option<f64>,
    fingerprint: Option<i64>,
    quiet_looks: i32,
    survey: Option<serde_json::Value>,
    enrolled_at: DateTime<Utc>,
    superseded: Vec<String>,
    baseline: Option<serde_json::Value>,
    moved_at: DateTime<Utc>,
    is_primary: bool,
    probe: Option<serde_json::Value>,
    released_at: Option<DateTime<Utc>>,
    other_id: Option<Uuid>,
    other: Option<String>,
    other_stage: Option<String>,
    other_certificate: Option<String>,
    other_spread: Option<f64>,
    other_is_ordered: bool,
    site: String,
    default_host: String,
    account: String,
    ingress: String,
    revision: i32,
    ipv4: Vec<String>,
    ipv6: Vec<String>,
    canonical: String,
    name_servers: Vec<String>,
    subdomain_addresses: bool,
    due: Option<DateTime<Utc>>,
    seen_at: Option<DateTime<Utc>>,
}

impl Store {
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
        let row = sqlx::query_as!(
            DomainColumns,
            r#"SELECT d.host, d.token, d.token_expires_at, d.zone, d.gates, d.spread, d.fingerprint,
                      d.quiet_looks, d.survey, d.enrolled_at, d.superseded, d.baseline,
                      d.moved_at, d.is_primary, d.probe, d.released_at,
                      p.id AS "other_id?", p.host AS "other?", p.stage AS "other_stage?",
                      p.certificate AS "other_certificate?", p.spread AS "other_spread?",
                      EXISTS (SELECT FROM orders_in_flight f WHERE f.domain_id = p.id) AS "other_is_ordered!",
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
        );
        let row = row.fetch_optional(&self.pool).await?;

        row.ok_or_else(|| StoreError::missing("domain", &id.to_string()))?.read(id)
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
        let id = self.domain_id(host).await?;
        let now = Utc::now();
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
        events::append(&mut tx, About { id: Some(id), host }, now, &[Event::TokenRotated {}]).await?;
        tx.commit().await?;
        Ok(())
    }
}

impl DomainColumns {
    fn read(self, id: Uuid) -> Result<DomainRecord, StoreError> {
        let pair = self.pair()?;
        let baseline: Option<Baseline> = read_if("baseline", self.baseline)?;
        let subject = Subject::kept(&self.host);

        let ingress = IngressColumns {
            name: self.ingress,
            revision: self.revision,
            ipv4: self.ipv4,
            ipv6: self.ipv6,
            canonical: self.canonical,
            name_servers: self.name_servers,
            subdomain_addresses: self.subdomain_addresses,
        };

        let domain = Domain {
            host: subject.host,
            wildcard: subject.wildcard,
            site: self.site,
            ingress: ingress.read()?,
            token: Token::from_stored(self.token),
            token_expires_at: self.token_expires_at,
            superseded: self.superseded.into_iter().map(Token::from_stored).collect(),
            mail_before: baseline.as_ref().map(Baseline::mail).unwrap_or_default(),
            moved_at: self.moved_at,
            gates: read("gate", self.gates)?,
            zone: self.zone.into(),
            fingerprint: self.fingerprint,
            quiet_looks: self.quiet_looks,
            enrolled_at: self.enrolled_at,
            pair,
        };

        Ok(DomainRecord {
            id,
            domain,
            account: self.account,
            default_host: self.default_host.into(),
            spread: self.spread,
            survey: read_if("survey", self.survey)?,
            baseline,
            looked_at: self.seen_at,
            next_look: self.due,
            probe: read_if("probe", self.probe)?,
            pair_id: self.other_id,
            released_at: self.released_at,
        })
    }

    fn pair(&self) -> Result<Option<Pair>, StoreError> {
        let (Some(other), Some(stage), Some(certificate)) =
            (&self.other, &self.other_stage, &self.other_certificate)
        else {
            return Ok(None);
        };

        let stage = word("stage", stage)?;
        let certificate = word("state of a gate", certificate)?;
        Ok(Some(Pair::new(
            other.as_str().into(),
            self.is_primary,
            stage,
            certificate,
            self.other_is_ordered,
            self.other_spread,
        )))
    }
}

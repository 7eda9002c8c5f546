//! Domains: finding one, and loading it.

use std::collections::HashMap;
use std::iter;

use chrono::{DateTime, Utc};
use futures::FutureExt;
use nomenta_core::claim::allowance::Allowance;
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::judge::behind::Visit;
use nomenta_core::judge::domain::{Domain, Pair, Ties};
use nomenta_core::judge::evidence::Probe;
use nomenta_core::judge::standing::Ending;
use nomenta_core::learned::course::Course;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_core::reading::survey::Survey;
use nomenta_core::sheet::ProofAt;
use uuid::Uuid;

use crate::EndedOrders;
use crate::Store;
use crate::StoreError;
use crate::claims;
use crate::courses;
use crate::error::{read, read_text, word};
use crate::ingresses::IngressColumns;
use crate::places::Whose;
use crate::together::Done;

/// A domain with what the store alone knows of it.
#[derive(Clone, Debug)]
pub struct DomainRecord {
    /// Key of the record.
    pub id: Uuid,
    /// Which version of what people set it has.
    pub version: i64,
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
    /// What the last visit to somebody else's addresses found, if they led there.
    pub visit: Option<Visit>,
    /// Who runs the zone's DNS, as far as its name servers tell.
    pub operator: Option<String>,
    /// How its records came into the world so far.
    pub course: Option<Course>,
    /// The other domain of the pair.
    pub pair_id: Option<Uuid>,
    /// When it left the platform, and how.
    pub ended: Option<(DateTime<Utc>, Ending)>,
    /// Since when nothing is looked at or ordered for it.
    pub paused_at: Option<DateTime<Utc>>,
    /// Since when its account is suspended.
    pub suspended_at: Option<DateTime<Utc>>,
    /// Since when it holds the name.
    pub held_since: Option<DateTime<Utc>>,
    /// Where visitors enter, if not where the site says.
    pub entry_path: Option<String>,
    /// What they get when something is missing, if not what the site says.
    pub error_path: Option<String>,
    /// The site that it shows from an hour on.
    pub next_site: Option<String>,
    /// That hour.
    pub switch_at: Option<DateTime<Utc>>,
}

impl DomainRecord {
    /// Whether it is left alone: it is paused, or its account suspended.
    pub fn rests(&self) -> bool {
        self.paused_at.is_some() || self.suspended_at.is_some()
    }

    /// Whether its first hour is still to come: until then it leads to the default host.
    pub fn is_staged(&self) -> bool {
        self.switch_at.is_some() && self.next_site.is_none()
    }
}

/// A claim as callers name it.
#[derive(Clone, Copy, Debug)]
pub struct Named<'a> {
    /// The host.
    pub host: &'a str,
    /// Whose claim of it, where that is told.
    pub account: Option<&'a str>,
    /// Whose claims there are, for whoever asks.
    pub whose: &'a Whose,
}

/// A domain's row, with what belongs to it in other tables.
struct DomainColumns {
    id: Uuid,
    host: String,
    version: i64,
    token: String,
    token_expires_at: DateTime<Utc>,
    zone: String,
    gates: serde_json::Value,
    spread: Option<f64>,
    fingerprint: Option<i64>,
    survey: Option<String>,
    enrolled_at: DateTime<Utc>,
    superseded: Vec<String>,
    baseline: Option<String>,
    moved_at: DateTime<Utc>,
    is_primary: bool,
    probe: Option<String>,
    visit: Option<String>,
    ended_at: Option<DateTime<Utc>>,
    ending: Option<String>,
    paused_at: Option<DateTime<Utc>>,
    suspended_at: Option<DateTime<Utc>>,
    held_since: Option<DateTime<Utc>>,
    entry_path: Option<String>,
    error_path: Option<String>,
    next_site: Option<String>,
    switch_at: Option<DateTime<Utc>>,
    label: String,
    is_proved_by_zone: bool,
    allowance: Option<i32>,
    before: i64,
    is_held_by_another: bool,
    phase: Option<String>,
    grace_ends_at: Option<DateTime<Utc>>,
    inside: Option<String>,
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
    operator: Option<String>,
    course: Option<serde_json::Value>,
    begun_at: Option<DateTime<Utc>>,
    due: Option<DateTime<Utc>>,
    seen_at: Option<DateTime<Utc>>,
}

impl Store {
    /// Key of the claim that is meant: the open one, or else the one that ended last.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none; [`StoreError::Several`] if several
    /// accounts claim the host and none is named.
    pub async fn claim(&self, named: Named<'_>) -> Result<Uuid, StoreError> {
        // Two are enough to tell that none is meant, but the message names them.
        let open = sqlx::query!(
            "SELECT d.id, a.name AS account FROM domains d JOIN accounts a ON a.id = d.account_id
             WHERE d.host = $1 AND d.ended_at IS NULL AND ($2::text IS NULL OR a.name = $2)
               AND ($3::uuid[] IS NULL OR d.account_id = ANY($3))
             ORDER BY a.name LIMIT 5",
            named.host,
            named.account,
            named.whose.accounts()
        )
        .fetch_all(&self.pool)
        .await?;

        match open.as_slice() {
            [] => self.last_ended(named).await,
            [one] => Ok(one.id),
            several => Err(StoreError::Several {
                name: named.host.to_owned(),
                accounts: several.iter().map(|row| row.account.clone()).collect(),
            }),
        }
    }

    async fn last_ended(&self, named: Named<'_>) -> Result<Uuid, StoreError> {
        let last = sqlx::query_scalar!(
            "SELECT d.id FROM domains d JOIN accounts a ON a.id = d.account_id
             WHERE d.host = $1 AND d.ended_at IS NOT NULL AND ($2::text IS NULL OR a.name = $2)
               AND ($3::uuid[] IS NULL OR d.account_id = ANY($3))
             ORDER BY d.ended_at DESC LIMIT 1",
            named.host,
            named.account,
            named.whose.accounts()
        );
        last.fetch_optional(&self.pool).await?.ok_or_else(|| StoreError::missing("domain", named.host))
    }

    /// The claim that is meant.
    ///
    /// # Errors
    /// As for [`claim`](Self::claim).
    pub async fn domain_named(&self, named: Named<'_>) -> Result<DomainRecord, StoreError> {
        self.domain(self.claim(named).await?).await
    }

    /// The domain with this key.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if it is gone.
    pub async fn domain(&self, id: Uuid) -> Result<DomainRecord, StoreError> {
        let host = sqlx::query_scalar!("SELECT host FROM domains WHERE id = $1", id);
        let host = host.fetch_optional(&self.pool).await?;
        let found: Vec<_> = host.into_iter().map(|host| (id, host)).collect();
        self.records_of(&found).await?.remove(&id).unwrap_or_else(|| Err(gone(id)))
    }

    /// A domain that is to be looked at, with how many orders had ended before it was read, for it
    /// and its pair. Read together with others.
    ///
    /// # Errors
    /// As for [`domain`](Self::domain).
    pub async fn take_up(&self, id: Uuid) -> Result<(DomainRecord, EndedOrders), StoreError> {
        self.together.records.call(self, id).await
    }

    /// The domains with these names and keys, as far as they are still there.
    async fn records_of(
        &self,
        found: &[(Uuid, String)],
    ) -> Result<HashMap<Uuid, Result<DomainRecord, StoreError>>, StoreError> {
        let ids: Vec<_> = found.iter().map(|(id, _)| *id).collect();
        let around = found.iter().flat_map(|(id, host)| around(host).into_iter().map(|name| (*id, name)));
        let (inner, names): (Vec<_>, Vec<_>) = around.unzip();
        let rows = sqlx::query_as!(
            DomainColumns,
            r#"SELECT d.id, d.host, d.version, d.token, d.token_expires_at, d.zone, d.gates, d.spread, d.fingerprint,
                      g.survey AS "survey?", d.enrolled_at, d.superseded, g.baseline AS "baseline?",
                      d.moved_at, d.is_primary, g.probe AS "probe?", g.visit AS "visit?", d.ended_at, d.ending, d.paused_at, a.suspended_at,
                      d.held_since, d.entry_path, d.error_path, d.switch_at, d.label, d.is_proved_by_zone,
                      n.name AS "next_site?", a.allowance,
                      CASE WHEN a.allowance IS NULL THEN 0 ELSE (SELECT count(*) FROM (
                          SELECT FROM domains e WHERE e.account_id = d.account_id AND e.ended_at IS NULL
                             AND e.is_primary AND (d.pair_id IS NULL OR e.pair_id IS DISTINCT FROM d.pair_id)
                             AND (e.enrolled_at, e.id) < (d.enrolled_at, d.id)
                          LIMIT a.allowance + 1) e) END AS "before!",
                      EXISTS (SELECT FROM domains h WHERE h.host = d.host AND h.held_since IS NOT NULL
                              AND h.id <> d.id) AS "is_held_by_another!",
                      c.phase AS "phase?", c.grace_ends_at AS "grace_ends_at?",
                      (SELECT h.host FROM unnest($2::uuid[], $3::text[]) AS n (id, name) CROSS JOIN LATERAL (
                           SELECT host, account_id FROM domains
                           WHERE host = n.name AND held_since IS NOT NULL OFFSET 0) h
                       WHERE n.id = d.id AND h.account_id <> d.account_id ORDER BY length(h.host) DESC LIMIT 1) AS inside,
                      p.id AS "other_id?", p.host AS "other?", p.stage AS "other_stage?",
                      p.certificate AS "other_certificate?", p.spread AS "other_spread?",
                      EXISTS (SELECT FROM orders_in_flight f WHERE f.domain_id = p.id) AS "other_is_ordered!",
                      s.name AS site, s.default_host, a.name AS account, i.name AS ingress,
                      i.revision, i.ipv4, i.ipv6, i.canonical, i.name_servers, i.subdomain_addresses,
                      d.operator, k.course AS "course?", k.begun_at AS "begun_at?",
                      t.due AS "due?", greatest(d.looked_at, t.seen_at) AS seen_at
               FROM domains d
               JOIN sites s ON s.id = d.site_id
               JOIN accounts a ON a.id = d.account_id
               JOIN ingresses i ON i.id = s.ingress_id
               LEFT JOIN sites n ON n.id = d.next_site_id
               LEFT JOIN LATERAL (SELECT phase, grace_ends_at FROM contests
                                  WHERE (challenger_id = d.id OR holder_id = d.id) AND host = d.host
                                    AND settled_at IS NULL
                                  ORDER BY opened_at LIMIT 1) c ON true
               LEFT JOIN LATERAL (SELECT id, host, stage, certificate, spread FROM domains
                                  WHERE pair_id = d.pair_id AND id <> d.id OFFSET 0) p ON true
               LEFT JOIN sightings g ON g.domain_id = d.id
               LEFT JOIN courses k ON k.domain_id = d.id
               LEFT JOIN tasks t ON t.domain_id = d.id
                   AND t.kind = CASE WHEN d.ended_at IS NULL THEN 'look' ELSE 'watch' END
               WHERE d.id = ANY($1)"#,
            &ids,
            &inner,
            &names
        );
        let rows = rows.fetch_all(&self.pool).await?;
        Ok(rows.into_iter().map(|row| (row.id, row.read())).collect())
    }
}

/// Takes some domains up.
pub(crate) fn taken_up<'a>(store: &'a Store, ids: &'a [Uuid]) -> Done<'a, (DomainRecord, EndedOrders)> {
    async move {
        // Counted before anything is read that an order is decided by.
        let rows = sqlx::query!(
            r#"SELECT d.id, d.host, p.id AS "other_id?", (
                   SELECT count(*) FROM orders WHERE domain_ids && array_remove(ARRAY[d.id, p.id], NULL)
                   AND state <> 'open') AS "ended!"
               FROM domains d LEFT JOIN LATERAL (
                   SELECT id FROM domains WHERE pair_id = d.pair_id AND id <> d.id OFFSET 0) p ON true
               WHERE d.id = ANY($1)"#,
            ids
        )
        .fetch_all(&store.pool)
        .await?;

        let found: Vec<_> = rows.iter().map(|row| (row.id, row.host.clone())).collect();
        let mut records = store.records_of(&found).await?;
        let mut ended: HashMap<_, _> = rows
            .into_iter()
            .map(|row| (row.id, EndedOrders::of(iter::once(row.id).chain(row.other_id), row.ended)))
            .collect();
        let taken = ids.iter().map(|id| {
            let record = records.remove(id).unwrap_or_else(|| Err(gone(*id)))?;
            Ok((record, ended.remove(id).ok_or_else(|| gone(*id))?))
        });
        Ok(taken.collect())
    }
    .boxed()
}

fn gone(id: Uuid) -> StoreError {
    StoreError::missing("domain", &id.to_string())
}

/// Names around a host, and their wildcards: those by which it might be served
/// for another account.
fn around(host: &str) -> Vec<String> {
    let subject = Subject::kept(host);
    let registered = subject.host.registered().to_owned();
    let mut names = Vec::new();

    let mut name = subject.host.as_str();
    if subject.wildcard {
        names.push(name.to_owned());
    }
    while name.len() > registered.len() {
        let Some((_, parent)) = name.split_once('.') else { break };
        names.extend([parent.to_owned(), format!("*.{parent}")]);
        name = parent;
    }
    names.retain(|name| name != host);
    names
}

impl DomainColumns {
    fn read(self) -> Result<DomainRecord, StoreError> {
        let id = self.id;
        let pair = self.pair()?;
        let ties = self.ties()?;
        let ending = ties.ending;
        let baseline: Option<Baseline> = read_text("baseline", self.baseline)?;
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
            enrolled_at: self.enrolled_at,
            pair,
            ties,
        };

        Ok(DomainRecord {
            id,
            version: self.version,
            domain,
            account: self.account,
            default_host: self.default_host.into(),
            spread: self.spread,
            survey: read_text("survey", self.survey)?,
            baseline,
            looked_at: self.seen_at,
            next_look: self.due,
            probe: read_text("probe", self.probe)?,
            visit: read_text("visit", self.visit)?,
            operator: self.operator,
            course: courses::kept(self.course, self.begun_at)?,
            pair_id: self.other_id,
            ended: self.ended_at.zip(ending),
            paused_at: self.paused_at,
            suspended_at: self.suspended_at,
            held_since: self.held_since,
            entry_path: self.entry_path,
            error_path: self.error_path,
            next_site: self.next_site,
            switch_at: self.switch_at,
        })
    }

    fn ties(&self) -> Result<Ties, StoreError> {
        let holds = self.held_since.is_some();
        let standing =
            claims::standing(holds, self.is_held_by_another, self.phase.as_deref(), self.grace_ends_at)?;

        let granted = self.allowance.and_then(|granted| u32::try_from(granted).ok());
        let used = u32::try_from(self.before).unwrap_or(u32::MAX);
        let has_room = Allowance { granted, used }.has_room();

        Ok(Ties {
            standing,
            ending: self.ending.as_deref().map(|ending| word("ending", ending)).transpose()?,
            inside: self.inside.as_deref().map(DnsName::new),
            beyond: granted.filter(|_| !has_room),
            proof_at: if self.is_proved_by_zone { ProofAt::Zone } else { ProofAt::Host },
            label: Some(self.label.clone()),
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

//! Taking domains in.

use std::collections::HashSet;

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::claim::allowance::Allowance;
use nomenta_core::judge::gate::{GateName, Gates};
use nomenta_core::name::sought;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::events::{self, About};
use crate::lanes::Lane;
use crate::places::Whose;
use crate::tasks::{self, TaskKind};

/// A domain to take in.
#[derive(Clone, Debug)]
pub struct NewDomain {
    /// The name.
    pub subject: Subject,
    /// Its token.
    pub token: Token,
}

/// Domains of one site to take in.
#[derive(Clone, Debug)]
pub struct Enrolment<'a> {
    /// The site that they will show.
    pub site: &'a str,
    /// Whose sites there are, for whoever asks.
    pub whose: &'a Whose,
    /// The domains; of a pair, the primary first.
    pub domains: &'a [NewDomain],
    /// Whether they are the two of a pair.
    pub is_pair: bool,
    /// Whether one token at the zone's apex proves them, along with every other such
    /// name of the account there.
    pub is_proved_by_zone: bool,
    /// When their tokens run out.
    pub token_expires_at: DateTime<Utc>,
}

impl<'a> Enrolment<'a> {
    /// Of single names, each with a proof of its own, for whatever account has the site.
    pub fn new(site: &'a str, domains: &'a [NewDomain], token_expires_at: DateTime<Utc>) -> Self {
        Self {
            site,
            whose: &Whose::Everybodys,
            domains,
            is_pair: false,
            is_proved_by_zone: false,
            token_expires_at,
        }
    }
}

impl Store {
    /// Takes domains in, all or none, and makes them due for a look; returns the key of
    /// the first. What other accounts claim makes no difference.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown site; [`StoreError::Suspended`] and
    /// [`StoreError::NoRoom`] by how its account stands; [`StoreError::Taken`] with
    /// the first name, in order, that the account claims already. Nothing is written
    /// then.
    pub async fn enrol(&self, new: &Enrolment<'_>) -> Result<Uuid, StoreError> {
        let now = Utc::now();
        let mut tx = self.begin().await?;
        let owner = owner(&mut tx, new).await?;

        let ids: Vec<_> = new.domains.iter().map(|_| Uuid::now_v7()).collect();
        let pair_id = new.is_pair.then(Uuid::now_v7);
        let rows = ids.iter().zip(new.domains).enumerate().map(|(place, (id, domain))| NewRow {
            id: *id,
            domain: domain.clone(),
            owner: &owner,
            pair_id,
            is_primary: pair_id.is_none() || place == 0,
            is_proved_by_zone: new.is_proved_by_zone,
        });
        let rows: Vec<_> = rows.collect();
        insert(&mut tx, &rows, new.token_expires_at, Lane::First, now).await?;

        let event = Event::Enrolled { site: new.site.to_owned(), account: owner.account.clone() };
        let hosts: Vec<_> = new.domains.iter().map(|domain| domain.subject.to_string()).collect();
        let about: Vec<_> = ids.iter().zip(&hosts).map(|(id, host)| About { id: Some(*id), host }).collect();
        events::append_for(&mut tx, &about, now, &event).await?;
        self.commit_work(tx).await?;

        // There is always one: nobody asks for none.
        ids.first().copied().ok_or_else(|| StoreError::missing("domain", ""))
    }
}

/// The site that domains are taken in for, and whose it is.
pub(crate) struct Owner {
    pub site_id: Uuid,
    pub ingress_id: Uuid,
    pub account_id: Uuid,
    pub account: String,
    pub label: String,
}

/// A domain as it is taken in.
pub(crate) struct NewRow<'a> {
    pub id: Uuid,
    pub domain: NewDomain,
    pub owner: &'a Owner,
    pub pair_id: Option<Uuid>,
    pub is_primary: bool,
    pub is_proved_by_zone: bool,
}

/// Finds the site, and whether its account may have one more domain; the account
/// is locked, so that two at once do not take the same last place.
async fn owner(tx: &mut PgConnection, new: &Enrolment<'_>) -> Result<Owner, StoreError> {
    let site = sqlx::query!(
        "SELECT s.id, s.label, s.account_id, s.ingress_id, a.name AS account, a.allowance, a.suspended_at
         FROM sites s JOIN accounts a ON a.id = s.account_id
         WHERE s.name = $1 AND ($2::uuid[] IS NULL OR s.account_id = ANY($2)) FOR NO KEY UPDATE OF a",
        new.site,
        new.whose.accounts()
    )
    .fetch_optional(&mut *tx)
    .await?
    .ok_or_else(|| StoreError::missing("site", new.site))?;

    if site.suspended_at.is_some() {
        return Err(StoreError::Suspended);
    }
    if let Some(granted) = site.allowance {
        let used = sqlx::query_scalar!(
            r#"SELECT count(*) AS "used!" FROM (SELECT FROM domains WHERE account_id = $1 AND ended_at IS NULL
               AND is_primary LIMIT $2) d"#,
            site.account_id,
            i64::from(granted)
        );
        let granted = u32::try_from(granted).unwrap_or(0);
        let used = u32::try_from(used.fetch_one(&mut *tx).await?).unwrap_or(u32::MAX);
        if !(Allowance { granted: Some(granted), used }).has_room() {
            return Err(StoreError::NoRoom(granted));
        }
    }

    Ok(Owner {
        site_id: site.id,
        ingress_id: site.ingress_id,
        account_id: site.account_id,
        account: site.account,
        label: site.label,
    })
}

/// Writes domains, all in one statement, and makes them due for a look.
///
/// # Errors
/// [`StoreError::Taken`] with the first name, in order, that its account claims already.
pub(crate) async fn insert(
    tx: &mut PgConnection,
    rows: &[NewRow<'_>],
    token_expires_at: DateTime<Utc>,
    lane: Lane,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let mut hosts: Vec<_> = rows.iter().map(|row| row.domain.subject.to_string()).collect();
    let ids: Vec<_> = rows.iter().map(|row| row.id).collect();
    let searched: Vec<_> = hosts.iter().map(|host| sought::of(host)).collect();
    let zones: Vec<_> = rows.iter().map(|row| row.domain.subject.host.registered().to_owned()).collect();
    let tokens: Vec<_> = rows.iter().map(|row| row.domain.token.as_str().to_owned()).collect();
    let primary: Vec<_> = rows.iter().map(|row| row.is_primary).collect();
    let pairs: Vec<_> = rows.iter().map(|row| row.pair_id).collect();
    let by_zone: Vec<_> = rows.iter().map(|row| row.is_proved_by_zone).collect();

    let sites: Vec<_> = rows.iter().map(|row| row.owner.site_id).collect();
    let accounts: Vec<_> = rows.iter().map(|row| row.owner.account_id).collect();
    let ingresses: Vec<_> = rows.iter().map(|row| row.owner.ingress_id).collect();
    let labels: Vec<_> = rows.iter().map(|row| row.owner.label.clone()).collect();

    let gates = Gates::new(now);
    let state = |name: GateName| gates.get(name).state.as_str();

    // By name, so that two pairs at once do not wait for each other; a name that its
    // zone proves has the token of the others there.
    let taken_in = sqlx::query_scalar!(
        "WITH n AS (
             SELECT * FROM unnest($1::uuid[], $2::text[], $3::text[], $4::text[], $5::text[], $6::boolean[], $7::uuid[],
                                  $8::boolean[], $9::uuid[], $10::uuid[], $11::uuid[], $12::text[])
                 WITH ORDINALITY AS n (id, host, zone, token, sought, is_primary, pair_id, by_zone, site_id, account_id,
                                       ingress_id, label, place)),
         proved AS (
             SELECT n.*, CASE WHEN n.by_zone THEN coalesce(z.token, first_value(n.token) OVER (
                             PARTITION BY n.by_zone, n.account_id, n.zone ORDER BY n.place)) ELSE n.token END AS proof
             FROM n LEFT JOIN LATERAL (
                 SELECT token FROM domains
                 WHERE n.by_zone AND account_id = n.account_id AND ended_at IS NULL AND is_proved_by_zone
                   AND zone = n.zone AND (held_since IS NOT NULL OR token_expires_at > $20)
                 ORDER BY held_since NULLS LAST, enrolled_at LIMIT 1) z ON true)
         INSERT INTO domains (id, host, zone, token, is_primary, pair_id, site_id, token_expires_at, gates, stage,
             ownership, routing, certificate, serving, enrolled_at, account_id, label, is_proved_by_zone, ingress_id, sought)
         SELECT p.id, p.host, p.zone, p.proof, p.is_primary, p.pair_id, p.site_id, $13::timestamptz, $14::jsonb, $15,
             $16, $17, $18, $19, $20::timestamptz, p.account_id, p.label, p.by_zone, p.ingress_id, p.sought
         FROM proved p ORDER BY p.host
         ON CONFLICT (account_id, host) WHERE ended_at IS NULL DO NOTHING RETURNING host",
        &ids,
        &hosts,
        &zones,
        &tokens,
        &searched,
        &primary,
        &pairs as &[Option<Uuid>],
        &by_zone,
        &sites,
        &accounts,
        &ingresses,
        &labels,
        token_expires_at,
        json!(gates),
        gates.stage().to_string(),
        state(GateName::Ownership),
        state(GateName::Routing),
        state(GateName::Certificate),
        state(GateName::Serving),
        now
    )
    .fetch_all(&mut *tx)
    .await?;

    if taken_in.len() < hosts.len() {
        let taken_in: HashSet<_> = taken_in.into_iter().collect();
        hosts.retain(|host| !taken_in.contains(host));
        return Err(StoreError::Taken {
            what: "a domain",
            name: hosts.into_iter().min().unwrap_or_default(),
        });
    }
    tasks::wake_in(tx, &ids, TaskKind::Look, now, lane).await?;
    Ok(())
}

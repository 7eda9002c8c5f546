//! Taking domains in.

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
    /// The account that it must be of, if that is told.
    pub account_id: Option<Uuid>,
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
        Self { site, account_id: None, domains, is_pair: false, is_proved_by_zone: false, token_expires_at }
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
        let mut tx = self.pool.begin().await?;
        let owner = owner(&mut tx, new).await?;

        let ids: Vec<_> = new.domains.iter().map(|_| Uuid::now_v7()).collect();
        insert(&mut tx, new, &owner, &ids, now).await?;
        sqlx::query!(
            "INSERT INTO tasks (domain_id, kind, due) SELECT id, 'look', $2 FROM unnest($1::uuid[]) AS n (id)",
            &ids,
            now
        )
        .execute(&mut *tx)
        .await?;

        let event = Event::Enrolled { site: new.site.to_owned(), account: owner.account };
        let hosts: Vec<_> = new.domains.iter().map(|domain| domain.subject.to_string()).collect();
        let about: Vec<_> = ids.iter().zip(&hosts).map(|(id, host)| About { id: Some(*id), host }).collect();
        events::append_for(&mut tx, &about, now, &event).await?;
        self.commit_work(tx).await?;

        // There is always one: nobody asks for none.
        ids.first().copied().ok_or_else(|| StoreError::missing("domain", ""))
    }
}

/// The site that domains are taken in for, and whose it is.
struct Owner {
    site_id: Uuid,
    ingress_id: Uuid,
    account_id: Uuid,
    account: String,
    label: String,
}

/// Finds the site, and whether its account may have one more domain; the account
/// is locked, so that two at once do not take the same last place.
async fn owner(tx: &mut PgConnection, new: &Enrolment<'_>) -> Result<Owner, StoreError> {
    let site = sqlx::query!(
        "SELECT s.id, s.label, s.account_id, s.ingress_id, a.name AS account, a.allowance, a.suspended_at
         FROM sites s JOIN accounts a ON a.id = s.account_id
         WHERE s.name = $1 AND ($2::uuid IS NULL OR s.account_id = $2) FOR NO KEY UPDATE OF a",
        new.site,
        new.account_id
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

/// Writes the rows, all in one statement.
async fn insert(
    tx: &mut PgConnection,
    new: &Enrolment<'_>,
    owner: &Owner,
    ids: &[Uuid],
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let mut hosts: Vec<_> = new.domains.iter().map(|domain| domain.subject.to_string()).collect();
    let searched: Vec<_> = hosts.iter().map(|host| sought::of(host)).collect();
    let zones: Vec<_> =
        new.domains.iter().map(|domain| domain.subject.host.registered().to_owned()).collect();
    let tokens: Vec<_> = new.domains.iter().map(|domain| domain.token.as_str().to_owned()).collect();

    let gates = Gates::new(now);
    let state = |name: GateName| gates.get(name).state.as_str();
    let pair_id = new.is_pair.then(Uuid::now_v7);

    // By name, so that two pairs at once do not wait for each other; a name that its
    // zone proves has the token of the others there.
    let taken_in = sqlx::query_scalar!(
        "INSERT INTO domains (id, host, zone, token, is_primary, pair_id, site_id, token_expires_at, gates, stage,
             ownership, routing, certificate, serving, enrolled_at, account_id, label, is_proved_by_zone, ingress_id, sought)
         SELECT n.id, n.host, n.zone, coalesce(z.token, n.token), $5::uuid IS NULL OR n.place = 1, $5, $6,
             $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17, $18, n.sought
         FROM unnest($1::uuid[], $2::text[], $3::text[], $4::text[], $19::text[])
             WITH ORDINALITY AS n (id, host, zone, token, sought, place)
         LEFT JOIN LATERAL (SELECT token FROM domains
                            WHERE $17 AND account_id = $15 AND ended_at IS NULL AND is_proved_by_zone
                              AND zone = n.zone AND (held_since IS NOT NULL OR token_expires_at > $14)
                            ORDER BY held_since NULLS LAST, enrolled_at LIMIT 1) z ON true
         ORDER BY n.host
         ON CONFLICT (account_id, host) WHERE ended_at IS NULL DO NOTHING RETURNING host",
        ids,
        &hosts,
        &zones,
        &tokens,
        pair_id,
        owner.site_id,
        new.token_expires_at,
        json!(gates),
        gates.stage().to_string(),
        state(GateName::Ownership),
        state(GateName::Routing),
        state(GateName::Certificate),
        state(GateName::Serving),
        now,
        owner.account_id,
        owner.label,
        new.is_proved_by_zone,
        owner.ingress_id,
        &searched
    )
    .fetch_all(&mut *tx)
    .await?;

    hosts.retain(|host| !taken_in.contains(host));
    match hosts.into_iter().min() {
        Some(name) => Err(StoreError::Taken { what: "a domain", name }),
        None => Ok(()),
    }
}

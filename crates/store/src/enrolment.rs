//! Taking domains in.

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::judge::gate::{GateName, Gates};
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::channel::{self, Channel};
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
    /// The domains; of a pair, the primary first.
    pub domains: &'a [NewDomain],
    /// Whether they are the two of a pair.
    pub is_pair: bool,
    /// When their tokens run out.
    pub token_expires_at: DateTime<Utc>,
}

impl Store {
    /// Takes domains in, all or none, and makes them due for a look.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown site; [`StoreError::Taken`] with
    /// the first name, in order, that is enrolled already. Nothing is written
    /// then.
    pub async fn enrol(&self, new: &Enrolment<'_>) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;

        let site = sqlx::query!(
            "SELECT s.id, a.name AS account FROM sites s JOIN accounts a ON a.id = s.account_id
             WHERE s.name = $1",
            new.site
        )
        .fetch_optional(&mut *tx)
        .await?
        .ok_or_else(|| StoreError::missing("site", new.site))?;

        let ids: Vec<_> = new.domains.iter().map(|_| Uuid::now_v7()).collect();
        insert(&mut tx, new, site.id, &ids, now).await?;
        sqlx::query!(
            "INSERT INTO tasks (domain_id, kind, due) SELECT id, 'look', $2 FROM unnest($1::uuid[]) AS n (id)",
            &ids,
            now
        )
        .execute(&mut *tx)
        .await?;

        channel::notify(&mut tx, Channel::Work).await?;

        let event = Event::Enrolled { site: new.site.to_owned(), account: site.account };
        let hosts: Vec<_> = new.domains.iter().map(|domain| domain.subject.to_string()).collect();
        let about: Vec<_> = ids.iter().zip(&hosts).map(|(id, host)| About { id: Some(*id), host }).collect();
        events::append_for(&mut tx, &about, now, &event).await?;
        tx.commit().await?;

        Ok(())
    }
}

/// Writes the rows, all in one statement.
async fn insert(
    tx: &mut PgConnection,
    new: &Enrolment<'_>,
    site_id: Uuid,
    ids: &[Uuid],
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let mut hosts = Vec::new();
    let mut zones = Vec::new();
    let mut tokens = Vec::new();

    for domain in new.domains {
        hosts.push(domain.subject.to_string());
        zones.push(domain.subject.host.registered().to_owned());
        tokens.push(domain.token.as_str().to_owned());
    }

    let gates = Gates::new(now);
    let state = |name: GateName| gates.get(name).state.as_str();
    let pair_id = new.is_pair.then(Uuid::now_v7);

    // A name that has left may come back, to anyone.
    sqlx::query!("DELETE FROM domains WHERE host = ANY($1) AND released_at IS NOT NULL", &hosts)
        .execute(&mut *tx)
        .await?;

    let taken_in = sqlx::query_scalar!(
        "INSERT INTO domains (id, host, zone, token, is_primary, pair_id, site_id, token_expires_at, gates, stage,
             ownership, routing, certificate, serving, enrolled_at)
         SELECT n.id, n.host, n.zone, n.token, $5::uuid IS NULL OR n.place = 1, $5, $6, $7, $8, $9,
             $10, $11, $12, $13, $14
         FROM unnest($1::uuid[], $2::text[], $3::text[], $4::text[])
             WITH ORDINALITY AS n (id, host, zone, token, place)
         ON CONFLICT (host) DO NOTHING RETURNING host",
        ids,
        &hosts,
        &zones,
        &tokens,
        pair_id,
        site_id,
        new.token_expires_at,
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

    hosts.retain(|host| !taken_in.contains(host));
    match hosts.into_iter().min() {
        Some(name) => Err(StoreError::Taken { what: "a domain", name }),
        None => Ok(()),
    }
}

//! What happened, in the order in which it was committed.

use chrono::{DateTime, Utc};
use serde_json::Value;
use sqlx::PgConnection;
use sqlx::postgres::PgListener;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;

/// Serialises the writers of events, so that a reader who has seen number 7
/// will never meet a 6 that was committed later.
const EVENT_LOCK: i64 = 0x6e6f_6d65;

/// Kinds of event.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EventKind {
    /// A domain was taken in.
    Enrolled,
    /// The token was replaced by a new one.
    TokenRotated,
    /// A gate changed its state.
    Gate,
    /// A finding was seen for the first time.
    FindingOpened,
    /// A finding is gone.
    FindingCleared,
    /// A certificate order is about to be placed.
    OrderPlaced,
    /// The issuer refused it.
    OrderRefused,
    /// A certificate was issued.
    CertificateIssued,
    /// The customer brought one in.
    CertificateBrought,
    /// The issuer revoked one.
    CertificateRevoked,
    /// Something about a domain that was in order has changed.
    Drift,
    /// The domain has left the platform.
    Released,
}

impl EventKind {
    /// As it is written in records and feeds.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Enrolled => "domain.enrolled",
            Self::TokenRotated => "token.rotated",
            Self::Gate => "gate.changed",
            Self::FindingOpened => "finding.opened",
            Self::FindingCleared => "finding.cleared",
            Self::OrderPlaced => "order.placed",
            Self::OrderRefused => "order.refused",
            Self::CertificateIssued => "certificate.issued",
            Self::CertificateBrought => "certificate.brought",
            Self::CertificateRevoked => "certificate.revoked",
            Self::Drift => "domain.drifted",
            Self::Released => "domain.released",
        }
    }
}

/// An event as it is stored.
#[derive(Clone, Debug)]
pub struct EventRow {
    /// Position in the order of commits.
    pub seq: i64,
    /// Identifies the event anywhere.
    pub id: Uuid,
    /// The domain.
    pub host: Option<String>,
    /// See [`EventKind::as_str`].
    pub kind: String,
    /// When.
    pub at: DateTime<Utc>,
    /// Details by kind.
    pub data: Value,
}

/// The domain that events are about.
#[derive(Clone, Copy)]
pub(crate) struct About<'a> {
    pub id: Uuid,
    pub host: &'a str,
}

/// Writes events as the last part of a transaction.
pub(crate) async fn append(
    tx: &mut PgConnection,
    about: About<'_>,
    at: DateTime<Utc>,
    events: &[(EventKind, Value)],
) -> Result<(), StoreError> {
    append_at(tx, Some(about.id), about.host, at, events).await
}

/// The same for a domain that may be gone.
pub(crate) async fn append_at(
    tx: &mut PgConnection,
    domain_id: Option<Uuid>,
    host: &str,
    at: DateTime<Utc>,
    events: &[(EventKind, Value)],
) -> Result<(), StoreError> {
    if events.is_empty() {
        return Ok(());
    }
    // One statement for all of them: others wait for the lock.
    let ids: Vec<_> = events.iter().map(|_| Uuid::now_v7()).collect();
    let (kinds, data): (Vec<_>, Vec<_>) =
        events.iter().map(|(kind, data)| (kind.as_str().to_owned(), data.clone())).unzip();
    lock(tx).await?;
    sqlx::query!(
        "INSERT INTO events (id, domain_id, host, kind, at, data)
         SELECT n.id, $2, $3, n.kind, $4, n.data
         FROM unnest($1::uuid[], $5::text[], $6::jsonb[]) WITH ORDINALITY AS n (id, kind, data, place)
         ORDER BY n.place",
        &ids,
        domain_id,
        host,
        at,
        &kinds,
        &data
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!("SELECT pg_notify('nomenta_events', '')").fetch_one(&mut *tx).await?;
    Ok(())
}

/// Holds back other writers until the transaction ends.
pub(crate) async fn lock(tx: &mut PgConnection) -> Result<(), StoreError> {
    sqlx::query!("SELECT pg_advisory_xact_lock($1)", EVENT_LOCK).fetch_one(&mut *tx).await?;
    Ok(())
}

/// Writes the same event of many domains.
pub(crate) async fn append_many(
    tx: &mut PgConnection,
    domains: &[Uuid],
    hosts: &[String],
    at: DateTime<Utc>,
    kind: EventKind,
    data: &Value,
) -> Result<(), StoreError> {
    lock(tx).await?;
    let ids: Vec<_> = domains.iter().map(|_| Uuid::now_v7()).collect();
    sqlx::query!(
        "INSERT INTO events (id, domain_id, host, kind, at, data)
         SELECT n.id, n.domain_id, n.host, $4, $5, $6
         FROM unnest($1::uuid[], $2::uuid[], $3::text[]) AS n (id, domain_id, host)",
        &ids,
        domains,
        hosts,
        kind.as_str(),
        at,
        data
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!("SELECT pg_notify('nomenta_events', '')").fetch_one(&mut *tx).await?;
    Ok(())
}

impl Store {
    /// Events after position `after`, oldest first, of one domain or of all.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn events(
        &self,
        host: Option<&str>,
        after: i64,
        limit: i64,
    ) -> Result<Vec<EventRow>, StoreError> {
        let rows = sqlx::query_as!(
            EventRow,
            "SELECT e.seq, e.id, e.host, e.kind, e.at, e.data FROM events e
             WHERE e.seq > $2
               AND ($1::text IS NULL OR e.host = $1)
             ORDER BY e.seq LIMIT $3",
            host,
            after,
            limit
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Position of the newest event; 0 before the first.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn last_event(&self) -> Result<i64, StoreError> {
        let seq = sqlx::query_scalar!(r#"SELECT coalesce(max(seq), 0) AS "seq!" FROM events"#);
        Ok(seq.fetch_one(&self.pool).await?)
    }

    /// Hears when events, work or changes for the edge arrive from any process.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn listen(&self) -> Result<Listener, StoreError> {
        let mut inner = PgListener::connect_with(&self.pool).await?;
        inner.listen_all(["nomenta_events", "nomenta_work", "nomenta_edge"]).await?;
        Ok(Listener { inner })
    }
}

/// Hears when something arrives.
pub struct Listener {
    inner: PgListener,
}

/// What has arrived.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Heard {
    /// Events.
    Events,
    /// Work to do.
    Work,
    /// Changes for the edge.
    Edge,
}

impl Listener {
    /// Waits for the next call. The connection is made anew by itself when it
    /// breaks.
    ///
    /// # Errors
    /// If the database stays away.
    pub async fn heard(&mut self) -> Result<Heard, StoreError> {
        Ok(match self.inner.recv().await?.channel() {
            "nomenta_events" => Heard::Events,
            "nomenta_edge" => Heard::Edge,
            _ => Heard::Work,
        })
    }
}

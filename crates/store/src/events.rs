//! What happened, in the order in which it was committed.

use chrono::{DateTime, Utc};
use nomenta_api::event::{Event, EventKind};
use serde_json::Value;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error;
use crate::places::Whose;

/// An event as it is stored.
#[derive(Clone, Debug)]
pub struct EventRow {
    /// Position in the order of commits.
    pub seq: i64,
    /// Identifies the event anywhere.
    pub id: Uuid,
    /// The domain.
    pub host: Option<String>,
    /// When.
    pub at: DateTime<Utc>,
    /// What happened.
    pub event: Event,
}

/// Which events.
#[derive(Clone, Debug, Default)]
pub struct EventFilter {
    /// Only of this domain.
    pub domain: Option<Uuid>,
    /// Only of these accounts' domains.
    pub whose: Whose,
}

/// The domain that events are about.
#[derive(Clone, Copy)]
pub(crate) struct About<'a> {
    /// Key of its record; none if that is gone.
    pub id: Option<Uuid>,
    pub host: &'a str,
}

/// Writes what happened to one domain, as the last part of a transaction.
pub(crate) async fn append(
    tx: &mut PgConnection,
    about: About<'_>,
    at: DateTime<Utc>,
    events: &[Event],
) -> Result<(), StoreError> {
    let rows: Vec<_> = events.iter().map(|event| (about, event)).collect();
    insert(tx, &rows, at).await
}

/// Writes the same event of many domains.
pub(crate) async fn append_for(
    tx: &mut PgConnection,
    about: &[About<'_>],
    at: DateTime<Utc>,
    event: &Event,
) -> Result<(), StoreError> {
    let rows: Vec<_> = about.iter().map(|about| (*about, event)).collect();
    insert(tx, &rows, at).await
}

/// One statement for all of them; they are numbered once they are committed.
pub(crate) async fn insert(
    tx: &mut PgConnection,
    rows: &[(About<'_>, &Event)],
    at: DateTime<Utc>,
) -> Result<(), StoreError> {
    if rows.is_empty() {
        return Ok(());
    }

    let ids: Vec<Uuid> = rows.iter().map(|_| Uuid::now_v7()).collect();
    let domains: Vec<Option<Uuid>> = rows.iter().map(|row| row.0.id).collect();
    let hosts: Vec<String> = rows.iter().map(|row| row.0.host.to_owned()).collect();
    let kinds: Vec<String> = rows.iter().map(|row| row.1.kind().to_string()).collect();
    let data: Vec<Value> = rows.iter().map(|row| row.1.data()).collect();

    sqlx::query!(
        "INSERT INTO events_new (id, domain_id, account_id, host, kind, at, data)
         SELECT n.id, n.domain_id, (SELECT account_id FROM domains WHERE id = n.domain_id), n.host, n.kind, $6, n.data
         FROM unnest($1::uuid[], $2::uuid[], $3::text[], $4::text[], $5::jsonb[])
             WITH ORDINALITY AS n (id, domain_id, host, kind, data, place)
         ORDER BY n.place",
        &ids,
        &domains as &[Option<Uuid>],
        &hosts,
        &kinds,
        &data,
        at
    )
    .execute(&mut *tx)
    .await?;

    Ok(())
}

/// Events, by what the statement goes along.
macro_rules! events {
    ($store:expr, $along:literal, $domain:expr, $whose:expr, $after:expr, $limit:expr) => {
        sqlx::query_as!(
            EventColumns,
            "SELECT seq, id, host, kind, at, data FROM events
             WHERE seq > $3 AND coalesce(data->>'code', '') <> ALL($5) AND "
                + $along
                + " ORDER BY seq LIMIT $4",
            $domain,
            $whose.accounts(),
            $after,
            $limit,
            &$whose.unseen()
        )
        .fetch_all(&$store.pool)
        .await?
    };
}

struct EventColumns {
    seq: i64,
    id: Uuid,
    host: Option<String>,
    kind: String,
    at: DateTime<Utc>,
    data: Value,
}

impl Store {
    /// Events after position `after`, oldest first, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; [`StoreError::Unreadable`] for an event that
    /// this version does not know.
    pub async fn events(
        &self,
        of: &EventFilter,
        after: i64,
        limit: i64,
    ) -> Result<Vec<EventRow>, StoreError> {
        let whose = &of.whose;
        let rows = match (of.domain, whose.accounts()) {
            (Some(domain), _) => {
                self.number_all().await?;
                events!(
                    self,
                    "domain_id = $1 AND ($2::uuid[] IS NULL OR account_id = ANY($2))",
                    Some(domain),
                    whose,
                    after,
                    limit
                )
            }
            (None, Some(_)) => {
                events!(self, "account_id = ANY($2) AND $1::uuid IS NULL", None::<Uuid>, whose, after, limit)
            }
            (None, None) => {
                events!(self, "$1::uuid IS NULL AND $2::uuid[] IS NULL", None::<Uuid>, whose, after, limit)
            }
        };

        let mut events = Vec::with_capacity(rows.len());
        for row in rows {
            let kind: EventKind = error::word("event", &row.kind)?;
            let event =
                Event::read(kind, row.data).map_err(|cause| StoreError::unreadable("event", cause))?;

            events.push(EventRow { seq: row.seq, id: row.id, host: row.host, at: row.at, event });
        }

        Ok(events)
    }

    /// Position of the newest event; 0 before the first.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn last_event(&self) -> Result<i64, StoreError> {
        let seq = sqlx::query_scalar!(r#"SELECT coalesce(max(seq), 0) AS "seq!" FROM events"#);
        Ok(seq.fetch_one(&self.pool).await?)
    }
}

//! Locking claims, and what a transaction about them tells at its end.
//!
//! Every transaction that writes about a claim begins with [`lock`]. The order of
//! locks is one for all of them: an account, claims by their key, tasks by their
//! key, orders and certificates. What has happened is numbered once it is committed.

use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::judge::gate::Gates;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::StoreError;
use crate::edge;
use crate::error::read;
use crate::events::{self, About};
use crate::tasks;
use crate::version::Expected;

/// A claim as it stands under its lock.
#[derive(Clone, Debug)]
pub(crate) struct Locked {
    pub id: Uuid,
    pub host: String,
    pub pair_id: Option<Uuid>,
    pub holds: bool,
    pub is_at_work: bool,
    pub version: i64,
    pub gates: Gates,
}

pub(crate) struct LockedColumns {
    pub id: Uuid,
    pub host: String,
    pub pair_id: Option<Uuid>,
    pub holds: bool,
    pub is_at_work: bool,
    pub version: i64,
    pub gates: serde_json::Value,
}

impl LockedColumns {
    pub(crate) fn read(self) -> Result<Locked, StoreError> {
        Ok(Locked {
            id: self.id,
            host: self.host,
            pair_id: self.pair_id,
            holds: self.holds,
            is_at_work: self.is_at_work,
            version: self.version,
            gates: read("gate", self.gates)?,
        })
    }
}

/// The locked claims of some names, those of the one that was asked for first.
#[derive(Clone, Debug)]
pub(crate) struct Claims(pub Vec<Locked>);

impl Claims {
    /// The claim with this key, if it has not ended.
    pub(crate) fn get(&self, id: Uuid) -> Option<&Locked> {
        self.0.iter().find(|claim| claim.id == id)
    }

    /// The same, for who cannot go on without.
    ///
    /// # Errors
    /// [`StoreError::Ended`].
    pub(crate) fn open(&self, id: Uuid) -> Result<&Locked, StoreError> {
        self.get(id).ok_or(StoreError::Ended)
    }

    /// The same, for a change that is asked for of one version.
    ///
    /// # Errors
    /// [`StoreError::Ended`]; [`StoreError::Changed`].
    pub(crate) fn expect(&self, id: Uuid, expected: Expected) -> Result<&Locked, StoreError> {
        let claim = self.open(id)?;
        expected.meets(id, claim.version)?;
        Ok(claim)
    }

    /// The other one of a claim's pair.
    pub(crate) fn sibling(&self, id: Uuid) -> Option<&Locked> {
        let pair_id = self.get(id)?.pair_id?;
        self.0.iter().find(|claim| claim.pair_id == Some(pair_id) && claim.id != id)
    }
}

/// What a transaction tells: events, and hosts for which the edge needs something else.
#[derive(Debug, Default)]
pub(crate) struct Told {
    pub events: Vec<(Uuid, String, Event)>,
    pub touched: BTreeSet<String>,
}

impl Told {
    pub(crate) fn event(&mut self, claim: &Locked, event: Event) {
        self.events.push((claim.id, claim.host.clone(), event));
    }

    pub(crate) fn touch(&mut self, host: &str) {
        self.touched.insert(host.to_owned());
    }

    pub(crate) fn has_ended(&self, id: Uuid) -> bool {
        self.events.iter().any(|(of, _, event)| *of == id && event.is_end())
    }

    /// Writes it, as the last part of the transaction.
    pub(crate) async fn write(self, tx: &mut PgConnection, now: DateTime<Utc>) -> Result<(), StoreError> {
        let rows: Vec<_> =
            self.events.iter().map(|(id, host, event)| (About { id: Some(*id), host }, event)).collect();
        events::insert(tx, &rows, now).await?;

        let hosts: Vec<_> = self.touched.iter().map(String::as_str).collect();
        if hosts.is_empty() { Ok(()) } else { edge::touch(tx, &hosts).await }
    }
}

/// Locks some claims together with whatever may change with them: the other
/// claims of their names and the siblings of all of these, and then their tasks.
/// Claims that have ended are left out.
pub(crate) async fn lock(tx: &mut PgConnection, ids: &[Uuid]) -> Result<Claims, StoreError> {
    let rows = sqlx::query_as!(
        LockedColumns,
        r#"WITH asked AS (SELECT host FROM domains WHERE id = ANY($1) AND ended_at IS NULL),
                named AS (SELECT d.id, d.pair_id FROM asked a CROSS JOIN LATERAL (
                              SELECT id, pair_id FROM domains
                              WHERE host = a.host AND ended_at IS NULL OFFSET 0) d),
                sibling AS (SELECT d.id FROM named n CROSS JOIN LATERAL (
                              SELECT id FROM domains
                              WHERE pair_id = n.pair_id AND ended_at IS NULL OFFSET 0) d)
           SELECT id, host, pair_id, held_since IS NOT NULL AS "holds!", is_at_work, version, gates FROM domains
           WHERE id = ANY(ARRAY(SELECT id FROM named UNION SELECT id FROM sibling)) AND ended_at IS NULL
           ORDER BY id FOR NO KEY UPDATE"#,
        ids
    )
    .fetch_all(&mut *tx)
    .await?;

    with_tasks(tx, rows).await
}

/// Locks every claim of an account, and their tasks. The account must be locked.
pub(crate) async fn lock_account(tx: &mut PgConnection, account_id: Uuid) -> Result<Claims, StoreError> {
    let rows = sqlx::query_as!(
        LockedColumns,
        r#"SELECT id, host, pair_id, held_since IS NOT NULL AS "holds!", is_at_work, version, gates FROM domains
           WHERE account_id = $1 AND ended_at IS NULL ORDER BY id FOR NO KEY UPDATE"#,
        account_id
    )
    .fetch_all(&mut *tx)
    .await?;

    with_tasks(tx, rows).await
}

/// After claims come their tasks.
async fn with_tasks(tx: &mut PgConnection, rows: Vec<LockedColumns>) -> Result<Claims, StoreError> {
    let claims: Vec<_> = rows.into_iter().map(LockedColumns::read).collect::<Result<_, _>>()?;
    let ids: Vec<_> = claims.iter().map(|claim| claim.id).collect();
    tasks::lock(tx, &ids).await?;
    Ok(Claims(claims))
}

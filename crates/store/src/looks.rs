//! The end of a look: state, findings, events and what follows, in one
//! transaction.

use chrono::{DateTime, Utc};
use nomenta_core::finding::Finding;
use nomenta_core::gate::Gates;
use nomenta_core::step::Outcome;
use nomenta_core::survey::Survey;
use serde_json::{Value, json};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::events::{self, About, EventKind};
use crate::tasks::{self, TaskKind};
use crate::{DomainRecord, Lease, Store, StoreError};

/// An open finding with its times.
#[derive(Clone, Debug)]
pub struct FindingRow {
    /// The finding.
    pub finding: Finding,
    /// Since when it is open.
    pub first_seen: DateTime<Utc>,
    /// When it was confirmed last.
    pub last_seen: DateTime<Utc>,
}

impl Store {
    /// Writes what a look found. With `sealed_key` an order is opened too, to
    /// be worked on next; an order that is open already is left alone.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has taken the task; then
    /// nothing is written.
    pub async fn finish_look(
        &self,
        lease: &Lease,
        before: &DomainRecord,
        survey: &Survey,
        outcome: &Outcome,
        sealed_key: Option<&[u8]>,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let about = About { id: before.id, host: before.domain.host.as_str() };
        let mut tx = self.pool.begin().await?;
        tasks::finish(&mut tx, lease, Some(outcome.next_look)).await?;
        sqlx::query!(
            "UPDATE domains SET zone = $2, gates = $3, stage = $4, spread = $5, fingerprint = $6,
             quiet_looks = $7, survey = $8, looked_at = $9 WHERE id = $1",
            before.id,
            outcome.zone,
            json!(outcome.gates),
            outcome.gates.stage().to_string(),
            outcome.spread,
            outcome.fingerprint,
            outcome.quiet_looks,
            json!(survey),
            now
        )
        .execute(&mut *tx)
        .await?;
        let mut happened = gate_events(&before.domain.gates, &outcome.gates);
        happened.extend(write_findings(&mut tx, before.id, &outcome.findings, now).await?);
        if let Some(sealed_key) = sealed_key
            && open_order(&mut tx, before.id, sealed_key, now).await?
        {
            happened.push((EventKind::OrderPlaced, json!({})));
        }
        events::append(&mut tx, about, now, &happened).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Open findings of a domain, oldest first.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn findings(&self, domain_id: Uuid) -> Result<Vec<FindingRow>, StoreError> {
        let rows = sqlx::query!(
            "SELECT body, first_seen, last_seen FROM findings WHERE domain_id = $1 ORDER BY first_seen, code",
            domain_id
        )
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                let finding =
                    serde_json::from_value(r.body).map_err(|e| StoreError::unreadable("finding", e))?;
                Ok(FindingRow { finding, first_seen: r.first_seen, last_seen: r.last_seen })
            })
            .collect()
    }
}

fn gate_events(before: &Gates, after: &Gates) -> Vec<(EventKind, Value)> {
    let changed = before.0.iter().zip(&after.0).filter(|(b, a)| b.state != a.state);
    changed
        .map(|(b, a)| {
            let data = json!({ "gate": a.name, "from": b.state, "to": a.state, "reason": a.reason });
            (EventKind::Gate, data)
        })
        .collect()
}

/// Keeps the first-seen time of findings that stay open; returns the events
/// for those that came and went.
async fn write_findings(
    tx: &mut PgConnection,
    domain_id: Uuid,
    findings: &[Finding],
    now: DateTime<Utc>,
) -> Result<Vec<(EventKind, Value)>, StoreError> {
    let codes: Vec<String> = findings.iter().map(|f| f.code.clone()).collect();
    let gone = sqlx::query_scalar!(
        "DELETE FROM findings WHERE domain_id = $1 AND code <> ALL($2) RETURNING code",
        domain_id,
        &codes
    )
    .fetch_all(&mut *tx)
    .await?;
    let mut happened: Vec<_> =
        gone.into_iter().map(|code| (EventKind::FindingCleared, json!({ "code": code }))).collect();
    for finding in findings {
        let severity = json!(finding.severity);
        let new = sqlx::query_scalar!(
            r#"INSERT INTO findings (domain_id, code, severity, body, first_seen, last_seen)
               VALUES ($1, $2, $3, $4, $5, $5)
               ON CONFLICT (domain_id, code) DO UPDATE SET body = $4, last_seen = $5
               RETURNING (xmax = 0) AS "new!""#,
            domain_id,
            finding.code,
            severity.as_str(),
            json!(finding),
            now
        )
        .fetch_one(&mut *tx)
        .await?;
        if new {
            let data = json!({ "code": finding.code, "remedy": finding.remedy });
            happened.push((EventKind::FindingOpened, data));
        }
    }
    Ok(happened)
}

/// Opens an order and queues the work on it; `false` if one is open already.
async fn open_order(
    tx: &mut PgConnection,
    domain_id: Uuid,
    sealed_key: &[u8],
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let opened = sqlx::query!(
        "INSERT INTO orders (id, domain_id, state, sealed_key, placed_at) VALUES ($1, $2, 'open', $3, $4)
         ON CONFLICT (domain_id) WHERE state = 'open' DO NOTHING",
        Uuid::now_v7(),
        domain_id,
        sealed_key,
        now
    )
    .execute(&mut *tx)
    .await?;
    if opened.rows_affected() == 0 {
        return Ok(false);
    }
    tasks::wake(tx, domain_id, TaskKind::Order, now).await?;
    Ok(true)
}

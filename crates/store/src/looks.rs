//! The end of a look: state, findings, events and what follows, in one
//! transaction.

use chrono::{DateTime, Utc};
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::judge::drift::Drift;
use nomenta_core::judge::evidence::Probe;
use nomenta_core::judge::finding::Finding;
use nomenta_core::judge::gate::{GateName, GateState, Gates};
use nomenta_core::judge::step::Outcome;
use nomenta_core::judge::waiting::Wait;
use nomenta_core::name::token::Token;
use nomenta_core::reading::survey::Survey;
use serde_json::{Value, json};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Lease;
use crate::Store;
use crate::StoreError;
use crate::edge;
use crate::events::{self, About, EventKind};
use crate::orders::{self, NewOrder};
use crate::tasks;

/// What a look found.
pub struct Looked<'a> {
    /// The survey that was judged.
    pub survey: &'a Survey,
    /// Taken with the first look.
    pub baseline: Option<&'a Baseline>,
    /// The judgement.
    pub outcome: &'a Outcome,
    /// What a browser got, where that was tried.
    pub probe: Option<&'a Probe>,
    /// What has changed about a domain that was in order.
    pub drifts: &'a [Drift],
    /// An order to open, to be worked on next.
    pub order: Option<&'a NewOrder>,
}

/// Who saw the routing from one moment on.
#[derive(Clone, Debug)]
pub struct SpreadRow {
    /// Since when.
    pub at: DateTime<Utc>,
    /// Names of the vantages that see it.
    pub seeing: Vec<String>,
    /// Names of all that were asked.
    pub asked: Vec<String>,
}

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
    /// Writes what a look found. No second order is opened beside one on the way.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has taken the task; then
    /// nothing is written.
    pub async fn finish_look(
        &self,
        lease: &Lease,
        before: &DomainRecord,
        looked: &Looked<'_>,
        now: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let Looked { survey, baseline, outcome, probe, drifts, order } = looked;
        let name = before.domain.routed();
        let about = About { id: before.id, host: &name };
        let mut tx = self.pool.begin().await?;
        let next = tasks::Next { due: outcome.next_look, quick: outcome.quick, tries: 0 };
        tasks::finish(&mut tx, lease, Some(next)).await?;
        sqlx::query!(
            "UPDATE domains SET zone = $2, gates = $3, stage = $4, spread = $5, fingerprint = $6,
             quiet_looks = $7, survey = $8, looked_at = $9, moved_at = $10,
             baseline = coalesce(baseline, $11), probe = coalesce($12, probe) WHERE id = $1",
            before.id,
            outcome.zone,
            json!(outcome.gates),
            outcome.gates.stage().to_string(),
            outcome.spread,
            outcome.fingerprint,
            outcome.quiet_looks,
            json!(survey),
            now,
            outcome.moved_at,
            baseline.map(|b| json!(b)),
            probe.map(|p| json!(p))
        )
        .execute(&mut *tx)
        .await?;
        let token = &before.domain.token;
        let mut happened = gate_events(&before.domain.gates, &outcome.gates, token);
        happened.extend(write_findings(&mut tx, before.id, &outcome.findings, token, now).await?);
        write_spread(&mut tx, before.id, &outcome.waits, now).await?;
        happened.extend(drifts.iter().map(|drift| (EventKind::Drift, masked(drift, token))));
        let opened = match order {
            Some(order) => orders::open(&mut tx, order, now).await?.then_some(order),
            None => None,
        };
        events::append(&mut tx, about, now, &happened).await?;
        if let Some(order) = opened {
            orders::tell_opened(&mut tx, order, now).await?;
        }
        if is_routed_otherwise(&before.domain.gates, &outcome.gates) {
            let other = before.domain.pair.as_ref().map(|pair| pair.other.as_str());
            edge::touch(&mut tx, &std::iter::once(name.as_str()).chain(other).collect::<Vec<_>>()).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// How the routing spread over the vantages, oldest first.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn spreads(&self, domain_id: Uuid) -> Result<Vec<SpreadRow>, StoreError> {
        let rows = sqlx::query_as!(
            SpreadRow,
            "SELECT at, seeing, asked FROM spreads WHERE domain_id = $1 ORDER BY at",
            domain_id
        );
        Ok(rows.fetch_all(&self.pool).await?)
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

/// Whether the edge must know: a route comes and goes with ownership, the
/// redirect to a primary with its certificate.
fn is_routed_otherwise(before: &Gates, after: &Gates) -> bool {
    let counts = |gates: &Gates, name| matches!(gates.get(name).state, GateState::Passed | GateState::Lapsed);
    let differs = |name| counts(before, name) != counts(after, name);
    differs(GateName::Ownership) || differs(GateName::Certificate)
}

fn masked(drift: &Drift, token: &Token) -> Value {
    let mask = |values: &[String]| values.iter().map(|v| token.mask_in(v)).collect::<Vec<_>>();
    json!({ "what": drift.what, "from": mask(&drift.from), "to": mask(&drift.to) })
}

/// Adds a row when other vantages see the routing than before.
async fn write_spread(
    tx: &mut PgConnection,
    domain_id: Uuid,
    waits: &[Wait],
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    if waits.is_empty() {
        return Ok(());
    }
    let names = |sees: bool| waits.iter().filter(move |w| w.sees || !sees).map(|w| w.vantage.clone());
    let (seeing, asked): (Vec<_>, Vec<_>) = (names(true).collect(), names(false).collect());
    sqlx::query!(
        "INSERT INTO spreads (domain_id, at, seeing, asked) SELECT $1, $2, $3::text[], $4::text[]
         WHERE NOT EXISTS (
             SELECT FROM (SELECT seeing, asked FROM spreads WHERE domain_id = $1 ORDER BY at DESC LIMIT 1) last
             WHERE last.seeing = $3 AND last.asked = $4)",
        domain_id,
        now,
        &seeing,
        &asked
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// Events go to everyone who listens, so the token in them is masked.
fn gate_events(before: &Gates, after: &Gates, token: &Token) -> Vec<(EventKind, Value)> {
    let changed = before.0.iter().zip(&after.0).filter(|(b, a)| b.state != a.state);
    changed
        .map(|(b, a)| {
            let reason = token.mask_in(&a.reason);
            let data = json!({ "gate": a.name, "from": b.state, "to": a.state, "reason": reason });
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
    token: &Token,
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
            let data = json!({ "code": finding.code, "remedy": token.mask_in(&finding.remedy) });
            happened.push((EventKind::FindingOpened, data));
        }
    }
    Ok(happened)
}

//! The end of a look: state, findings, events and what follows, in one
//! transaction.

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::drift::Drift;
use nomenta_core::judge::evidence::Probe;
use nomenta_core::judge::finding::Finding;
use nomenta_core::judge::gate::{GateName, Gates};
use nomenta_core::judge::standing::Standing;
use nomenta_core::judge::step::Outcome;
use nomenta_core::judge::waiting::Wait;
use nomenta_core::learned::course::Course;
use nomenta_core::name::mask::Mask;
use nomenta_core::reading::survey::Survey;
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Lease;
use crate::Store;
use crate::StoreError;
use crate::claims;
use crate::courses;
use crate::error::{read, word};
use crate::events::{self, About};
use crate::lanes::Lane;
use crate::locks::{self, Told};
use crate::orders::{self, NewOrder};
use crate::tasks::{self, TaskKind};

/// What a look found.
pub struct Looked<'a> {
    /// The survey that was judged.
    pub survey: &'a Survey,
    /// Taken with the first look.
    pub baseline: Option<&'a Baseline>,
    /// The judgement.
    pub outcome: &'a Outcome,
    /// Who runs the zone's DNS, where the survey tells.
    pub operator: Option<&'a str>,
    /// How far its edit has come, where that is news.
    pub course: Option<&'a Course>,
    /// What a browser got, where that was tried.
    pub probe: Option<&'a Probe>,
    /// What has changed about a domain that was in order.
    pub drifts: &'a [Drift],
    /// An order to open, to be worked on next.
    pub order: Option<&'a NewOrder>,
}

impl Looked<'_> {
    /// The lane in which the domain is looked at next: a zone that did not answer now, or took all
    /// that a look may cost, will take its time again.
    fn next_lane(&self) -> Lane {
        let is_slow = |code| matches!(code, Code::Unreachable | Code::SurveyCutShort);
        let is_silent = self.outcome.findings.iter().any(|finding| is_slow(finding.code));
        if is_silent { Lane::Silent } else { Lane::Usual }
    }
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
        let outcome = looked.outcome;
        let mut tx = self.begin().await?;
        let claims = locks::lock(&mut tx, &[before.id]).await?;
        let claim = claims.get(before.id).ok_or(StoreError::LeaseLost)?;

        let next =
            tasks::Next { due: outcome.next_look, quick: outcome.quick, tries: 0, lane: looked.next_lane() };
        tasks::finish(&mut tx, lease, Some(next)).await?;
        write_state(&mut tx, before.id, looked, now).await?;
        write_spread(&mut tx, before.id, &outcome.waits, now).await?;
        if let Some(course) = looked.course {
            courses::write(&mut tx, before.id, looked.operator, course, now).await?;
        }

        let mask = before.domain.mask();
        let mut happened = gate_events(&before.domain.gates, &outcome.gates, &mask);
        happened.extend(write_findings(&mut tx, before.id, &outcome.findings, &mask, now).await?);
        // What stood there and what stands there now may be tokens of other claims too.
        let surveys = before.survey.iter().chain([looked.survey]);
        let mask = surveys.fold(mask, |mask, survey| mask.and(before.domain.mask_of_others(survey)));
        happened.extend(looked.drifts.iter().map(|drift| Event::Drifted(masked(drift, &mask))));

        let mut told = Told::default();
        happened.into_iter().for_each(|event| told.event(claim, event));
        if leads_otherwise(&before.domain.gates, &outcome.gates) {
            told.touch(&claim.host);
            claims.sibling(before.id).into_iter().for_each(|sibling| told.touch(&sibling.host));
        }
        let is_settled = matters_to_rivals(before, &outcome.gates);
        if is_settled {
            claims::settle(&mut tx, self, &claim.host, &mut told, now).await?;
        }

        let mut is_ordered = false;
        if let Some(order) = looked.order
            && claims::may_order(&mut tx, order).await?
            && orders::open(&mut tx, order, now).await?
        {
            orders::tell_opened(&mut told, order);
            is_ordered = true;
        }

        told.write(&mut tx, now).await?;
        // Most looks leave nothing to be done by anybody else.
        if is_settled || is_ordered { self.commit_work(tx).await } else { self.commit(tx).await }
    }

    /// Makes a domain due for a look now, or again once the running one ends.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left, [`StoreError::Resting`] if it is paused
    /// or its account suspended.
    pub async fn look_now(&self, domain_id: Uuid) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        let claims = locks::lock(&mut tx, &[domain_id]).await?;
        if !claims.open(domain_id)?.is_at_work {
            return Err(StoreError::Resting);
        }

        tasks::wake_in(&mut tx, &[domain_id], TaskKind::Look, Utc::now(), Lane::First).await?;
        self.commit_work(tx).await?;

        Ok(())
    }

    /// Writes what a domain that has left has left behind; it is seen again at `next`,
    /// if at all.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has taken the task.
    pub async fn finish_watch(
        &self,
        lease: &Lease,
        record: &DomainRecord,
        survey: &Survey,
        findings: &[Finding],
        next: Option<DateTime<Utc>>,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        let name = record.domain.routed();
        let mut tx = self.begin().await?;

        sqlx::query!(
            "UPDATE domains SET survey = $2, looked_at = $3, codes = $4 WHERE id = $1",
            record.id,
            json!(survey),
            now,
            &codes_of(findings)
        )
        .execute(&mut *tx)
        .await?;
        tasks::finish(
            &mut tx,
            lease,
            next.map(|due| tasks::Next { due, quick: None, tries: 0, lane: Lane::Usual }),
        )
        .await?;

        let happened = write_findings(&mut tx, record.id, findings, &record.domain.mask(), now).await?;
        events::append(&mut tx, About { id: Some(record.id), host: &name }, now, &happened).await?;
        self.commit(tx).await?;
        Ok(())
    }

    /// How the routing spread over the vantages, oldest first.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
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
    /// [`StoreError::Database`]; try again.
    pub async fn findings(&self, domain_id: Uuid) -> Result<Vec<FindingRow>, StoreError> {
        let rows = sqlx::query!(
            "SELECT body, first_seen, last_seen FROM findings WHERE domain_id = $1 ORDER BY first_seen, code",
            domain_id
        )
        .fetch_all(&self.pool)
        .await?;

        let mut findings = Vec::with_capacity(rows.len());
        for row in rows {
            let finding = read("finding", row.body)?;
            findings.push(FindingRow { finding, first_seen: row.first_seen, last_seen: row.last_seen });
        }

        Ok(findings)
    }
}

async fn write_state(
    tx: &mut PgConnection,
    domain_id: Uuid,
    looked: &Looked<'_>,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let outcome = looked.outcome;
    let state = |name: GateName| outcome.gates.get(name).state.as_str();
    sqlx::query!(
        "UPDATE domains SET zone = $2, gates = $3, stage = $4, spread = $5, fingerprint = $6,
         quiet_looks = $7, survey = $8, looked_at = $9, moved_at = $10,
         baseline = coalesce(baseline, $11), probe = coalesce($12, probe),
         ownership = $13, routing = $14, certificate = $15, serving = $16, operator = coalesce($17, operator),
         codes = $18 WHERE id = $1",
        domain_id,
        outcome.zone.as_str(),
        json!(outcome.gates),
        outcome.gates.stage().as_str(),
        outcome.spread,
        outcome.fingerprint,
        outcome.quiet_looks,
        json!(looked.survey),
        now,
        outcome.moved_at,
        looked.baseline.map(|baseline| json!(baseline)),
        looked.probe.map(|probe| json!(probe)),
        state(GateName::Ownership),
        state(GateName::Routing),
        state(GateName::Certificate),
        state(GateName::Serving),
        looked.operator,
        &codes_of(&outcome.findings)
    )
    .execute(&mut *tx)
    .await?;

    Ok(())
}

/// Whether the claims of the name may have to be settled anew: this one's proof or
/// certificate stands otherwise than before, or a contest goes on, in which time counts.
fn matters_to_rivals(before: &DomainRecord, after: &Gates) -> bool {
    let standing = before.domain.ties.standing;
    let holds = matches!(standing, Standing::Holder | Standing::Contested(_));
    let is_proved = after.get(GateName::Ownership).state.is_reached();
    let is_contested = standing.contest().is_some() || (is_proved && standing == Standing::Behind);

    let stands =
        |gates: &Gates| [GateName::Ownership, GateName::Certificate].map(|name| gates.get(name).state);
    is_contested || holds != is_proved || stands(&before.domain.gates) != stands(after)
}

/// Whether the edge must know: the redirect to a primary comes and goes with its
/// certificate.
fn leads_otherwise(before: &Gates, after: &Gates) -> bool {
    let is_reached = |gates: &Gates| gates.get(GateName::Certificate).state.is_reached();
    is_reached(before) != is_reached(after)
}

fn masked(drift: &Drift, mask: &Mask) -> Drift {
    Drift {
        what: drift.what.clone(),
        from: drift.from.iter().map(|value| mask.hide(value)).collect(),
        to: drift.to.iter().map(|value| mask.hide(value)).collect(),
    }
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

    // A silent vantage is left out of the share.
    let answering = waits.iter().filter(|wait| wait.answers);
    let asked: Vec<_> = answering.map(|wait| wait.vantage.clone()).collect();
    let seeing: Vec<_> = waits.iter().filter(|wait| wait.sees).map(|wait| wait.vantage.clone()).collect();
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
fn gate_events(before: &Gates, after: &Gates, mask: &Mask) -> Vec<Event> {
    let changed = before.0.iter().zip(&after.0).filter(|(before, after)| before.state != after.state);
    changed
        .map(|(before, after)| Event::GateChanged {
            gate: after.name,
            from: before.state,
            to: after.state,
            because: after.because,
            reason: mask.hide(&after.reason),
        })
        .collect()
}

fn codes_of(findings: &[Finding]) -> Vec<String> {
    findings.iter().map(|finding| finding.code.to_string()).collect()
}

/// Keeps the first-seen time of findings that stay open; returns the events
/// for those that came and went. The domain's row must be written already.
async fn write_findings(
    tx: &mut PgConnection,
    domain_id: Uuid,
    findings: &[Finding],
    mask: &Mask,
    now: DateTime<Utc>,
) -> Result<Vec<Event>, StoreError> {
    let codes = codes_of(findings);
    let severities: Vec<_> = findings.iter().map(|finding| finding.severity.to_string()).collect();
    let bodies: Vec<_> = findings.iter().map(|finding| json!(finding)).collect();
    let gone = sqlx::query_scalar!(
        "DELETE FROM findings WHERE domain_id = $1 AND code <> ALL($2) RETURNING code",
        domain_id,
        &codes
    )
    .fetch_all(&mut *tx)
    .await?;

    let mut happened = Vec::new();
    for code in gone {
        happened.push(Event::FindingCleared { code: word("finding", &code)? });
    }
    if findings.is_empty() {
        return Ok(happened);
    }

    let new = sqlx::query_scalar!(
        r#"WITH written AS (
               INSERT INTO findings (domain_id, code, severity, body, first_seen, last_seen, host, stage, enrolled_at,
                   moved_at)
               SELECT d.id, n.code, n.severity, n.body, $5, $5, d.host, d.stage, d.enrolled_at, d.moved_at
               FROM unnest($2::text[], $3::text[], $4::jsonb[]) AS n (code, severity, body)
               JOIN domains d ON d.id = $1
               ON CONFLICT (domain_id, code) DO UPDATE SET body = excluded.body, last_seen = excluded.last_seen
               RETURNING code, xmax = 0 AS is_new)
           SELECT code FROM written WHERE is_new"#,
        domain_id,
        &codes,
        &severities,
        &bodies,
        now
    )
    .fetch_all(&mut *tx)
    .await?;

    let opened = findings.iter().filter(|finding| new.iter().any(|code| code == finding.code.as_str()));
    happened.extend(
        opened.map(|finding| Event::FindingOpened { code: finding.code, remedy: mask.hide(&finding.remedy) }),
    );
    Ok(happened)
}

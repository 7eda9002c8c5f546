//! The end of a look: state, findings, events and what follows, in one
//! transaction.

use std::slice;

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::judge::behind::Visit;
use nomenta_core::judge::drift::Drift;
use nomenta_core::judge::evidence::Probe;
use nomenta_core::judge::finding::Finding;
use nomenta_core::judge::gate::{GateName, Gates};
use nomenta_core::judge::schedule::NextLook;
use nomenta_core::judge::standing::Standing;
use nomenta_core::judge::step::Outcome;
use nomenta_core::learned::course::Course;
use nomenta_core::reading::survey::Survey;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Lease;
use crate::Store;
use crate::StoreError;
use crate::claims;
use crate::error::{kept_text, read};
use crate::events::{self, About};
use crate::lanes::Lane;
use crate::locks;
use crate::orders::{self, NewOrder};
use crate::places::Whose;
use crate::tasks::{self, TaskKind};
use crate::written::{self, Found, LookRow, Sighting, Written};

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
    /// What stands behind somebody else's addresses, where they were visited.
    pub visit: Option<&'a Visit>,
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

/// How often it is written at most that somebody waits for the same domain.
const NOTED_EVERY: TimeDelta = TimeDelta::seconds(20);

impl Store {
    /// Writes what a look found, together with others that have come to their end. No second
    /// order is opened beside one on the way.
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
        let row = LookRow::of(lease, before, looked, now)?;
        let is_settled = matters_to_rivals(before, &looked.outcome.gates);
        if !is_settled && looked.order.is_none() {
            return self.together.looks.call(self, row).await;
        }

        // Whatever others have a part in is written by itself.
        let mut tx = self.begin().await?;
        let written = written::write(&mut tx, slice::from_ref(&row)).await?;
        written.has(&row)?;
        let Written { claims, mut told, .. } = written;
        let claim = claims.get(before.id).ok_or(StoreError::LeaseLost)?;
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

    /// Notes that somebody waits for some domains until a moment: they are looked at as soon as they
    /// may be, and first at `soon`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn awaited(
        &self,
        domain_ids: &[Uuid],
        until: DateTime<Utc>,
        soon: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        tasks::lock(&mut tx, domain_ids).await?;
        let brought_forward = sqlx::query!(
            "UPDATE tasks t SET awaited_until = $2, due = least(t.due, greatest(t.soonest, $3)),
                 lane = CASE WHEN t.lane = $6 THEN t.lane ELSE $5 END
             FROM domains d WHERE d.id = t.domain_id AND t.domain_id = ANY($1) AND t.kind = 'look' AND d.is_at_work
                 AND (t.awaited_until IS NULL OR t.awaited_until < $4)",
            domain_ids,
            until,
            soon,
            until - NOTED_EVERY,
            Lane::First.number(),
            Lane::Silent.number()
        );
        let brought_forward = brought_forward.execute(&mut *tx).await?.rows_affected();
        // Most of the time it was noted a moment ago.
        if brought_forward > 0 { self.commit_work(tx).await } else { self.commit(tx).await }
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
            "UPDATE domains SET looked_at = $2, codes = $3 WHERE id = $1",
            record.id,
            now,
            &written::codes_of(findings)
        )
        .execute(&mut *tx)
        .await?;
        let sighting =
            Sighting { id: record.id, survey: kept_text(survey)?, baseline: None, probe: None, visit: None };
        written::write_sightings(&mut tx, &[&sighting]).await?;
        tasks::finish(
            &mut tx,
            lease,
            next.map(|due| tasks::Next { at: NextLook::at(due), quick: None, tries: 0, lane: Lane::Usual }),
        )
        .await?;

        let found = Found { id: record.id, findings: findings.to_vec(), mask: record.domain.mask(), now };
        let happened = written::write_findings(&mut tx, &[&found]).await?;
        let happened: Vec<_> = happened.into_iter().map(|(_, event)| event).collect();
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

    /// Open findings of a domain, oldest first, as far as they are shown to whoever sees `whose`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn findings(&self, whose: &Whose, domain_id: Uuid) -> Result<Vec<FindingRow>, StoreError> {
        let rows = sqlx::query!(
            "SELECT body, first_seen, last_seen FROM findings WHERE domain_id = $1 ORDER BY first_seen, code",
            domain_id
        )
        .fetch_all(&self.pool)
        .await?;

        let mut findings = Vec::with_capacity(rows.len());
        for row in rows {
            let finding: Finding = read("finding", row.body)?;
            if whose.seen(finding.code).is_none() {
                continue;
            }
            findings.push(FindingRow { finding, first_seen: row.first_seen, last_seen: row.last_seen });
        }

        Ok(findings)
    }
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

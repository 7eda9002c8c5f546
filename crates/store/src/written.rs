//! Writing what looks found, of several domains in one statement for each kind of thing.

use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use futures::FutureExt;
use nomenta_api::event::Event;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::drift::Drift;
use nomenta_core::judge::finding::Finding;
use nomenta_core::judge::gate::{GateName, Gates};
use nomenta_core::judge::step::Outcome;
use nomenta_core::judge::waiting::Wait;
use nomenta_core::name::mask::Mask;
use nomenta_core::reading::survey::Survey;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Lease;
use crate::Looked;
use crate::Store;
use crate::StoreError;
use crate::courses::{self, CourseRow};
use crate::error::{Kept, kept, kept_text, word};
use crate::lanes::Lane;
use crate::locks::{self, Claims, Told};
use crate::tasks::{self, Next};
use crate::together::{Done, OfDomain};

/// What a look writes. Whatever can be reckoned without the records is.
pub(crate) struct LookRow {
    lease: Lease,
    next: Next,
    zone: String,
    gates: Gates,
    gates_kept: Kept,
    spread: Option<f64>,
    fingerprint: Option<i64>,
    moved_at: DateTime<Utc>,
    operator: Option<String>,
    course: Option<CourseRow>,
    sighting: Sighting,
    found: Found,
    spread_row: Option<(Kept, Kept)>,
    /// Gates that stand otherwise than before.
    changed: Vec<Event>,
    drifted: Vec<Event>,
    leads_otherwise: bool,
}

/// What was found about one domain.
pub(crate) struct Found {
    pub id: Uuid,
    pub findings: Vec<Finding>,
    /// Events go to everyone who listens.
    pub mask: Mask,
    pub now: DateTime<Utc>,
}

/// What was read and seen of one domain.
pub(crate) struct Sighting {
    pub id: Uuid,
    pub survey: String,
    pub baseline: Option<String>,
    pub probe: Option<String>,
    pub visit: Option<String>,
}

/// What was written, under the locks of its claims.
pub(crate) struct Written {
    pub claims: Claims,
    pub told: Told,
    /// Which tasks it was the end of.
    ended: BTreeSet<(Uuid, Uuid)>,
}

impl Written {
    /// Whether a look is among it: if not, its lease was lost.
    pub(crate) fn has(&self, row: &LookRow) -> Result<(), StoreError> {
        if self.ended.contains(&row.key()) { Ok(()) } else { Err(StoreError::LeaseLost) }
    }
}

impl OfDomain for LookRow {
    fn domain_id(&self) -> Uuid {
        self.found.id
    }
}

impl LookRow {
    pub(crate) fn of(
        lease: &Lease,
        before: &DomainRecord,
        looked: &Looked<'_>,
        now: DateTime<Utc>,
    ) -> Result<Self, StoreError> {
        let outcome = looked.outcome;
        let mask = before.domain.mask();
        let changed = gate_events(&before.domain.gates, &outcome.gates, &mask);

        let course = looked.course.map(|course| CourseRow::of(before.id, looked.operator, course, now));
        Ok(Self {
            lease: lease.clone(),
            next: Next { at: outcome.next_look, quick: outcome.quick, tries: 0, lane: next_lane(outcome) },
            zone: outcome.zone.to_string(),
            gates: outcome.gates.clone(),
            gates_kept: kept(&outcome.gates)?,
            spread: outcome.spread,
            fingerprint: outcome.fingerprint,
            moved_at: outcome.moved_at,
            sighting: Sighting {
                id: before.id,
                survey: kept_text(looked.survey)?,
                baseline: looked.baseline.map(kept_text).transpose()?,
                probe: looked.probe.map(kept_text).transpose()?,
                visit: looked.visit.map(kept_text).transpose()?,
            },
            operator: looked.operator.map(str::to_owned),
            course: course.transpose()?,
            found: Found { id: before.id, findings: outcome.findings.clone(), mask, now },
            spread_row: spread_row(&outcome.waits)?,
            changed,
            drifted: drift_events(before, looked),
            leads_otherwise: leads_otherwise(&before.domain.gates, &outcome.gates),
        })
    }

    fn key(&self) -> (Uuid, Uuid) {
        (self.found.id, self.lease.lease)
    }
}

/// Who sees the routing, of all that were asked.
fn spread_row(waits: &[Wait]) -> Result<Option<(Kept, Kept)>, StoreError> {
    if waits.is_empty() {
        return Ok(None);
    }

    // A silent vantage is left out of the share.
    let asked: Vec<_> = waits.iter().filter(|wait| wait.answers).map(|wait| &wait.vantage).collect();
    let seeing: Vec<_> = waits.iter().filter(|wait| wait.sees).map(|wait| &wait.vantage).collect();
    Ok(Some((kept(&seeing)?, kept(&asked)?)))
}

/// Writes some looks in one transaction.
pub(crate) fn looks<'a>(store: &'a Store, rows: &'a [LookRow]) -> Done<'a, ()> {
    async move {
        let mut tx = store.begin().await?;
        let written = write(&mut tx, rows).await?;
        let done = rows.iter().map(|row| written.has(row)).collect();
        let now = rows.iter().map(|row| row.found.now).max().unwrap_or_default();
        written.told.write(&mut tx, now).await?;
        store.commit(tx).await?;
        Ok(done)
    }
    .boxed()
}

/// The same as a part of a transaction, of those whose lease is held and whose claim is open.
pub(crate) async fn write(tx: &mut PgConnection, rows: &[LookRow]) -> Result<Written, StoreError> {
    let ids: Vec<_> = rows.iter().map(|row| row.found.id).collect();
    let claims = locks::lock(tx, &ids).await?;

    let open: Vec<_> = rows.iter().filter(|row| claims.get(row.found.id).is_some()).collect();
    let ends: Vec<_> = open.iter().map(|row| (&row.lease, &row.next)).collect();
    let ended = tasks::finish_all(tx, &ends).await?;
    let rows: Vec<_> = open.into_iter().filter(|row| ended.contains(&row.key())).collect();

    let mut told = Told::default();
    if rows.is_empty() {
        return Ok(Written { claims, told, ended });
    }

    write_states(tx, &rows).await?;
    write_sightings(tx, &rows.iter().map(|row| &row.sighting).collect::<Vec<_>>()).await?;
    write_spreads(tx, &rows).await?;
    let courses: Vec<_> = rows.iter().filter_map(|row| row.course.as_ref()).collect();
    courses::write(tx, &courses).await?;
    let found: Vec<_> = rows.iter().map(|row| &row.found).collect();
    let mut news = write_findings(tx, &found).await?;

    for row in rows {
        let claim = claims.open(row.found.id)?;
        row.changed.iter().for_each(|event| told.event(claim, event.clone()));
        let own = news.extract_if(.., |(id, _)| *id == row.found.id);
        own.for_each(|(_, event)| told.event(claim, event));
        row.drifted.iter().for_each(|event| told.event(claim, event.clone()));

        if row.leads_otherwise {
            told.touch(&claim.host);
            claims.sibling(claim.id).into_iter().for_each(|sibling| told.touch(&sibling.host));
        }
    }
    Ok(Written { claims, told, ended })
}

async fn write_states(tx: &mut PgConnection, rows: &[&LookRow]) -> Result<(), StoreError> {
    let of = |name: GateName| -> Vec<String> {
        rows.iter().map(|row| row.gates.get(name).state.as_str().to_owned()).collect()
    };
    sqlx::query!(
        "UPDATE domains d SET zone = n.zone, gates = n.gates,
             stage = CASE WHEN d.paused_at IS NULL THEN n.stage ELSE d.stage END, spread = n.spread,
             fingerprint = n.fingerprint, looked_at = n.looked_at, moved_at = n.moved_at,
             ownership = n.ownership, routing = n.routing, certificate = n.certificate, serving = n.serving,
             operator = coalesce(n.operator, d.operator), codes = string_to_array(n.codes, ' ')
         FROM unnest($1::uuid[], $2::text[], $3::jsonb[], $4::text[], $5::float8[], $6::bigint[], $7::timestamptz[],
                     $8::timestamptz[], $9::text[], $10::text[], $11::text[], $12::text[], $13::text[], $14::text[])
             AS n (id, zone, gates, stage, spread, fingerprint, looked_at, moved_at, ownership, routing,
                   certificate, serving, operator, codes)
         WHERE d.id = n.id",
        &each(rows, |row| row.found.id),
        &each(rows, |row| row.zone.clone()),
        &each(rows, |row| row.gates_kept.clone()) as _,
        &each(rows, |row| row.gates.stage().as_str().to_owned()),
        &each(rows, |row| row.spread) as _,
        &each(rows, |row| row.fingerprint) as _,
        &each(rows, |row| row.found.now),
        &each(rows, |row| row.moved_at),
        &of(GateName::Ownership),
        &of(GateName::Routing),
        &of(GateName::Certificate),
        &of(GateName::Serving),
        &each(rows, |row| row.operator.clone()) as _,
        // No code has a space in it.
        &each(rows, |row| codes_of(&row.found.findings).join(" "))
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

fn each<T>(rows: &[&LookRow], of: impl FnMut(&&LookRow) -> T) -> Vec<T> {
    rows.iter().map(of).collect()
}

/// Keeps the baseline that there is, and what was seen last where nothing was tried now.
pub(crate) async fn write_sightings(tx: &mut PgConnection, rows: &[&Sighting]) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO sightings (domain_id, survey, baseline, probe, visit)
         SELECT * FROM unnest($1::uuid[], $2::text[], $3::text[], $4::text[], $5::text[])
         ON CONFLICT (domain_id) DO UPDATE SET survey = excluded.survey,
             baseline = coalesce(sightings.baseline, excluded.baseline),
             probe = coalesce(excluded.probe, sightings.probe), visit = coalesce(excluded.visit, sightings.visit)",
        &rows.iter().map(|row| row.id).collect::<Vec<_>>(),
        &rows.iter().map(|row| row.survey.as_str()).collect::<Vec<_>>() as _,
        &rows.iter().map(|row| row.baseline.as_deref()).collect::<Vec<_>>() as _,
        &rows.iter().map(|row| row.probe.as_deref()).collect::<Vec<_>>() as _,
        &rows.iter().map(|row| row.visit.as_deref()).collect::<Vec<_>>() as _
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// Adds a row where other vantages see the routing than before.
async fn write_spreads(tx: &mut PgConnection, rows: &[&LookRow]) -> Result<(), StoreError> {
    let rows: Vec<_> = rows.iter().filter_map(|row| Some((&row.found, row.spread_row.as_ref()?))).collect();
    if rows.is_empty() {
        return Ok(());
    }

    sqlx::query!(
        "INSERT INTO spreads (domain_id, at, seeing, asked)
         SELECT n.id, n.at, n.seeing, n.asked
         FROM (SELECT u.id, u.at, ARRAY(SELECT jsonb_array_elements_text(u.seeing)) AS seeing,
                      ARRAY(SELECT jsonb_array_elements_text(u.asked)) AS asked
               FROM unnest($1::uuid[], $2::timestamptz[], $3::jsonb[], $4::jsonb[]) AS u (id, at, seeing, asked)) n
         WHERE NOT EXISTS (
             SELECT FROM (SELECT seeing, asked FROM spreads WHERE domain_id = n.id ORDER BY at DESC LIMIT 1) last
             WHERE last.seeing = n.seeing AND last.asked = n.asked)",
        &rows.iter().map(|(found, _)| found.id).collect::<Vec<_>>(),
        &rows.iter().map(|(found, _)| found.now).collect::<Vec<_>>(),
        &rows.iter().map(|(_, (seeing, _))| seeing.clone()).collect::<Vec<_>>() as _,
        &rows.iter().map(|(_, (_, asked))| asked.clone()).collect::<Vec<_>>() as _
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// Keeps the first-seen time of findings that stay open; returns the events for those that came
/// and went. The rows of the domains must be written already.
pub(crate) async fn write_findings(
    tx: &mut PgConnection,
    found: &[&Found],
) -> Result<Vec<(Uuid, Event)>, StoreError> {
    let each: Vec<_> =
        found.iter().flat_map(|one| one.findings.iter().map(move |finding| (*one, finding))).collect();
    let owners: Vec<_> = each.iter().map(|(one, _)| one.id).collect();
    let codes: Vec<_> = each.iter().map(|(_, finding)| finding.code.to_string()).collect();

    let gone = sqlx::query!(
        r#"DELETE FROM findings f USING unnest($1::uuid[]) AS o (id)
           WHERE f.domain_id = o.id
             AND NOT EXISTS (SELECT FROM unnest($2::uuid[], $3::text[]) AS n (id, code)
                             WHERE n.id = f.domain_id AND n.code = f.code)
           RETURNING f.domain_id, f.code"#,
        &found.iter().map(|one| one.id).collect::<Vec<_>>(),
        &owners,
        &codes
    )
    .fetch_all(&mut *tx)
    .await?;
    let mut happened = Vec::new();
    for gone in gone {
        happened.push((gone.domain_id, Event::FindingCleared { code: word("finding", &gone.code)? }));
    }
    if each.is_empty() {
        return Ok(happened);
    }

    let bodies: Vec<_> = each.iter().map(|(_, finding)| kept(finding)).collect::<Result<_, _>>()?;
    let new = sqlx::query!(
        r#"WITH written AS (
               INSERT INTO findings (domain_id, code, severity, body, first_seen, last_seen, host, stage, enrolled_at,
                   moved_at)
               SELECT d.id, n.code, n.severity, n.body, n.at, n.at, d.host, d.stage, d.enrolled_at, d.moved_at
               FROM unnest($1::uuid[], $2::text[], $3::text[], $4::jsonb[], $5::timestamptz[])
                   AS n (id, code, severity, body, at)
               JOIN domains d ON d.id = n.id
               ON CONFLICT (domain_id, code) DO UPDATE SET body = excluded.body, last_seen = excluded.last_seen
               RETURNING domain_id, code, xmax = 0 AS is_new)
           SELECT domain_id, code FROM written WHERE is_new"#,
        &owners,
        &codes,
        &each.iter().map(|(_, finding)| finding.severity.to_string()).collect::<Vec<_>>(),
        &bodies as _,
        &each.iter().map(|(one, _)| one.now).collect::<Vec<_>>()
    )
    .fetch_all(&mut *tx)
    .await?;
    let new: BTreeSet<_> = new.into_iter().map(|row| (row.domain_id, row.code)).collect();

    let opened = each.iter().filter(|(one, finding)| new.contains(&(one.id, finding.code.to_string())));
    happened.extend(opened.map(|(one, finding)| {
        (one.id, Event::FindingOpened { code: finding.code, remedy: one.mask.hide(&finding.remedy) })
    }));
    Ok(happened)
}

pub(crate) fn codes_of(findings: &[Finding]) -> Vec<String> {
    findings.iter().map(|finding| finding.code.to_string()).collect()
}

/// Whether the edge must know: the redirect to a primary comes and goes with its
/// certificate.
fn leads_otherwise(before: &Gates, after: &Gates) -> bool {
    let is_reached = |gates: &Gates| gates.get(GateName::Certificate).state.is_reached();
    is_reached(before) != is_reached(after)
}

/// What has changed about a domain that was in order. What stood there and what stands there now
/// may be tokens of other claims too.
fn drift_events(before: &DomainRecord, looked: &Looked<'_>) -> Vec<Event> {
    if looked.drifts.is_empty() {
        return Vec::new();
    }

    let surveys = before.survey.iter().chain([looked.survey]);
    let others = |mask: Mask, survey: &Survey| mask.and(before.domain.mask_of_others(survey));
    let mask = surveys.fold(before.domain.mask(), others);
    looked.drifts.iter().map(|drift| Event::Drifted(masked(drift, &mask))).collect()
}

/// What has changed, with the tokens in it masked.
fn masked(drift: &Drift, mask: &Mask) -> Drift {
    Drift {
        what: drift.what.clone(),
        from: drift.from.iter().map(|value| mask.hide(value)).collect(),
        to: drift.to.iter().map(|value| mask.hide(value)).collect(),
    }
}

/// Events go to everyone who listens, so the token in them is masked.
fn gate_events(before: &Gates, after: &Gates, mask: &Mask) -> Vec<Event> {
    after
        .moved_from(before)
        .map(|(before, after)| Event::GateChanged {
            gate: after.name,
            from: before.state,
            to: after.state,
            because: after.because,
            reason: mask.hide(&after.reason),
        })
        .collect()
}

/// The lane in which the domain is looked at next: a zone that did not answer now, or took all
/// that a look may cost, will take its time again.
fn next_lane(outcome: &Outcome) -> Lane {
    let is_slow = |code| matches!(code, Code::Unreachable | Code::SurveyCutShort);
    if outcome.findings.iter().any(|finding| is_slow(finding.code)) {
        return Lane::Silent;
    }
    if outcome.is_about_to_move() { Lane::First } else { Lane::Usual }
}

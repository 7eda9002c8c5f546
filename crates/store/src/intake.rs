//! Taking in many domains at once: the rows are judged against what there is, and those that
//! are accepted are written in one transaction.

use std::collections::{BTreeSet, HashMap, HashSet};

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::claim::allowance::Allowance;
use nomenta_core::intake::judge::{AccountStanding, Judgement, Register, RowResult, judge};
use nomenta_core::intake::row::{RowFault, Wanted};
use nomenta_core::name::token::Token;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::enrolment::{self, NewDomain, NewRow, Owner};
use crate::events::{self, About};
use crate::lanes::Lane;
use crate::places::Whose;

/// Rows written in one statement.
const BATCH: usize = 500;
/// A table of so many rows is no bulk work: its domains go first, like one that is taken in
/// by itself.
const FEW: usize = 100;

/// A row with the line that it stands on.
pub type Row = (usize, Result<Wanted, RowFault>);

/// The rows of a table to take in.
pub struct Intake<'a> {
    /// The rows.
    pub rows: &'a [Row],
    /// Whose sites there are, for whoever asks.
    pub whose: &'a Whose,
    /// When tokens run out.
    pub token_expires_at: DateTime<Utc>,
    /// Makes tokens.
    pub token: &'a (dyn Fn() -> Token + Sync),
    /// Hears how many of how many rows are written.
    pub told: &'a (dyn Fn(usize, usize) + Sync),
}

impl Store {
    /// Judges rows, and writes nothing.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn judge_rows(&self, rows: &[Row], whose: &Whose) -> Result<Vec<Judgement>, StoreError> {
        let mut connection = self.pool.acquire().await?;
        let owners = owners(&mut connection, rows, whose).await?;
        Ok(judge(rows, register(&mut connection, rows, &owners).await?))
    }

    /// Judges rows, and takes in all that are accepted, or none; what other accounts claim
    /// makes no difference.
    ///
    /// # Errors
    /// [`StoreError::Database`]; nothing is written then, and the same may be tried again.
    pub async fn take_in(&self, intake: &Intake<'_>) -> Result<Vec<Judgement>, StoreError> {
        let now = Utc::now();
        let mut tx = self.begin().await?;
        let owners = owners(&mut tx, intake.rows, intake.whose).await?;
        lock(&mut tx, &owners).await?;
        let mut judgements = judge(intake.rows, register(&mut tx, intake.rows, &owners).await?);

        let mut accepted = Vec::new();
        for (judgement, (_, row)) in judgements.iter_mut().zip(intake.rows) {
            if let (RowResult::New, Ok(wanted)) = (judgement.result, row) {
                judgement.result = RowResult::TakenIn;
                accepted.push(wanted);
            }
        }

        let lane = if accepted.len() > FEW { Lane::Bulk } else { Lane::First };
        let mut written = 0;
        for batch in accepted.chunks(BATCH) {
            write(&mut tx, intake, batch, &owners, lane, now).await?;
            written += batch.len();
            (intake.told)(written, accepted.len());
        }

        self.commit_work(tx).await?;
        Ok(judgements)
    }
}

/// The sites that rows ask for, with their owners, of those that there are for whoever asks.
async fn owners(
    tx: &mut PgConnection,
    rows: &[Row],
    whose: &Whose,
) -> Result<HashMap<String, Owner>, StoreError> {
    let names: BTreeSet<_> = wanted(rows).map(|wanted| wanted.site.clone()).collect();
    let names: Vec<_> = names.into_iter().collect();
    let owners = sqlx::query!(
        "SELECT s.name, s.id, s.label, s.account_id, s.ingress_id, a.name AS account
         FROM sites s JOIN accounts a ON a.id = s.account_id
         WHERE s.name = ANY($1) AND ($2::uuid[] IS NULL OR s.account_id = ANY($2))",
        &names,
        whose.accounts()
    )
    .fetch_all(&mut *tx)
    .await?;

    let owners = owners.into_iter().map(|row| {
        let owner = Owner {
            site_id: row.id,
            ingress_id: row.ingress_id,
            account_id: row.account_id,
            account: row.account,
            label: row.label,
        };
        (row.name, owner)
    });
    Ok(owners.collect())
}

fn wanted(rows: &[Row]) -> impl Iterator<Item = &Wanted> {
    rows.iter().filter_map(|(_, row)| row.as_ref().ok())
}

fn accounts(owners: &HashMap<String, Owner>) -> Vec<Uuid> {
    let ids: BTreeSet<_> = owners.values().map(|owner| owner.account_id).collect();
    ids.into_iter().collect()
}

/// Locks the accounts, so that nobody takes a last place, or the same name, meanwhile.
async fn lock(tx: &mut PgConnection, owners: &HashMap<String, Owner>) -> Result<(), StoreError> {
    sqlx::query!(
        "SELECT id FROM accounts WHERE id = ANY($1) ORDER BY id FOR NO KEY UPDATE",
        &accounts(owners)
    )
    .fetch_all(&mut *tx)
    .await?;
    Ok(())
}

/// What there is already, as far as the rows ask for it.
async fn register(
    tx: &mut PgConnection,
    rows: &[Row],
    owners: &HashMap<String, Owner>,
) -> Result<Register, StoreError> {
    let standings = sqlx::query!(
        r#"SELECT a.name, a.allowance, a.suspended_at IS NOT NULL AS "is_suspended!", u.used AS "used!"
           FROM accounts a CROSS JOIN LATERAL (
               SELECT count(*) AS used FROM (
                   SELECT FROM domains d WHERE d.account_id = a.id AND d.ended_at IS NULL AND d.is_primary
                   LIMIT coalesce(a.allowance, 0)) l) u
           WHERE a.id = ANY($1)"#,
        &accounts(owners)
    )
    .fetch_all(&mut *tx)
    .await?;

    let standings = standings.into_iter().map(|row| {
        let granted = row.allowance.and_then(|granted| u32::try_from(granted).ok());
        let used = u32::try_from(row.used).unwrap_or(u32::MAX);
        let allowance = Allowance { granted, used };
        (row.name, AccountStanding { allowance, is_suspended: row.is_suspended })
    });
    Ok(Register {
        sites: owners.iter().map(|(site, owner)| (site.clone(), owner.account.clone())).collect(),
        accounts: standings.collect(),
        claimed: claimed(tx, rows, owners).await?,
    })
}

/// Which of the names that rows ask for their accounts have claimed.
async fn claimed(
    tx: &mut PgConnection,
    rows: &[Row],
    owners: &HashMap<String, Owner>,
) -> Result<HashSet<(String, String)>, StoreError> {
    let mut ids = Vec::new();
    let mut hosts = Vec::new();
    for wanted in wanted(rows) {
        let Some(owner) = owners.get(&wanted.site) else { continue };
        for subject in &wanted.subjects {
            ids.push(owner.account_id);
            hosts.push(subject.to_string());
        }
    }

    let rows = sqlx::query!(
        // Row by row: a join by hash would read every claim.
        r#"SELECT a.name AS "account!", n.host AS "host!"
           FROM unnest($1::uuid[], $2::text[]) AS n (account_id, host)
           CROSS JOIN LATERAL (SELECT FROM domains d WHERE d.account_id = n.account_id AND d.host = n.host
                                 AND d.ended_at IS NULL OFFSET 0) d
           JOIN accounts a ON a.id = n.account_id"#,
        &ids,
        &hosts
    )
    .fetch_all(&mut *tx)
    .await?;
    Ok(rows.into_iter().map(|row| (row.account, row.host)).collect())
}

/// Writes some of the accepted rows.
async fn write(
    tx: &mut PgConnection,
    intake: &Intake<'_>,
    batch: &[&Wanted],
    owners: &HashMap<String, Owner>,
    lane: Lane,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let mut rows = Vec::new();
    let mut happened = Vec::new();
    for wanted in batch {
        let Some(owner) = owners.get(&wanted.site) else { continue };
        let event = Event::Enrolled { site: wanted.site.clone(), account: owner.account.clone() };
        let pair_id = (wanted.subjects.len() > 1).then(Uuid::now_v7);

        for (place, subject) in wanted.subjects.iter().enumerate() {
            let domain = NewDomain { subject: subject.clone(), token: (intake.token)() };
            let row = NewRow {
                id: Uuid::now_v7(),
                domain,
                owner,
                pair_id,
                is_primary: place == 0,
                is_proved_by_zone: wanted.is_proved_by_zone,
            };
            happened.push((row.id, subject.to_string(), event.clone()));
            rows.push(row);
        }
    }

    enrolment::insert(tx, &rows, intake.token_expires_at, lane, now).await?;
    let happened: Vec<_> =
        happened.iter().map(|(id, host, event)| (About { id: Some(*id), host }, event)).collect();
    events::insert(tx, &happened, now).await
}

//! What the claims of a name are to each other, and doing what has to be done about
//! it.

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::claim::rivals::{self, Change, Claim, ClaimId, Contest, ContestId, Outcome, Rivals};
use nomenta_core::judge::gate::GateName;
use nomenta_core::judge::standing::{Contested, Ending, Phase, Standing};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::ending;
use crate::error::word;
use crate::locks::{Claims, Locked, LockedColumns, Told};
use crate::orders::NewOrder;
use crate::tasks::{self, TaskKind};

/// Rounds of settling; each one leaves fewer claims or contests to settle.
const ROUNDS: usize = 64;

/// Settles what the claims of a name are to each other, after something has
/// happened to any of them. The claims must be locked.
pub(crate) async fn settle(
    tx: &mut PgConnection,
    store: &Store,
    host: &str,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    for _ in 0..ROUNDS {
        let locked = of_host(tx, host).await?;
        let rivals = rivals(tx, host, &locked).await?;
        let changes = rivals::settle(&rivals, &store.rules, now);
        if changes.is_empty() {
            return Ok(());
        }
        for change in changes {
            apply(tx, &locked, &change, told, now).await?;
        }
    }
    Ok(())
}

/// The open claims of a name, as they stand now.
async fn of_host(tx: &mut PgConnection, host: &str) -> Result<Claims, StoreError> {
    let rows = sqlx::query_as!(
        LockedColumns,
        r#"SELECT id, host, pair_id, held_since IS NOT NULL AS "holds!", is_at_work, version, gates FROM domains
           WHERE host = $1 AND ended_at IS NULL ORDER BY id"#,
        host
    )
    .fetch_all(&mut *tx)
    .await?;

    rows.into_iter().map(LockedColumns::read).collect::<Result<_, _>>().map(Claims)
}

async fn rivals(tx: &mut PgConnection, host: &str, claims: &Claims) -> Result<Rivals, StoreError> {
    let rows = sqlx::query!(
        "SELECT id, holder_id, challenger_id, phase, grace_ends_at, ruled_for FROM contests
         WHERE host = $1 AND settled_at IS NULL ORDER BY opened_at, id",
        host
    )
    .fetch_all(&mut *tx)
    .await?;

    let mut contests = Vec::with_capacity(rows.len());
    for row in rows {
        contests.push(Contest {
            id: ContestId(row.id.as_u128()),
            holder: ClaimId(row.holder_id.as_u128()),
            challenger: ClaimId(row.challenger_id.as_u128()),
            phase: word("phase of a contest", &row.phase)?,
            grace_ends_at: row.grace_ends_at,
            ruled_for: row.ruled_for.map(|side| word("side of a contest", &side)).transpose()?,
        });
    }

    let claims = claims.0.iter().map(|claim| {
        let ownership = claim.gates.get(GateName::Ownership);
        Claim {
            id: ClaimId(claim.id.as_u128()),
            holds: claim.holds,
            ownership: ownership.state,
            owned_since: ownership.since,
            certificate: claim.gates.get(GateName::Certificate).state,
        }
    });
    Ok(Rivals { claims: claims.collect(), contests })
}

async fn apply(
    tx: &mut PgConnection,
    claims: &Claims,
    change: &Change,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    match change {
        Change::Take(id) => take(tx, claims.open(uuid(*id))?, told, now).await,
        Change::Drop(id) => withdraw(tx, claims.open(uuid(*id))?, told).await,
        Change::Lose(id) => ending::end(tx, uuid(*id), Ending::Lost, told, now).await,
        Change::Open { holder, challenger } => {
            open(tx, claims.open(uuid(*holder))?, claims.open(uuid(*challenger))?, told, now).await
        }
        Change::Advance { contest, phase, grace_ends_at } => {
            advance(
                tx,
                claims,
                *contest,
                Contested { phase: *phase, grace_ends_at: *grace_ends_at },
                told,
                now,
            )
            .await
        }
        Change::Face { contest, holder } => {
            sqlx::query!(
                "UPDATE contests SET holder_id = $2, phase = $3, grace_ends_at = NULL, ruled_for = NULL,
                 ruled_at = NULL, ruled_by = NULL, ruled_because = NULL WHERE id = $1",
                Uuid::from_u128(contest.0),
                uuid(*holder),
                Phase::Ruling.as_str()
            )
            .execute(&mut *tx)
            .await?;
            Ok(())
        }
        Change::Settle { contest, outcome } => close(tx, claims, *contest, *outcome, told, now).await,
    }
}

fn uuid(id: ClaimId) -> Uuid {
    Uuid::from_u128(id.0)
}

async fn take(
    tx: &mut PgConnection,
    claim: &Locked,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!("UPDATE domains SET held_since = $2 WHERE id = $1", claim.id, now).execute(&mut *tx).await?;
    tasks::wake(tx, claim.id, TaskKind::Look, now).await?;
    told.event(claim, Event::Held {});
    told.touch(&claim.host);
    Ok(())
}

async fn withdraw(tx: &mut PgConnection, claim: &Locked, told: &mut Told) -> Result<(), StoreError> {
    sqlx::query!("UPDATE domains SET held_since = NULL WHERE id = $1", claim.id).execute(&mut *tx).await?;
    told.event(claim, Event::NoLongerHeld {});
    told.touch(&claim.host);
    Ok(())
}

async fn open(
    tx: &mut PgConnection,
    holder: &Locked,
    challenger: &Locked,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let phase = Phase::Ruling;
    sqlx::query!(
        "INSERT INTO contests (id, host, holder_id, challenger_id, phase, opened_at)
         VALUES ($1, $2, $3, $4, $5, $6)",
        Uuid::now_v7(),
        holder.host,
        holder.id,
        challenger.id,
        phase.as_str(),
        now
    )
    .execute(&mut *tx)
    .await?;

    // Both are looked at again: whether the holder's token still stands decides.
    for claim in in_order(holder, challenger) {
        tasks::wake(tx, claim.id, TaskKind::Look, now).await?;
        told.event(claim, Event::Contested { phase, grace_ends_at: None });
    }
    Ok(())
}

async fn advance(
    tx: &mut PgConnection,
    claims: &Claims,
    contest: ContestId,
    to: Contested,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let row = sqlx::query!(
        "UPDATE contests SET phase = $2, grace_ends_at = $3 WHERE id = $1 RETURNING holder_id, challenger_id",
        Uuid::from_u128(contest.0),
        to.phase.as_str(),
        to.grace_ends_at
    )
    .fetch_one(&mut *tx)
    .await?;

    for claim in in_order(claims.open(row.holder_id)?, claims.open(row.challenger_id)?) {
        tasks::wake(tx, claim.id, TaskKind::Look, now).await?;
        told.event(claim, Event::Contested { phase: to.phase, grace_ends_at: to.grace_ends_at });
    }
    Ok(())
}

async fn close(
    tx: &mut PgConnection,
    claims: &Claims,
    contest: ContestId,
    outcome: Outcome,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let row = sqlx::query!(
        "UPDATE contests SET settled_at = $2, outcome = $3 WHERE id = $1 RETURNING holder_id, challenger_id",
        Uuid::from_u128(contest.0),
        now,
        outcome.as_str()
    )
    .fetch_one(&mut *tx)
    .await?;

    // Whoever has lost is told that, and a claim that has ended nothing more.
    for id in [row.holder_id, row.challenger_id] {
        if let Some(claim) = claims.get(id).filter(|claim| !told.has_ended(claim.id)) {
            told.event(claim, Event::ContestSettled { outcome });
        }
    }
    Ok(())
}

/// By their keys, as locks are taken.
fn in_order<'a>(one: &'a Locked, other: &'a Locked) -> [&'a Locked; 2] {
    if one.id < other.id { [one, other] } else { [other, one] }
}

/// How a claim stands beside the others of its name, as a row of
/// [`Store::domain`] has it.
pub(crate) fn standing(
    holds: bool,
    is_held_by_another: bool,
    phase: Option<&str>,
    grace_ends_at: Option<DateTime<Utc>>,
) -> Result<Standing, StoreError> {
    let phase: Option<Phase> = phase.map(|phase| word("phase of a contest", phase)).transpose()?;
    let contested = phase.map(|phase| Contested { phase, grace_ends_at });

    Ok(match (holds, contested) {
        (true, Some(contested)) => Standing::Contested(contested),
        (true, None) => Standing::Holder,
        (false, Some(contested)) => Standing::Challenger(contested),
        (false, None) if is_held_by_another => Standing::Behind,
        (false, None) => Standing::Free,
    })
}

/// Whether every domain of an order may have a certificate, as it stands now.
pub(crate) async fn may_order(tx: &mut PgConnection, order: &NewOrder) -> Result<bool, StoreError> {
    let ids: Vec<_> = order.domains.iter().map(|(id, _)| *id).collect();
    let may = sqlx::query_scalar!(
        r#"SELECT count(*) = cardinality($1::uuid[]) AS "may!" FROM domains d
           WHERE d.id = ANY($1) AND d.is_at_work AND (d.held_since IS NOT NULL OR EXISTS (
               SELECT FROM contests c WHERE c.challenger_id = d.id AND c.settled_at IS NULL AND c.phase = $2))"#,
        &ids,
        Phase::Handover.as_str()
    );
    Ok(may.fetch_one(&mut *tx).await?)
}

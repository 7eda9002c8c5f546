//! The end of a claim, with all that depends on it.

use chrono::{DateTime, Utc};
use nomenta_api::certificate::OrderStatus;
use nomenta_api::event::Event;
use nomenta_core::judge::certificate::{Origin, RevocationReason};
use nomenta_core::judge::gate::Stage;
use nomenta_core::judge::standing::Ending;
use nomenta_core::reading::method::Method;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::StoreError;
use crate::channel::{self, Channel};
use crate::error;
use crate::locks::{self, Told};
use crate::revocations;
use crate::strays;
use crate::tasks::{self, TaskKind};

/// Ends a claim for good, and settles in the same breath what depends on it: its
/// tasks and orders are gone, its pair is parted, its certificates are given up.
pub(crate) async fn end(
    tx: &mut PgConnection,
    id: Uuid,
    ending: Ending,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let claims = locks::lock(tx, &[id]).await?;
    let claim = claims.open(id)?;

    sqlx::query!(
        "UPDATE domains SET ended_at = $2, ending = $3, stage = $4, held_since = NULL, pair_id = NULL,
         codes = '{}', is_at_work = false, paused_at = NULL, next_site_id = NULL, switch_at = NULL WHERE id = $1",
        id,
        now,
        ending.as_str(),
        Stage::Released.as_str()
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!("DELETE FROM findings WHERE domain_id = $1", id).execute(&mut *tx).await?;

    void_orders(tx, id, now).await?;
    sqlx::query!("DELETE FROM tasks WHERE domain_id = $1", id).execute(&mut *tx).await?;
    leave_shared(tx, id, now).await?;
    give_up(tx, id, RevocationReason::CessationOfOperation, now).await?;
    retire_expired(tx, id, now).await?;

    if let Some(sibling) = claims.sibling(id) {
        sqlx::query!("UPDATE domains SET pair_id = NULL, is_primary = true WHERE id = $1", sibling.id)
            .execute(&mut *tx)
            .await?;
        tasks::wake(tx, sibling.id, TaskKind::Look, now).await?;
        told.event(sibling, Event::PairParted { other: claim.host.clone() });
        told.touch(&sibling.host);
    }

    tasks::watch(tx, id, now).await?;
    told.event(claim, Event::of_end(ending));
    told.touch(&claim.host);
    Ok(())
}

/// Drops open orders that cover a claim; another domain that they cover orders
/// anew for itself alone. What the CA has of them is followed to its end: whoever works on one
/// may be about to be given a certificate.
async fn void_orders(tx: &mut PgConnection, id: Uuid, now: DateTime<Utc>) -> Result<(), StoreError> {
    let voided = sqlx::query!(
        "DELETE FROM orders WHERE domain_ids @> ARRAY[$1::uuid] AND state = $2 RETURNING domain_id, domain_ids, names, url, method",
        id,
        OrderStatus::Open.as_str()
    )
    .fetch_all(&mut *tx)
    .await?;

    for order in voided {
        if order.method == Method::Dns.as_str() {
            channel::call(&mut *tx, Channel::Challenges).await?;
        }
        let host = order.names.first().map(String::as_str).unwrap_or_default();
        if let Some(url) = &order.url {
            strays::follow(tx, url, order.domain_id, host, now).await?;
        }
        sqlx::query!(
            "DELETE FROM tasks WHERE domain_id = $1 AND kind = $2",
            order.domain_id,
            TaskKind::Order.as_str()
        )
        .execute(&mut *tx)
        .await?;
        for other in order.domain_ids.iter().filter(|other| **other != id) {
            tasks::wake(tx, *other, TaskKind::Look, now).await?;
        }
    }
    Ok(())
}

/// Lets another domain that shares a certificate go on with it alone: it is due
/// for one of its own, and the shared one retires with that.
async fn leave_shared(tx: &mut PgConnection, id: Uuid, now: DateTime<Utc>) -> Result<(), StoreError> {
    let others = sqlx::query_scalar!(
        "UPDATE certificates SET domain_ids = array_remove(domain_ids, $1),
             domain_id = (SELECT other FROM unnest(domain_ids) other WHERE other <> $1 LIMIT 1),
             retires = $3, renew_at = $2, called = true, advice_at = NULL
         WHERE domain_ids @> ARRAY[$1::uuid] AND cardinality(domain_ids) > 1
           AND revoked_at IS NULL AND replaced_at IS NULL AND not_after > $2
         RETURNING domain_id",
        id,
        now,
        RevocationReason::CessationOfOperation.as_str()
    )
    .fetch_all(&mut *tx)
    .await?;

    for other in others {
        tasks::wake(tx, other, TaskKind::Look, now).await?;
    }
    Ok(())
}

/// Marks a domain's certificates as revoked and queues their revocation. What
/// was brought in is given up too; revoking it is for its owner.
pub(crate) async fn give_up(
    tx: &mut PgConnection,
    id: Uuid,
    reason: RevocationReason,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    let certificates = sqlx::query!(
        "UPDATE certificates SET revoked_at = $2
         WHERE domain_ids @> ARRAY[$1::uuid] AND revoked_at IS NULL AND not_after > $2
         RETURNING id, origin, domain_ids",
        id,
        now
    )
    .fetch_all(&mut *tx)
    .await?;

    let mut revoked = Vec::new();
    for certificate in certificates {
        // The other one of a pair needs another certificate from now on.
        for other in certificate.domain_ids.iter().filter(|other| **other != id) {
            tasks::wake(tx, *other, TaskKind::Look, now).await?;
        }
        if error::word::<Origin>("origin", &certificate.origin)? == Origin::Ordered {
            revoked.push(certificate.id);
        }
    }

    revocations::queue(tx, &revoked, id, reason, now).await?;
    Ok(revoked.len())
}

/// Counts what had run out already as no longer in use.
async fn retire_expired(tx: &mut PgConnection, id: Uuid, now: DateTime<Utc>) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE certificates SET replaced_at = $2
         WHERE domain_ids @> ARRAY[$1::uuid] AND replaced_at IS NULL AND revoked_at IS NULL",
        id,
        now
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

//! The end of a claim, and giving certificates up.

use chrono::{DateTime, Utc};
use nomenta_api::certificate::OrderStatus;
use nomenta_api::event::Event;
use nomenta_core::judge::certificate::{Origin, RevocationReason};
use nomenta_core::judge::gate::Stage;
use nomenta_core::judge::standing::Ending;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Store;
use crate::StoreError;
use crate::channel::{self, Channel};
use crate::claims::{self, Told};
use crate::error;
use crate::tasks::{self, TaskKind};

impl Store {
    /// Gives up every certificate that covers a domain and was ordered for it,
    /// and asks for its revocation; returns how many. The domain is looked at
    /// again, so that a new one is ordered.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Database`]; nothing is
    /// given up then.
    pub async fn revoke(&self, domain: &DomainRecord, reason: RevocationReason) -> Result<usize, StoreError> {
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;
        let claims = claims::lock(&mut tx, &[domain.id]).await?;
        claims.open(domain.id)?;

        let revoked = give_up(&mut tx, domain.id, reason, now).await?;
        tasks::wake(&mut tx, domain.id, TaskKind::Look, now).await?;
        tx.commit().await?;

        Ok(revoked)
    }

    /// Lets a domain leave the platform: no more looks, no route, its certificates
    /// revoked; one that another domain shares goes on being served for that until
    /// it has one of its own.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Database`]; the domain
    /// stays as it is then.
    pub async fn release(&self, domain: &DomainRecord) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;
        let claims = claims::lock(&mut tx, &[domain.id]).await?;
        let host = claims.open(domain.id)?.host.clone();

        let mut told = Told::default();
        end(&mut tx, domain.id, Ending::Released, &mut told, now).await?;
        claims::settle(&mut tx, self, &host, &mut told, now).await?;
        told.write(&mut tx, now).await?;
        tx.commit().await?;

        Ok(())
    }

    /// Gives up claims that were never proved, once their token and the patience
    /// with them have run out; returns how many.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn expire_claims(&self, now: DateTime<Utc>, most: i64) -> Result<usize, StoreError> {
        let due = sqlx::query_scalar!(
            "SELECT id FROM domains
             WHERE ended_at IS NULL AND held_since IS NULL AND token_expires_at < $1
               AND ownership IN ('waiting', 'blocked') ORDER BY token_expires_at LIMIT $2",
            now - self.rules.patience,
            most
        )
        .fetch_all(&self.pool)
        .await?;

        let mut expired = 0;
        for id in due {
            expired += usize::from(self.expire(id, now).await?);
        }
        Ok(expired)
    }

    /// Gives one of them up; `false` if something has come in between.
    async fn expire(&self, id: Uuid, now: DateTime<Utc>) -> Result<bool, StoreError> {
        let mut tx = self.pool.begin().await?;
        let claims = claims::lock(&mut tx, &[id]).await?;
        let Some(claim) = claims.get(id) else { return Ok(false) };
        let host = claim.host.clone();

        let is_due = sqlx::query_scalar!(
            r#"SELECT token_expires_at < $2 AND held_since IS NULL AND ownership IN ('waiting', 'blocked')
                   AS "due!" FROM domains WHERE id = $1"#,
            id,
            now - self.rules.patience
        );
        if !is_due.fetch_one(&mut *tx).await? {
            return Ok(false);
        }

        let mut told = Told::default();
        end(&mut tx, id, Ending::Expired, &mut told, now).await?;
        claims::settle(&mut tx, self, &host, &mut told, now).await?;
        told.write(&mut tx, now).await?;
        tx.commit().await?;
        Ok(true)
    }
}

/// Ends a claim for good, and settles in the same breath what depends on it: its
/// tasks and orders are gone, its pair is parted, its certificates are given up.
pub(crate) async fn end(
    tx: &mut PgConnection,
    id: Uuid,
    ending: Ending,
    told: &mut Told,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let claims = claims::lock(tx, &[id]).await?;
    let claim = claims.open(id)?;

    sqlx::query!(
        "UPDATE domains SET ended_at = $2, ending = $3, stage = $4, held_since = NULL, pair_id = NULL,
         is_at_work = false, paused_at = NULL, next_site_id = NULL, switch_at = NULL WHERE id = $1",
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
/// anew for itself alone.
async fn void_orders(tx: &mut PgConnection, id: Uuid, now: DateTime<Utc>) -> Result<(), StoreError> {
    let voided = sqlx::query!(
        "DELETE FROM orders WHERE domain_ids @> ARRAY[$1::uuid] AND state = $2 RETURNING domain_id, domain_ids",
        id,
        OrderStatus::Open.as_str()
    )
    .fetch_all(&mut *tx)
    .await?;

    for order in voided {
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
async fn give_up(
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

    queue(tx, &revoked, id, reason, now).await?;
    channel::notify(tx, Channel::Work).await?;
    Ok(revoked.len())
}

/// Asks for the revocation of certificates that one claim had.
pub(crate) async fn queue(
    tx: &mut PgConnection,
    certificates: &[Uuid],
    domain_id: Uuid,
    reason: RevocationReason,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO revocations (certificate_id, domain_id, host, serial, chain_pem, reason, asked_at, try_at)
         SELECT c.id, $2, d.host, coalesce(c.facts->>'serial', ''), c.chain_pem, $3, $4, $4
         FROM certificates c JOIN domains d ON d.id = $2
         WHERE c.id = ANY($1) ON CONFLICT DO NOTHING",
        certificates,
        domain_id,
        reason.as_str(),
        now
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

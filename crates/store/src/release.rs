//! Leaving the platform, and giving certificates up.

use chrono::{DateTime, Utc};
use nomenta_api::certificate::OrderStatus;
use nomenta_api::event::Event;
use nomenta_core::judge::certificate::{Origin, RevocationReason};
use nomenta_core::judge::gate::Stage;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Store;
use crate::StoreError;
use crate::channel::{self, Channel};
use crate::edge;
use crate::error;
use crate::events::{self, About};
use crate::tasks::{self, TaskKind};

impl Store {
    /// Gives up every certificate that covers a domain and was ordered for it,
    /// and asks for its revocation; returns how many. The domain is looked at
    /// again, so that a new one is ordered.
    ///
    /// # Errors
    /// [`StoreError::Database`]; nothing is given up then.
    pub async fn revoke(&self, domain: &DomainRecord, reason: RevocationReason) -> Result<usize, StoreError> {
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;
        let revoked = give_up(&mut tx, domain, reason, now).await?;
        tasks::wake(&mut tx, domain.id, TaskKind::Look, now).await?;
        tx.commit().await?;

        Ok(revoked)
    }

    /// Lets a domain leave the platform: no more looks, no route, its
    /// certificates revoked unless another domain shares them.
    ///
    /// # Errors
    /// [`StoreError::Database`]; the domain stays then.
    pub async fn release(&self, domain: &DomainRecord) -> Result<(), StoreError> {
        let now = Utc::now();
        let name = domain.domain.routed();
        let mut tx = self.pool.begin().await?;

        sqlx::query!("DELETE FROM tasks WHERE domain_id = $1", domain.id).execute(&mut *tx).await?;
        sqlx::query!(
            "DELETE FROM orders WHERE domain_id = $1 AND state = $2",
            domain.id,
            OrderStatus::Open.as_str()
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!("DELETE FROM findings WHERE domain_id = $1", domain.id).execute(&mut *tx).await?;

        sqlx::query!(
            "UPDATE domains SET released_at = $2, stage = $3, pair_id = NULL WHERE id = $1",
            domain.id,
            now,
            Stage::Released.as_str()
        )
        .execute(&mut *tx)
        .await?;

        if let Some(other) = domain.pair_id {
            sqlx::query!("UPDATE domains SET pair_id = NULL, is_primary = true WHERE id = $1", other)
                .execute(&mut *tx)
                .await?;
        }

        give_up(&mut tx, domain, RevocationReason::CessationOfOperation, now).await?;
        let about = About { id: Some(domain.id), host: &name };
        events::append(&mut tx, about, now, &[Event::Released {}]).await?;
        edge::touch(&mut tx, &[&name]).await?;
        tx.commit().await?;

        Ok(())
    }
}

/// Marks a domain's certificates as revoked and queues their revocation. What
/// was brought in is given up too; revoking it is for its owner.
async fn give_up(
    tx: &mut PgConnection,
    domain: &DomainRecord,
    reason: RevocationReason,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    let certificates = sqlx::query!(
        "UPDATE certificates SET revoked_at = $2
         WHERE domain_ids @> ARRAY[$1::uuid] AND revoked_at IS NULL AND not_after > $2
         RETURNING id, origin, domain_ids",
        domain.id,
        now
    )
    .fetch_all(&mut *tx)
    .await?;

    let mut revoked = Vec::new();
    for certificate in certificates {
        // The other one of a pair needs another certificate from now on.
        for other in certificate.domain_ids.iter().filter(|id| **id != domain.id) {
            tasks::wake_if_there(tx, *other, now).await?;
        }
        if error::word::<Origin>("origin", &certificate.origin)? == Origin::Ordered {
            revoked.push(certificate.id);
        }
    }

    queue(tx, &revoked, &domain.domain.routed(), reason, now).await?;
    channel::notify(tx, Channel::Work).await?;
    Ok(revoked.len())
}

async fn queue(
    tx: &mut PgConnection,
    certificates: &[Uuid],
    host: &str,
    reason: RevocationReason,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO revocations (certificate_id, host, serial, chain_pem, reason, asked_at, try_at)
         SELECT id, $2, coalesce(facts->>'serial', ''), chain_pem, $3, $4, $4 FROM certificates
         WHERE id = ANY($1) ON CONFLICT DO NOTHING",
        certificates,
        host,
        reason.as_str(),
        now
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

//! Revocations: asked for here, carried out at the CA by whichever process
//! comes first, until they are done.

use chrono::{DateTime, Duration, Utc};
use nomenta_core::judge::evidence::Problem;
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Store;
use crate::StoreError;
use crate::edge;
use crate::events::{self, About, EventKind};
use crate::tasks::{self, TaskKind};

/// While one process carries a revocation out, no other does.
const TERM: Duration = Duration::seconds(30);
/// Longest wait between two tries.
const LONGEST: Duration = Duration::hours(1);

/// A revocation to be carried out.
#[derive(Clone, Debug)]
pub struct Revocation {
    /// The certificate's record.
    pub certificate_id: Uuid,
    /// The domain it was held for.
    pub host: String,
    /// Its serial number.
    pub serial: String,
    /// Its chain, leaf first.
    pub chain_pem: String,
    /// Why.
    pub reason: String,
    /// How often it has been tried.
    pub tries: i32,
}

/// A revocation, for people.
#[derive(Clone, Debug)]
pub struct RevocationRow {
    /// Serial number of the certificate.
    pub serial: String,
    /// Why.
    pub reason: String,
    /// When it was asked for.
    pub asked_at: DateTime<Utc>,
    /// When the CA did it.
    pub done_at: Option<DateTime<Utc>>,
    /// Why the CA has not done it yet.
    pub problem: Option<String>,
}

impl Store {
    /// Gives up every certificate that covers a domain and was ordered for it,
    /// and asks for its revocation; returns how many. The domain is looked at
    /// again, so that a new one is ordered.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn revoke(&self, domain: &DomainRecord, reason: &str) -> Result<usize, StoreError> {
        let (now, name) = (Utc::now(), domain.domain.routed());
        let mut tx = self.pool.begin().await?;
        let revoked = give_up(&mut tx, domain.id, &name, reason, now).await?;
        tasks::wake(&mut tx, domain.id, TaskKind::Look, now).await?;
        tx.commit().await?;
        Ok(revoked)
    }

    /// Takes revocations that are to be tried now.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn lease_revocations(
        &self,
        now: DateTime<Utc>,
        most: i64,
    ) -> Result<Vec<Revocation>, StoreError> {
        let rows = sqlx::query_as!(
            Revocation,
            "UPDATE revocations SET try_at = $2, tries = tries + 1 WHERE certificate_id IN (
                 SELECT certificate_id FROM revocations WHERE done_at IS NULL AND try_at <= $1
                 ORDER BY try_at LIMIT $3 FOR UPDATE SKIP LOCKED)
             RETURNING certificate_id, host, serial, chain_pem, reason, tries",
            now,
            now + TERM,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Notes that the CA has revoked.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn finish_revocation(&self, revocation: &Revocation) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query!(
            "UPDATE revocations SET done_at = $2, problem = NULL WHERE certificate_id = $1 AND done_at IS NULL",
            revocation.certificate_id,
            now
        )
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() > 0 {
            let id = sqlx::query_scalar!("SELECT id FROM domains WHERE host = $1", revocation.host);
            let id = id.fetch_optional(&mut *tx).await?;
            let data = json!({ "serial": revocation.serial, "reason": revocation.reason });
            let kind = EventKind::CertificateRevoked;
            events::append_at(&mut tx, id, &revocation.host, now, &[(kind, data)]).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Notes why a revocation was not carried out; it is tried again, ever less
    /// often.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn postpone_revocation(
        &self,
        revocation: &Revocation,
        problem: &Problem,
    ) -> Result<(), StoreError> {
        let wait = Duration::seconds(5 << revocation.tries.clamp(0, 10)).min(LONGEST);
        sqlx::query!(
            "UPDATE revocations SET try_at = $2, problem = $3 WHERE certificate_id = $1",
            revocation.certificate_id,
            Utc::now() + wait,
            json!(problem)
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Revocations of a domain's certificates, newest first.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn revocations(&self, host: &str) -> Result<Vec<RevocationRow>, StoreError> {
        let rows = sqlx::query_as!(
            RevocationRow,
            r#"SELECT serial, reason, asked_at, done_at, problem->>'detail' AS problem FROM revocations
               WHERE host = $1 ORDER BY asked_at DESC LIMIT 20"#,
            host
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Lets a domain leave the platform: no more looks, no route, its
    /// certificates revoked unless another domain shares them.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn release(&self, domain: &DomainRecord) -> Result<(), StoreError> {
        let (now, name) = (Utc::now(), domain.domain.routed());
        let mut tx = self.pool.begin().await?;
        sqlx::query!("DELETE FROM tasks WHERE domain_id = $1", domain.id).execute(&mut *tx).await?;
        sqlx::query!("DELETE FROM orders WHERE domain_id = $1 AND state = 'open'", domain.id)
            .execute(&mut *tx)
            .await?;
        sqlx::query!("DELETE FROM findings WHERE domain_id = $1", domain.id).execute(&mut *tx).await?;
        sqlx::query!(
            "UPDATE domains SET released_at = $2, stage = 'released', pair_id = NULL WHERE id = $1",
            domain.id,
            now
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "UPDATE domains SET pair_id = NULL, is_primary = true WHERE host = $1",
            domain.domain.pair.as_ref().map(|pair| pair.other.as_str()).unwrap_or_default()
        )
        .execute(&mut *tx)
        .await?;
        give_up(&mut tx, domain.id, &name, "cessationOfOperation", now).await?;
        let about = About { id: domain.id, host: &name };
        events::append(&mut tx, about, now, &[(EventKind::Released, json!({}))]).await?;
        edge::touch(&mut tx, &[&name]).await?;
        tx.commit().await?;
        Ok(())
    }
}

/// Marks a domain's certificates as revoked and queues their revocation. What
/// was brought in is given up too; revoking it is for its owner.
async fn give_up(
    tx: &mut PgConnection,
    domain_id: Uuid,
    name: &str,
    reason: &str,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    let certificates = sqlx::query!(
        "UPDATE certificates SET revoked_at = $2
         WHERE domain_ids @> ARRAY[$1::uuid] AND revoked_at IS NULL AND not_after > $2
         RETURNING id, facts->>'serial' AS serial, chain_pem, origin, domain_ids",
        domain_id,
        now
    )
    .fetch_all(&mut *tx)
    .await?;
    let mut revoked = 0;
    for certificate in certificates {
        // The other one of a pair needs another certificate from now on.
        for other in certificate.domain_ids.iter().filter(|id| **id != domain_id) {
            tasks::wake_if_there(tx, *other, now).await?;
        }
        if certificate.origin == "brought" {
            continue;
        }
        revoked += 1;
        sqlx::query!(
            "INSERT INTO revocations (certificate_id, host, serial, chain_pem, reason, asked_at, try_at)
             VALUES ($1, $2, $3, $4, $5, $6, $6) ON CONFLICT DO NOTHING",
            certificate.id,
            name,
            certificate.serial.unwrap_or_default(),
            certificate.chain_pem,
            reason,
            now
        )
        .execute(&mut *tx)
        .await?;
    }
    sqlx::query!("SELECT pg_notify('nomenta_work', '')").fetch_one(&mut *tx).await?;
    Ok(revoked)
}

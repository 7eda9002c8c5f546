//! Revocations: asked for here, carried out at the CA by whichever process
//! comes first, until they are done.

use chrono::{DateTime, Duration, Utc};
use nomenta_api::event::Event;
use nomenta_core::judge::certificate::RevocationReason;
use nomenta_core::judge::evidence::Problem;
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;
use crate::events::{self, About};

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
    /// Key of that domain's record.
    pub domain_id: Option<Uuid>,
    /// Its serial number.
    pub serial: String,
    /// Its chain, leaf first.
    pub chain_pem: String,
    /// Why.
    pub reason: RevocationReason,
    /// How often it has been tried.
    pub tries: i32,
}

/// A revocation, for people.
#[derive(Clone, Debug)]
pub struct RevocationRow {
    /// Serial number of the certificate.
    pub serial: String,
    /// Why.
    pub reason: RevocationReason,
    /// When it was asked for.
    pub asked_at: DateTime<Utc>,
    /// When the CA did it.
    pub done_at: Option<DateTime<Utc>>,
    /// Why the CA has not done it yet.
    pub problem: Option<String>,
}

impl Store {
    /// Takes revocations that are to be tried now.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn lease_revocations(
        &self,
        now: DateTime<Utc>,
        most: i64,
    ) -> Result<Vec<Revocation>, StoreError> {
        let rows = sqlx::query!(
            "UPDATE revocations SET try_at = $2, tries = tries + 1 WHERE certificate_id IN (
                 SELECT certificate_id FROM revocations WHERE done_at IS NULL AND try_at <= $1
                 ORDER BY try_at LIMIT $3 FOR UPDATE SKIP LOCKED)
             RETURNING certificate_id, domain_id, host, serial, chain_pem, reason, tries",
            now,
            now + TERM,
            most
        )
        .fetch_all(&self.pool)
        .await?;

        let mut leased = Vec::with_capacity(rows.len());
        for row in rows {
            leased.push(Revocation {
                certificate_id: row.certificate_id,
                host: row.host,
                domain_id: row.domain_id,
                serial: row.serial,
                chain_pem: row.chain_pem,
                reason: word("reason", &row.reason)?,
                tries: row.tries,
            });
        }

        Ok(leased)
    }

    /// Notes that the CA has revoked.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn finish_revocation(&self, revocation: &Revocation) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.begin().await?;
        let done = sqlx::query!(
            "UPDATE revocations SET done_at = $2, problem = NULL WHERE certificate_id = $1 AND done_at IS NULL",
            revocation.certificate_id,
            now
        )
        .execute(&mut *tx)
        .await?;

        if done.rows_affected() > 0 {
            let event =
                Event::CertificateRevoked { serial: revocation.serial.clone(), reason: revocation.reason };
            let id = revocation.domain_id;
            events::append(&mut tx, About { id, host: &revocation.host }, now, &[event]).await?;
        }

        self.commit(tx).await?;
        Ok(())
    }

    /// Notes why a revocation was not carried out; it is tried again, ever less
    /// often.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
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
    /// [`StoreError::Database`]; try again.
    pub async fn revocations(&self, domain_id: Uuid) -> Result<Vec<RevocationRow>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT serial, reason, asked_at, done_at, problem->>'detail' AS problem FROM revocations
               WHERE domain_id = $1 ORDER BY asked_at DESC LIMIT 20"#,
            domain_id
        )
        .fetch_all(&self.pool)
        .await?;

        let mut revocations = Vec::with_capacity(rows.len());
        for row in rows {
            revocations.push(RevocationRow {
                serial: row.serial,
                reason: word("reason", &row.reason)?,
                asked_at: row.asked_at,
                done_at: row.done_at,
                problem: row.problem,
            });
        }

        Ok(revocations)
    }
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

//! Certificates held: reading them, bringing them in, and calling for their
//! renewal.

use chrono::{DateTime, Duration, Utc};
use nomenta_api::event::Event;
use nomenta_core::judge::certificate::{CertificateFacts, Held, Origin};
use serde_json::{Value, json};
use uuid::Uuid;

use crate::DomainRecord;
use crate::Store;
use crate::StoreError;
use crate::edge;
use crate::error::{read, word};
use crate::events::{self, About};
use crate::locks;
use crate::orders;
use crate::places::{Place, Whose, or_end};
use crate::tasks::{self, TaskKind};
use crate::version::Expected;

/// While one process asks the CA for advice on a certificate, no other does.
const ADVICE_TERM: Duration = Duration::minutes(5);

/// A certificate of the fleet.
#[derive(Clone, Debug)]
pub struct CertificateRow {
    /// Key of the record.
    pub id: Uuid,
    /// The domains that it is served for.
    pub hosts: Vec<String>,
    /// The account.
    pub account: String,
    /// What it says, where it comes from, when it is renewed.
    pub held: Held,
    /// When it was issued or brought in.
    pub issued_at: DateTime<Utc>,
}

/// Which certificates to list.
#[derive(Clone, Debug, Default)]
pub struct CertificateFilter {
    /// Only those that run out before then.
    pub before: Option<DateTime<Utc>>,
    /// Only of these accounts.
    pub whose: Whose,
    /// Only those of this issuer, by its distinguished name.
    pub issuer: Option<String>,
    /// Only those after this one, by its end.
    pub after: Option<Place<DateTime<Utc>>>,
}

struct CertificateColumns {
    id: Uuid,
    facts: Value,
    origin: String,
    renew_at: Option<DateTime<Utc>>,
    issued_at: DateTime<Utc>,
    account: String,
    hosts: Vec<String>,
}

/// A page of the fleet's certificates, by what the statement goes along.
macro_rules! certificates {
    ($store:expr, $filter:expr, $place:expr, $limit:expr, $along:literal, $each:literal) => {
        sqlx::query_as!(
            CertificateColumns,
            r#"SELECT c.id, c.facts, c.origin, c.renew_at, c.issued_at,
                      (SELECT name FROM accounts WHERE id = c.account_id) AS "account!",
                      ARRAY(SELECT host FROM domains WHERE id = ANY(c.domain_ids) ORDER BY is_primary DESC, host)
                          AS "hosts!"
               FROM (SELECT l.id FROM "# + $each + " AS w (id) CROSS JOIN LATERAL (
                         SELECT id, not_after FROM certificates
                         WHERE replaced_at IS NULL AND revoked_at IS NULL AND (not_after, id) > ($1, $2)
                           AND not_after < coalesce($3, 'infinity'::timestamptz)
                           AND ($6::text IS NULL OR issuer = $6) AND " + $along + "
                         ORDER BY not_after, id LIMIT $4) l
                     ORDER BY l.not_after, l.id LIMIT $4) l
               CROSS JOIN LATERAL (SELECT * FROM certificates WHERE id = l.id OFFSET 0) c
               ORDER BY c.not_after, c.id",
            $place.by,
            $place.id,
            $filter.before,
            $limit,
            $filter.whose.accounts(),
            $filter.issuer
        )
        .fetch_all(&$store.pool)
        .await?
    };
}

/// A certificate whose renewal the CA may have advice on.
#[derive(Clone, Debug)]
pub struct Advised {
    /// Key of the record.
    pub id: Uuid,
    /// The chain, leaf first.
    pub chain_pem: String,
}

pub(crate) fn held(facts: Value, origin: &str, renew_at: Option<DateTime<Utc>>) -> Result<Held, StoreError> {
    Ok(Held { facts: read("certificate", facts)?, origin: word("origin", origin)?, renew_at })
}

impl Store {
    /// The newest certificate that covers a domain and is not revoked.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn certificate(&self, domain_id: Uuid) -> Result<Option<Held>, StoreError> {
        let row = sqlx::query!(
            "SELECT facts, origin, renew_at FROM certificates
             WHERE domain_ids @> ARRAY[$1::uuid] AND revoked_at IS NULL ORDER BY issued_at DESC LIMIT 1",
            domain_id
        )
        .fetch_optional(&self.pool)
        .await?;
        row.map(|row| held(row.facts, &row.origin, row.renew_at)).transpose()
    }

    /// The chain of that certificate, PEM, leaf first.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn certificate_chain(&self, domain_id: Uuid) -> Result<Option<String>, StoreError> {
        let chain = sqlx::query_scalar!(
            "SELECT chain_pem FROM certificates
             WHERE domain_ids @> ARRAY[$1::uuid] AND revoked_at IS NULL ORDER BY issued_at DESC LIMIT 1",
            domain_id
        );
        Ok(chain.fetch_optional(&self.pool).await?)
    }

    /// Certificates in use, first those that run out first, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn certificates(
        &self,
        filter: &CertificateFilter,
        limit: i64,
    ) -> Result<Vec<CertificateRow>, StoreError> {
        let place = or_end(filter.after.as_ref(), false);
        let rows = match (filter.whose.accounts(), &filter.issuer) {
            (Some(_), _) => {
                certificates!(self, filter, place, limit, "account_id = w.id", "unnest($5::uuid[])")
            }
            (None, Some(_)) => {
                certificates!(self, filter, place, limit, "issuer = $6", "(VALUES ($5::uuid[]))")
            }
            (None, None) => {
                certificates!(self, filter, place, limit, "true", "(VALUES ($5::uuid[]))")
            }
        };

        let mut certificates = Vec::with_capacity(rows.len());
        for row in rows {
            certificates.push(CertificateRow {
                id: row.id,
                hosts: row.hosts,
                account: row.account,
                held: held(row.facts, &row.origin, row.renew_at)?,
                issued_at: row.issued_at,
            });
        }

        Ok(certificates)
    }

    /// Who has issued certificates in use, by name, at most so many.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn issuers(&self, most: i32) -> Result<Vec<String>, StoreError> {
        // From one to the next along the index, however many certificates each has.
        let issuers = sqlx::query_scalar!(
            r#"WITH RECURSIVE issuers (issuer, place) AS (
                   SELECT min(issuer), 1 FROM certificates WHERE replaced_at IS NULL AND revoked_at IS NULL
                   UNION ALL
                   SELECT (SELECT min(c.issuer) FROM certificates c
                           WHERE c.issuer > i.issuer AND c.replaced_at IS NULL AND c.revoked_at IS NULL), place + 1
                   FROM issuers i WHERE i.issuer IS NOT NULL AND place < $1)
               SELECT issuer AS "issuer!" FROM issuers WHERE issuer IS NOT NULL"#,
            most
        );
        Ok(issuers.fetch_all(&self.pool).await?)
    }

    /// Takes a certificate that the customer brings.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn bring(
        &self,
        domain: &DomainRecord,
        facts: &CertificateFacts,
        chain_pem: &str,
        sealed_key: &[u8],
        expected: Expected,
    ) -> Result<(), StoreError> {
        let id = Uuid::now_v7();
        let now = Utc::now();
        let name = domain.domain.routed();
        let mut tx = self.begin().await?;
        locks::lock(&mut tx, &[domain.id]).await?.expect(domain.id, expected)?;

        sqlx::query!(
            "INSERT INTO certificates
             (id, account_id, domain_id, domain_ids, facts, chain_pem, sealed_key, not_after, issued_at, origin)
             SELECT $1, account_id, id, ARRAY[id], $3, $4, $5, $6, $7, $8 FROM domains WHERE id = $2",
            id,
            domain.id,
            json!(facts),
            chain_pem,
            sealed_key,
            facts.not_after,
            now,
            Origin::Brought.as_str()
        )
        .execute(&mut *tx)
        .await?;

        orders::replace(&mut tx, id, &[domain.id], now).await?;
        tasks::wake(&mut tx, domain.id, TaskKind::Look, now).await?;

        let event = Event::CertificateBrought {
            serial: facts.serial.clone(),
            issuer: facts.issuer.clone(),
            not_after: facts.not_after,
        };
        events::append(&mut tx, About { id: Some(domain.id), host: &name }, now, &[event]).await?;
        edge::touch(&mut tx, &[&name]).await?;
        self.commit_work(tx).await?;

        Ok(())
    }

    /// Makes a domain's certificate due for renewal now; `false` if it has none.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn renew_now(&self, domain_id: Uuid, expected: Expected) -> Result<bool, StoreError> {
        let now = Utc::now();
        let mut tx = self.begin().await?;
        locks::lock(&mut tx, &[domain_id]).await?.expect(domain_id, expected)?;

        let due = sqlx::query!(
            "UPDATE certificates SET renew_at = $2, called = true, advice_at = NULL WHERE id =
                 (SELECT id FROM certificates WHERE domain_ids @> ARRAY[$1::uuid] AND revoked_at IS NULL
                  ORDER BY issued_at DESC LIMIT 1)",
            domain_id,
            now
        )
        .execute(&mut *tx)
        .await?;

        tasks::wake(&mut tx, domain_id, TaskKind::Look, now).await?;
        self.commit_work(tx).await?;

        Ok(due.rows_affected() > 0)
    }

    /// Calls up the domains of certificates whose time to be renewed has come;
    /// returns how many.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn call_renewals(&self, now: DateTime<Utc>, most: i64) -> Result<usize, StoreError> {
        let due = sqlx::query!(
            "SELECT id, domain_ids FROM certificates
             WHERE renew_at <= $1 AND NOT called AND revoked_at IS NULL ORDER BY renew_at LIMIT $2",
            now,
            most
        )
        .fetch_all(&self.pool)
        .await?;

        let mut called = 0;
        for certificate in due {
            let mut tx = self.begin().await?;
            locks::lock(&mut tx, &certificate.domain_ids).await?;
            let is_first = sqlx::query!(
                "UPDATE certificates SET called = true WHERE id = $1 AND renew_at <= $2 AND NOT called",
                certificate.id,
                now
            )
            .execute(&mut *tx)
            .await?;

            // Another process may have called it up already.
            if is_first.rows_affected() > 0 {
                for domain_id in &certificate.domain_ids {
                    tasks::wake(&mut tx, *domain_id, TaskKind::Look, now).await?;
                }
                called += 1;
            }
            self.commit_work(tx).await?;
        }

        Ok(called)
    }

    /// When the next renewal or revocation is due.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn next_renewal(&self) -> Result<Option<DateTime<Utc>>, StoreError> {
        let at = sqlx::query_scalar!(
            "SELECT least((SELECT min(renew_at) FROM certificates WHERE NOT called AND revoked_at IS NULL),
                          (SELECT min(try_at) FROM revocations WHERE done_at IS NULL))"
        );
        Ok(at.fetch_one(&self.pool).await?)
    }

    /// When the CA's advice is to be asked for next.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn next_advice(&self) -> Result<Option<DateTime<Utc>>, StoreError> {
        let at = sqlx::query_scalar!(
            "SELECT advice_at FROM certificates
             WHERE advice_at IS NOT NULL AND revoked_at IS NULL AND replaced_at IS NULL ORDER BY advice_at LIMIT 1"
        );
        Ok(at.fetch_optional(&self.pool).await?.flatten())
    }

    /// Takes certificates on which the CA is to be asked for advice now.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn lease_advice(&self, now: DateTime<Utc>, most: i64) -> Result<Vec<Advised>, StoreError> {
        let rows = sqlx::query_as!(
            Advised,
            "UPDATE certificates SET advice_at = $2 WHERE id IN (
                 SELECT id FROM certificates
                 WHERE advice_at <= $1 AND revoked_at IS NULL AND replaced_at IS NULL
                 ORDER BY advice_at LIMIT $3 FOR UPDATE SKIP LOCKED)
             RETURNING id, chain_pem",
            now,
            now + ADVICE_TERM,
            most
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Keeps the CA's advice: when to renew, if it has any, and when to ask
    /// again, if ever.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn keep_advice(
        &self,
        id: Uuid,
        renew_at: Option<DateTime<Utc>>,
        again_at: Option<DateTime<Utc>>,
    ) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE certificates SET renew_at = coalesce($2, renew_at), advice_at = $3 WHERE id = $1",
            id,
            renew_at,
            again_at
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}

//! Certificate orders, from opened to issued or refused.

use chrono::{DateTime, Utc};
use nomenta_core::evidence::{CertificateFacts, OrderState, Problem};
use serde_json::json;
use uuid::Uuid;

use crate::events::{self, About, EventKind};
use crate::tasks::{self, TaskKind};
use crate::{DomainRecord, Lease, Store, StoreError};

/// An open order.
#[derive(Clone, Debug)]
pub struct OrderRow {
    /// Key of the record.
    pub id: Uuid,
    /// The order's URL at the CA, once it is known there.
    pub url: Option<String>,
    /// The certificate's private key, sealed.
    pub sealed_key: Vec<u8>,
}

/// A certificate as it came from the CA.
#[derive(Clone, Debug)]
pub struct Issued {
    /// What it says.
    pub facts: CertificateFacts,
    /// The chain, leaf first.
    pub chain_pem: String,
}

impl Store {
    /// The open order of a domain.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn open_order(&self, domain_id: Uuid) -> Result<Option<OrderRow>, StoreError> {
        let row = sqlx::query_as!(
            OrderRow,
            "SELECT id, url, sealed_key FROM orders WHERE domain_id = $1 AND state = 'open'",
            domain_id
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Notes where the CA keeps the order, before anything is done with it:
    /// from here on a restart goes on with this very order.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn note_order_url(&self, order_id: Uuid, url: &str) -> Result<(), StoreError> {
        sqlx::query!("UPDATE orders SET url = $2 WHERE id = $1", order_id, url).execute(&self.pool).await?;
        Ok(())
    }

    /// Forgets an order's URL that the CA no longer knows.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn forget_order_url(&self, order_id: Uuid) -> Result<(), StoreError> {
        sqlx::query!("UPDATE orders SET url = NULL WHERE id = $1", order_id).execute(&self.pool).await?;
        Ok(())
    }

    /// Publishes a challenge's answer to the edge (RFC 8555, section 8.3).
    ///
    /// # Errors
    /// If the database fails.
    pub async fn add_challenge(
        &self,
        order_id: Uuid,
        token: &str,
        key_authorization: &str,
    ) -> Result<(), StoreError> {
        sqlx::query!(
            "INSERT INTO challenges (token, order_id, key_authorization) VALUES ($1, $2, $3)
             ON CONFLICT (token) DO UPDATE SET key_authorization = $3",
            token,
            order_id,
            key_authorization
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The answer to a challenge.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn challenge(&self, token: &str) -> Result<Option<String>, StoreError> {
        let answer = sqlx::query_scalar!("SELECT key_authorization FROM challenges WHERE token = $1", token);
        Ok(answer.fetch_optional(&self.pool).await?)
    }

    /// Where the latest order of a domain stands.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn order_state(&self, domain_id: Uuid) -> Result<OrderState, StoreError> {
        let row = sqlx::query!(
            "SELECT state, problem, retry_at FROM orders WHERE domain_id = $1 ORDER BY placed_at DESC LIMIT 1",
            domain_id
        )
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(OrderState::None) };
        match (row.state.as_str(), row.problem, row.retry_at) {
            ("open", _, _) => Ok(OrderState::Open),
            ("refused", Some(problem), Some(retry_at)) => {
                let problem =
                    serde_json::from_value(problem).map_err(|e| StoreError::unreadable("problem", e))?;
                Ok(OrderState::Refused { problem, retry_at })
            }
            _ => Ok(OrderState::None),
        }
    }

    /// How many orders in a row the CA has refused for a domain.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn refusals(&self, domain_id: Uuid) -> Result<i32, StoreError> {
        let count = sqlx::query_scalar!(
            r#"SELECT count(*)::int AS "count!" FROM orders o WHERE o.domain_id = $1 AND o.state = 'refused'
               AND o.placed_at > coalesce((SELECT max(placed_at) FROM orders
                                           WHERE domain_id = $1 AND state = 'issued'), '-infinity')"#,
            domain_id
        );
        Ok(count.fetch_one(&self.pool).await?)
    }

    /// Ends an order with a certificate, and makes the domain due for a look.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has taken the task; then
    /// nothing is written.
    pub async fn finish_issued(
        &self,
        lease: &Lease,
        domain: &DomainRecord,
        order: &OrderRow,
        issued: &Issued,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;
        tasks::finish(&mut tx, lease, None).await?;
        sqlx::query!("UPDATE orders SET state = 'issued', ended_at = $2 WHERE id = $1", order.id, now)
            .execute(&mut *tx)
            .await?;
        sqlx::query!("DELETE FROM challenges WHERE order_id = $1", order.id).execute(&mut *tx).await?;
        sqlx::query!(
            "INSERT INTO certificates
             (id, domain_id, order_id, facts, chain_pem, sealed_key, not_after, issued_at)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8)",
            Uuid::now_v7(),
            domain.id,
            order.id,
            json!(issued.facts),
            issued.chain_pem,
            order.sealed_key,
            issued.facts.not_after,
            now
        )
        .execute(&mut *tx)
        .await?;
        let about = About { id: domain.id, host: domain.domain.host.as_str() };
        let facts = &issued.facts;
        let data = json!({ "serial": facts.serial, "issuer": facts.issuer, "not_after": facts.not_after });
        tasks::wake(&mut tx, domain.id, TaskKind::Look, now).await?;
        events::append(&mut tx, about, now, &[(EventKind::CertificateIssued, data)]).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Ends an order that the CA refused; another may be placed at `retry_at`.
    ///
    /// # Errors
    /// As for [`finish_issued`](Self::finish_issued).
    pub async fn finish_refused(
        &self,
        lease: &Lease,
        domain: &DomainRecord,
        order: &OrderRow,
        problem: &Problem,
        retry_at: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.pool.begin().await?;
        tasks::finish(&mut tx, lease, None).await?;
        sqlx::query!(
            "UPDATE orders SET state = 'refused', problem = $2, retry_at = $3, ended_at = $4 WHERE id = $1",
            order.id,
            json!(problem),
            retry_at,
            now
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!("DELETE FROM challenges WHERE order_id = $1", order.id).execute(&mut *tx).await?;
        let about = About { id: domain.id, host: domain.domain.host.as_str() };
        let data = json!({ "problem": problem, "retry_at": retry_at });
        tasks::wake(&mut tx, domain.id, TaskKind::Look, now).await?;
        events::append(&mut tx, about, now, &[(EventKind::OrderRefused, data)]).await?;
        tx.commit().await?;
        Ok(())
    }

    /// The CA account's credentials, sealed.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn acme_account(&self, directory: &str) -> Result<Option<Vec<u8>>, StoreError> {
        let row = sqlx::query_scalar!("SELECT sealed FROM acme_accounts WHERE directory = $1", directory);
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Keeps the CA account's credentials; if another process was first, its
    /// are kept and returned.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn keep_acme_account(&self, directory: &str, sealed: &[u8]) -> Result<Vec<u8>, StoreError> {
        let kept = sqlx::query_scalar!(
            "INSERT INTO acme_accounts (directory, sealed) VALUES ($1, $2)
             ON CONFLICT (directory) DO UPDATE SET directory = $1 RETURNING sealed",
            directory,
            sealed
        );
        Ok(kept.fetch_one(&self.pool).await?)
    }

    /// Replaces credentials that the CA no longer knows.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn drop_acme_account(&self, directory: &str) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM acme_accounts WHERE directory = $1", directory).execute(&self.pool).await?;
        Ok(())
    }
}

//! Certificates held, and the edge's feed of them.

use chrono::{DateTime, Utc};
use nomenta_core::evidence::CertificateFacts;
use uuid::Uuid;

use crate::{Store, StoreError};

/// The newest certificate of a domain.
#[derive(Clone, Debug)]
pub struct Held {
    /// What it says.
    pub facts: CertificateFacts,
    /// When it was issued.
    pub issued_at: DateTime<Utc>,
}

/// What the edge needs for one domain.
#[derive(Clone, Debug)]
pub struct FeedRow {
    /// The name.
    pub host: String,
    /// The site to show.
    pub site: String,
    /// The site's default host.
    pub default_host: String,
    /// Whether the routing gate is or was passed, so that traffic may come.
    pub stage: String,
    /// The chain, leaf first, once there is one.
    pub chain_pem: Option<String>,
    /// Its private key, sealed.
    pub sealed_key: Option<Vec<u8>>,
}

impl Store {
    /// The newest certificate of a domain.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn certificate(&self, domain_id: Uuid) -> Result<Option<Held>, StoreError> {
        let row = sqlx::query!(
            "SELECT facts, issued_at FROM certificates WHERE domain_id = $1 ORDER BY issued_at DESC LIMIT 1",
            domain_id
        )
        .fetch_optional(&self.pool)
        .await?;
        row.map(|r| {
            let facts =
                serde_json::from_value(r.facts).map_err(|e| StoreError::unreadable("certificate", e))?;
            Ok(Held { facts, issued_at: r.issued_at })
        })
        .transpose()
    }

    /// Every domain with its newest certificate, by name.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn feed(&self) -> Result<Vec<FeedRow>, StoreError> {
        let rows = sqlx::query_as!(
            FeedRow,
            r#"SELECT d.host, s.name AS site, s.default_host, d.stage,
                      c.chain_pem AS "chain_pem?", c.sealed_key AS "sealed_key?"
               FROM domains d
               JOIN sites s ON s.id = d.site_id
               LEFT JOIN LATERAL (SELECT chain_pem, sealed_key FROM certificates
                                  WHERE domain_id = d.id ORDER BY issued_at DESC LIMIT 1) c ON true
               ORDER BY d.host"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }
}

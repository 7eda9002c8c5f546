//! Whose a token is that was read somewhere.

use nomenta_core::judge::evidence::KnownToken;
use nomenta_core::name::token::Token;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Store;
use crate::StoreError;

/// Tokens looked up for one look, whatever a zone holds.
const MOST: usize = 100;

impl Store {
    /// Which of these, as they were read for one domain, are tokens of others.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn known_tokens(
        &self,
        domain: &DomainRecord,
        read: Vec<String>,
    ) -> Result<Vec<KnownToken>, StoreError> {
        let mut read: Vec<_> = read.into_iter().filter(|text| text != domain.domain.token.as_str()).collect();
        read.truncate(MOST);
        if read.is_empty() {
            return Ok(Vec::new());
        }

        let rows = sqlx::query!(
            r#"SELECT d.host, d.token, (a.name = $2) AS "is_own!" FROM domains d
               JOIN accounts a ON a.id = d.account_id
               WHERE d.token = ANY($1) AND d.ended_at IS NULL AND d.id <> $3::uuid"#,
            &read,
            domain.account,
            domain.id as Uuid
        )
        .fetch_all(&self.pool)
        .await?;

        let known = rows.into_iter().map(|row| KnownToken {
            token: Token::from_stored(row.token),
            host: row.is_own.then(|| row.host.into()),
        });
        Ok(known.collect())
    }
}

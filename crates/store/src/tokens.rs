//! Whose a token is that was read somewhere.

use nomenta_core::judge::evidence::KnownToken;
use nomenta_core::name::token::Token;

use crate::DomainRecord;
use crate::Store;
use crate::StoreError;

/// Tokens looked up for one look, whatever a zone holds.
const MOST: usize = 100;

impl Store {
    /// Which of these, as they were read for one domain, are tokens of the same
    /// account's other domains.
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
            "SELECT host, token FROM domains
             WHERE token = ANY($1) AND ended_at IS NULL AND id <> $2
               AND account_id = (SELECT account_id FROM domains WHERE id = $2)",
            &read,
            domain.id
        )
        .fetch_all(&self.pool)
        .await?;

        let known = rows
            .into_iter()
            .map(|row| KnownToken { token: Token::from_stored(row.token), host: row.host.into() });
        Ok(known.collect())
    }
}

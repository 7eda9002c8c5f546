//! Tokens: whose one is that was read somewhere, and new ones.

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_core::judge::evidence::KnownToken;
use nomenta_core::name::token::Token;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::DomainRecord;
use crate::Store;
use crate::StoreError;
use crate::locks::{self, Told};
use crate::tasks::{self, TaskKind};
use crate::version::Expected;

/// Tokens looked up for one look, whatever a zone holds.
const MOST: usize = 100;
/// Tokens that are remembered as superseded, newest first.
const MOST_SUPERSEDED: i32 = 20;

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

    /// Gives a domain a new token; the one before it is remembered as
    /// superseded. The domain is looked at again. A token that proves a zone is
    /// replaced for every name that it is for.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if it has left; [`StoreError::Changed`].
    pub async fn rotate_token(
        &self,
        id: Uuid,
        token: &Token,
        expires_at: DateTime<Utc>,
        expected: Expected,
    ) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        rotate(&mut tx, id, token, expires_at, expected).await?;
        self.commit_work(tx).await?;
        Ok(())
    }
}

/// Gives a domain a new token, and every name that the one before proves with it.
pub(crate) async fn rotate(
    tx: &mut PgConnection,
    id: Uuid,
    token: &Token,
    expires_at: DateTime<Utc>,
    expected: Expected,
) -> Result<(), StoreError> {
    let now = Utc::now();
    let ids = sqlx::query_scalar!(
        "SELECT o.id FROM domains d JOIN domains o ON o.id = d.id OR (d.is_proved_by_zone AND o.is_proved_by_zone
             AND o.account_id = d.account_id AND o.token = d.token)
         WHERE d.id = $1 AND o.ended_at IS NULL",
        id
    )
    .fetch_all(&mut *tx)
    .await?;
    let claims = locks::lock(tx, &ids).await?;
    claims.expect(id, expected)?;

    let mut told = Told::default();
    for claim in ids.iter().filter_map(|id| claims.get(*id)) {
        sqlx::query!(
            "UPDATE domains SET superseded = array_prepend(token, superseded[1:$5]), token = $2,
             token_expires_at = $3, moved_at = $4 WHERE id = $1",
            claim.id,
            token.as_str(),
            expires_at,
            now,
            MOST_SUPERSEDED - 1
        )
        .execute(&mut *tx)
        .await?;
        tasks::wake(tx, claim.id, TaskKind::Look, now).await?;
        told.event(claim, Event::TokenRotated {});
    }

    told.write(tx, now).await?;
    Ok(())
}

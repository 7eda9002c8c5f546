//! Answers to the CA's challenges.

use nomenta_core::reading::method::Method;
use uuid::Uuid;

use crate::Lease;
use crate::Store;
use crate::StoreError;
use crate::channel::{self, Channel};
use crate::edge;
use crate::places::Whose;
use crate::tasks;

/// A challenge to be answered.
#[derive(Clone, Debug)]
pub struct NewChallenge<'a> {
    /// The challenge's token.
    pub token: &'a str,
    /// The name that is validated.
    pub name: &'a str,
    /// How.
    pub method: Method,
    /// The answer by HTTP; by DNS, the TXT record.
    pub answer: &'a str,
    /// What answers by TLS: the certificate, PEM, and its key, sealed.
    pub tls: Option<(&'a str, &'a [u8])>,
}

impl Store {
    /// Publishes a challenge's answer, to the edge or in the challenge zone.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has taken the order's task.
    pub async fn add_challenge(
        &self,
        lease: &Lease,
        order_id: Uuid,
        new: &NewChallenge<'_>,
    ) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        tasks::hold(&mut tx, lease).await?;
        sqlx::query!(
            "INSERT INTO challenges (token, order_id, key_authorization, name, method, answer_chain, sealed_answer_key)
             VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT (token) DO NOTHING",
            new.token,
            order_id,
            new.answer,
            new.name,
            new.method.as_str(),
            new.tls.map(|(chain, _)| chain),
            new.tls.map(|(_, key)| key)
        )
        .execute(&mut *tx)
        .await?;

        if new.method == Method::Dns {
            channel::call(&mut tx, Channel::Challenges).await?;
        }
        if new.tls.is_some() {
            edge::touch(&mut tx, &[new.name]).await?;
        }

        self.commit(tx).await?;
        Ok(())
    }

    /// The answer to a challenge by HTTP, for a domain of some accounts.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn challenge(&self, whose: &Whose, token: &str) -> Result<Option<String>, StoreError> {
        let answer = sqlx::query_scalar!(
            "SELECT c.key_authorization FROM challenges c JOIN orders o ON o.id = c.order_id
                 JOIN domains d ON d.id = o.domain_id
             WHERE c.token = $1 AND c.method = $2 AND ($3::uuid[] IS NULL OR d.account_id = ANY($3))",
            token,
            Method::Http.as_str(),
            whose.accounts()
        );
        Ok(answer.fetch_optional(&self.pool).await?)
    }

    /// The TXT records that answer challenges for a name by DNS.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn challenge_texts(&self, name: &str) -> Result<Vec<String>, StoreError> {
        let answers = sqlx::query_scalar!(
            "SELECT key_authorization FROM challenges WHERE name = $1 AND method = $2",
            name,
            Method::Dns.as_str()
        );
        Ok(answers.fetch_all(&self.pool).await?)
    }

    /// The TXT records of all names that answer challenges by DNS now, each with its name, up
    /// to `most`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn all_challenge_texts(&self, most: i64) -> Result<Vec<(String, String)>, StoreError> {
        let answers = sqlx::query!(
            r#"SELECT name AS "name!", key_authorization FROM challenges WHERE method = $1 LIMIT $2"#,
            Method::Dns.as_str(),
            most
        );
        let rows = answers.fetch_all(&self.pool).await?;
        Ok(rows.into_iter().map(|row| (row.name, row.key_authorization)).collect())
    }
}

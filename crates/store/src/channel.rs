//! Calls from process to process: that events, work or changes for the edge
//! have arrived, or that a key or a session has ended.

use std::time::Duration;

use sqlx::PgConnection;
use sqlx::postgres::PgListener;
use tokio::time::timeout;

use crate::Store;
use crate::StoreError;
use crate::error;

/// After what silence a connection is asked whether it is still there.
const QUIET: Duration = Duration::from_secs(15);
/// How long it may take to say so.
const ANSWER: Duration = Duration::from_secs(5);

nomenta_core::spelled! {
    /// What has arrived.
    pub enum Channel: "channel" {
        /// Events.
        Events = "nomenta_events",
        /// Work to do.
        Work = "nomenta_work",
        /// Changes for the edge.
        Edge = "nomenta_edge",
        /// A key or a session may have ended.
        Access = "nomenta_access",
        /// Other answers to challenges by DNS.
        Challenges = "nomenta_challenges",
    }
}

/// Hears when something arrives.
pub struct Listener {
    inner: PgListener,
}

impl Store {
    /// Hears when events, work or changes for the edge arrive from any process.
    ///
    /// # Errors
    /// [`StoreError::Database`] if no connection is to be had; try again.
    pub async fn listen(&self) -> Result<Listener, StoreError> {
        let mut inner = PgListener::connect_with(&self.listening).await?;
        inner.listen_all(Channel::ALL.iter().map(|channel| channel.as_str())).await?;
        Ok(Listener { inner })
    }
}

impl Listener {
    /// Waits for the next call; `None` where the connection broke and was made anew: calls may
    /// have been missed.
    ///
    /// # Errors
    /// [`StoreError::Database`] if the database stays away, or says nothing more; listen anew.
    pub async fn heard(&mut self) -> Result<Option<Channel>, StoreError> {
        loop {
            let Ok(call) = timeout(QUIET, self.inner.try_recv()).await else {
                self.is_there().await?;
                continue;
            };
            return call?.map(|call| error::word("channel", call.channel())).transpose();
        }
    }

    /// Asks the other end: a connection that breaks without a word is silent for good.
    async fn is_there(&mut self) -> Result<(), StoreError> {
        let asked = sqlx::query_scalar!(r#"SELECT 1 AS "one!""#).fetch_one(&mut self.inner);
        let answered = timeout(ANSWER, asked).await;
        answered.map_err(|late| sqlx::Error::Io(late.into()))??;
        Ok(())
    }
}

/// Tells every process, once it is committed, that something has arrived.
pub(crate) async fn call(tx: &mut PgConnection, channel: Channel) -> Result<(), StoreError> {
    sqlx::query_scalar!(r#"SELECT pg_notify($1, '')::text AS called"#, channel.as_str())
        .fetch_one(&mut *tx)
        .await?;
    Ok(())
}

/// Tells every process, once it is committed, that somebody may have lost their way in.
pub(crate) async fn call_doors(tx: &mut PgConnection) -> Result<(), StoreError> {
    call(tx, Channel::Access).await
}

//! Calls from process to process: that events, work or changes for the edge
//! have arrived, or that a key or a session has ended.

use sqlx::PgConnection;
use sqlx::postgres::PgListener;

use crate::Store;
use crate::StoreError;
use crate::error;

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
    /// [`StoreError::Database`] if the database stays away; listen anew.
    pub async fn heard(&mut self) -> Result<Option<Channel>, StoreError> {
        let call = self.inner.try_recv().await?;
        call.map(|call| error::word("channel", call.channel())).transpose()
    }
}

/// Tells every process, once it is committed, that somebody may have lost their way in.
pub(crate) async fn call_doors(tx: &mut PgConnection) -> Result<(), StoreError> {
    sqlx::query_scalar!(r#"SELECT pg_notify($1, '')::text AS called"#, Channel::Access.as_str())
        .fetch_one(&mut *tx)
        .await?;
    Ok(())
}

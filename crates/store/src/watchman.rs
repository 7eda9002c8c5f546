//! Whether the database is there: asked all the time on a connection of its own, so that
//! callers need not find it out one by one.

use std::str::FromStr;
use std::time::Duration;

use sqlx::postgres::{PgConnectOptions, PgConnection};
use sqlx::{ConnectOptions, Connection};
use tokio::sync::watch;
use tokio::time::{sleep, timeout};

use crate::StoreError;

/// How often it is asked.
const EVERY: Duration = Duration::from_millis(250);
/// How long an answer may take; a machine that is busy is not away.
const PATIENCE: Duration = Duration::from_secs(3);

/// Watches over the database.
#[derive(Clone, Debug)]
pub struct Watchman {
    is_there: watch::Receiver<bool>,
}

impl Watchman {
    /// Watches as long as anybody asks.
    ///
    /// # Errors
    /// If the URL cannot be read.
    pub fn start(url: &str) -> Result<Self, StoreError> {
        let options = PgConnectOptions::from_str(url)?;
        let (told, is_there) = watch::channel(true);
        tokio::spawn(async move {
            while !told.is_closed() {
                let connected = timeout(PATIENCE, options.connect()).await;
                if let Ok(Ok(mut connection)) = connected {
                    told.send_replace(true);
                    while answers(&mut connection).await && !told.is_closed() {
                        sleep(EVERY).await;
                    }
                    // Closed by a restart, perhaps: that is seen at the next connection.
                    continue;
                }
                told.send_replace(false);
                sleep(EVERY).await;
            }
        });
        Ok(Self { is_there })
    }

    /// Waits until the database is away.
    pub async fn away(&self) {
        let mut is_there = self.is_there.clone();
        // Whoever told it has gone with the process.
        if is_there.wait_for(|is_there| !is_there).await.is_err() {
            std::future::pending().await
        }
    }
}

async fn answers(connection: &mut PgConnection) -> bool {
    matches!(timeout(PATIENCE, connection.ping()).await, Ok(Ok(())))
}

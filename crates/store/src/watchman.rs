//! Whether the database is there: asked all the time on a connection of its own, so that
//! callers need not find it out one by one.

use std::pin::pin;
use std::str::FromStr;
use std::time::{Duration, Instant};

use sqlx::postgres::{PgConnectOptions, PgConnection};
use sqlx::{ConnectOptions, Connection};
use tokio::sync::watch;
use tokio::time::{sleep, timeout};

use crate::StoreError;
use crate::lifeline;

/// How often it is asked.
const EVERY: Duration = Duration::from_millis(250);
/// How long an answer may take; a machine that is busy is not away.
const PATIENCE: Duration = Duration::from_secs(3);
/// After what silence all connections count as broken: whatever waits at one would wait for as long
/// as the system goes on sending, which is a quarter of an hour.
const SILENCE: Duration = Duration::from_secs(15);

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
            let mut heard = Instant::now();
            while !told.is_closed() {
                match timeout(PATIENCE, options.connect()).await {
                    // Closed by a restart, perhaps: that is seen at the next connection.
                    Ok(Ok(connection)) => heard = attend(connection, &told).await,
                    refused => {
                        told.send_replace(false);
                        // Whoever is refused has been heard.
                        heard = if refused.is_ok() { Instant::now() } else { heard };
                        sleep(EVERY).await;
                    }
                }
                if heard.elapsed() > SILENCE {
                    lifeline::cut(&options).await;
                    heard = Instant::now();
                }
            }
        });
        Ok(Self { is_there })
    }

    /// Whether the database is there, as far as was heard.
    pub fn is_there(&self) -> bool {
        *self.is_there.borrow()
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

/// Asks as long as there are answers; returns when the last one was heard.
async fn attend(mut connection: PgConnection, told: &watch::Sender<bool>) -> Instant {
    let mut heard = Instant::now();
    told.send_replace(true);

    while !told.is_closed() {
        let mut ping = pin!(connection.ping());
        let answered = match timeout(PATIENCE, &mut ping).await {
            Ok(answered) => answered,
            Err(_) => {
                told.send_replace(false);
                match timeout(SILENCE - PATIENCE, ping).await {
                    Ok(answered) => answered,
                    Err(_) => return heard,
                }
            }
        };
        if answered.is_err() {
            return Instant::now();
        }
        told.send_replace(true);
        heard = Instant::now();
        sleep(EVERY).await;
    }
    heard
}

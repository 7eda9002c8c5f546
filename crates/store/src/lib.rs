//! Records, the leased queue and events in PostgreSQL. Only this crate knows
//! SQL; every query is checked at compile time.
//!
//! What belongs together is written in one transaction: a look's new state,
//! its findings, its events and the tasks that follow. A lease that was lost
//! to another process makes the whole transaction void, so nothing is done
//! twice.

mod accounts;
mod certificates;
mod domains;
mod edge;
mod error;
mod events;
mod ingresses;
mod issuer;
mod keys;
mod looks;
mod orders;
mod revocations;
mod sealing;
mod sweeps;
mod tasks;

use std::time::Duration;

use sqlx::PgPool;
use sqlx::postgres::PgPoolOptions;

pub use accounts::{AccountRow, NewSite, SiteRow};
pub use certificates::{Advised, CertificateFilter, CertificateRow, DayCount};
pub use domains::{DomainRecord, NewDomain, RosterFilter, RosterRow};
pub use edge::{EdgeRow, TlsAnswer};
pub use error::StoreError;
pub use events::{EventKind, EventRow, Heard, Listener};
pub use issuer::Limits;
pub use keys::KeyRow;
pub use looks::{FindingRow, Looked, SpreadRow};
pub use orders::{EndedOrders, Issued, NewChallenge, NewOrder, OrderRow, OrderStory};
pub use revocations::{Revocation, RevocationRow};
pub use sealing::Sealed;
pub use sweeps::{Glanced, Sight, Sweep};
pub use tasks::{Lease, TaskKind};

/// How long a connection may take to be had.
const PATIENCE: Duration = Duration::from_secs(10);

/// The records of one platform.
#[derive(Clone, Debug)]
pub struct Store {
    pool: PgPool,
}

impl Store {
    /// Connects, and brings the schema up to date.
    ///
    /// # Errors
    /// If the server cannot be reached or a migration fails.
    pub async fn open(url: &str) -> Result<Self, StoreError> {
        let options = PgPoolOptions::new().max_connections(16).acquire_timeout(PATIENCE);
        let pool = options.connect(url).await?;
        sqlx::migrate!().run(&pool).await.map_err(sqlx::Error::from)?;
        Ok(Self { pool })
    }

    /// Whether the database answers.
    ///
    /// # Errors
    /// If it does not.
    pub async fn ping(&self) -> Result<(), StoreError> {
        sqlx::query_scalar!(r#"SELECT 1 AS "one!""#).fetch_one(&self.pool).await?;
        Ok(())
    }
}

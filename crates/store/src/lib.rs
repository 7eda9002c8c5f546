//! Records, the leased queue and events in PostgreSQL. Only this crate knows
//! SQL; every query is checked at compile time.
//!
//! What belongs together is written in one transaction: a look's new state,
//! its findings, its events and the tasks that follow. A lease that was lost
//! to another process makes the whole transaction void, so nothing is done
//! twice.

mod accounts;
mod certificates;
mod challenges;
mod channel;
mod claims;
mod contests;
mod domains;
mod edge;
mod ending;
mod enrolment;
mod error;
mod events;
mod ingresses;
mod issuer;
mod keys;
mod leaving;
mod locks;
mod looks;
mod moves;
mod orders;
mod rest;
mod revocations;
mod roster;
mod sealing;
mod story;
mod sweeps;
mod tasks;
mod tokens;

use std::time::Duration;

use nomenta_core::claim::rules::Rules;
use sqlx::PgPool;
use sqlx::postgres::PgPoolOptions;

pub use accounts::{AccountChange, AccountRow, NewSite, SiteChange, SiteRow};
pub use certificates::{Advised, CertificateFilter, CertificateRow, DayCount};
pub use challenges::NewChallenge;
pub use channel::{Channel, Listener};
pub use contests::{ContestFilter, ContestRow, NewRuling, PartyRow};
pub use domains::{DomainRecord, Named};
pub use edge::{EdgeRow, TlsAnswer};
pub use enrolment::{Enrolment, NewDomain};
pub use error::StoreError;
pub use events::{EventFilter, EventRow};
pub use issuer::Limits;
pub use keys::{KeyAccount, KeyRow, NewKey};
pub use looks::{FindingRow, Looked, SpreadRow};
pub use moves::Move;
pub use orders::{EndedOrders, Issued, NewOrder, OrderRow};
pub use revocations::{Revocation, RevocationRow};
pub use roster::{RosterFilter, RosterRow};
pub use sealing::Sealed;
pub use story::OrderStory;
pub use sweeps::{QuickDone, QuickTask, Sweep};
pub use tasks::{Lease, TaskKind};

/// How long a connection may take to be had.
const ACQUIRE_TIMEOUT: Duration = Duration::from_secs(10);

/// The records of one platform.
#[derive(Clone, Debug)]
pub struct Store {
    pool: PgPool,
    rules: Rules,
}

impl Store {
    /// Connects, and brings the schema up to date.
    ///
    /// # Errors
    /// If the server cannot be reached or a migration fails.
    pub async fn open(url: &str, rules: Rules) -> Result<Self, StoreError> {
        let options = PgPoolOptions::new().max_connections(16).acquire_timeout(ACQUIRE_TIMEOUT);
        let pool = options.connect(url).await?;
        sqlx::migrate!().run(&pool).await.map_err(sqlx::Error::from)?;
        Ok(Self { pool, rules })
    }

    /// Whether the database answers.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn ping(&self) -> Result<(), StoreError> {
        sqlx::query_scalar!(r#"SELECT 1 AS "one!""#).fetch_one(&self.pool).await?;
        Ok(())
    }
}

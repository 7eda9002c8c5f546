//! Records, the leased queue and events in PostgreSQL. Only this crate knows
//! SQL; every query is checked at compile time.
//!
//! What belongs together is written in one transaction: a look's new state,
//! its findings, its events and the tasks that follow. A lease that was lost
//! to another process makes the whole transaction void, so nothing is done
//! twice.

mod accounts;
mod actor;
mod answers;
mod audit;
mod certificates;
mod challenges;
mod change;
mod channel;
mod claims;
mod contests;
mod courses;
mod deliveries;
mod domains;
mod edge;
mod ending;
mod enrolment;
mod error;
mod events;
mod handoffs;
mod ingresses;
mod intake;
mod issuer;
mod jobs;
mod keys;
mod known;
mod lanes;
mod leaving;
mod lifeline;
mod locks;
mod looks;
mod migrating;
mod moves;
mod numbering;
mod orders;
mod places;
mod pools;
mod publications;
mod receivers;
mod registrations;
mod rest;
mod retention;
mod revocations;
mod roster;
mod sealing;
mod sessions;
mod sites;
mod story;
mod strays;
mod sweeps;
mod tallies;
mod tasks;
mod together;
mod tokens;
mod version;
mod walk;
mod watchman;
mod written;

use std::sync::Arc;

use nomenta_core::claim::rules::Rules;
use sqlx::PgPool;
use uuid::Uuid;

pub use accounts::{AccountChange, AccountRow, NameFilter};
pub use actor::Actor;
pub use answers::{Claimed, Kept};
pub use audit::{AuditFilter, AuditRow};
pub use certificates::{Advised, CertificateFilter, CertificateRow};
pub use challenges::NewChallenge;
pub use channel::{Channel, Listener};
pub use contests::{ContestFilter, ContestRow, NewRuling, PartyRow};
pub use courses::LessonsRow;
pub use deliveries::{DeliveryFilter, DeliveryRow, DueRow, NotTaken, ReceiverLease};
pub use domains::{DomainRecord, Named};
pub use edge::{EdgeRow, TlsAnswer};
pub use enrolment::{Enrolment, NewDomain};
pub use error::StoreError;
pub use events::{EventFilter, EventRow};
pub use handoffs::{HandoffFilter, HandoffRow, NewHandoff, Pulse, Shown};
pub use ingresses::IngressRow;
pub use intake::{Intake, Row};
pub use issuer::{AccountChangeAtCa, Limits};
pub use jobs::{FreshToken, ItemRow, JobLease, NewJob};
pub use keys::{KeyAccount, KeyRow, NewKey};
pub use known::{Inquiry, Known};
pub use lanes::Lane;
pub use looks::{FindingRow, Looked, SpreadRow};
pub use moves::Move;
pub use orders::{EndedOrders, Issued, NewOrder, OrderRow};
pub use places::{Page, Place, Whose};
pub use publications::{NewPublication, NewZoneKey, PublicationRow, ZoneKeyRow, ZoneOf};
pub use receivers::{NewReader, NewReceiver, ReceiverRow};
pub use registrations::RegistrationRow;
pub use retention::{Aged, Retention};
pub use revocations::{Revocation, RevocationRow};
pub use roster::{Order, RosterFilter, RosterRow, Sort};
pub use sealing::{Checks, ProcessRow, Sealed};
pub use sessions::{NewSession, SessionRow};
pub use sites::{NewSite, SiteChange, SiteRow};
pub use story::OrderStory;
pub use strays::Stray;
pub use sweeps::{QuickDone, QuickTask, Sweep, Then};
pub use tallies::{Counted, Tally};
pub use tasks::{Lease, TaskKind};
pub use version::{Expected, Version};
pub use watchman::Watchman;

use numbering::Teller;
use pools::Pools;
use together::Together;
use walk::Reckoned;
use written::LookRow;

/// The records of one platform.
#[derive(Clone, Debug)]
pub struct Store {
    pool: PgPool,
    /// For statements whose plan hangs on what is looked for.
    search: PgPool,
    listening: PgPool,
    teller: Arc<Teller>,
    rules: Rules,
    reckoned: Arc<Reckoned>,
    together: Arc<LookCalls>,
    /// Whom its changes are for.
    actor: Option<Arc<Actor>>,
}

/// Reads and writes of looks under way at once; each is of several looks where there are many.
const READS: usize = 2;
const WRITES: usize = 3;

/// What looks ask of the records, done together where several ask at once.
#[derive(Debug)]
struct LookCalls {
    records: Together<Uuid, (DomainRecord, EndedOrders)>,
    known: Together<Inquiry, Known>,
    looks: Together<LookRow, ()>,
}

impl Default for LookCalls {
    fn default() -> Self {
        Self {
            records: Together::new(READS, domains::taken_up),
            known: Together::new(READS, known::known),
            looks: Together::new(WRITES, written::looks),
        }
    }
}

impl Store {
    /// Connects for work that nobody waits at, and brings the schema up to date.
    ///
    /// # Errors
    /// If the server cannot be reached or a migration fails.
    pub async fn open(url: &str, rules: Rules) -> Result<Self, StoreError> {
        let Pools { work, search, listening, migrating, .. } = Pools::of(url)?;
        migrating::migrate(&migrating).await?;
        let teller = Teller::start(work.clone());
        let store = Self {
            pool: work,
            search,
            listening,
            teller,
            rules,
            reckoned: Arc::default(),
            together: Arc::default(),
            actor: None,
        };
        store.write_sought().await?;
        Ok(store)
    }

    /// The same records for calls, whose callers wait: connections of their own, which
    /// work does not take, and limits that a person has patience for.
    ///
    /// # Errors
    /// If the URL cannot be read.
    pub fn for_calls(&self, url: &str) -> Result<Self, StoreError> {
        let Pools { calls, .. } = Pools::of(url)?;
        Ok(Self { pool: calls, ..self.clone() })
    }

    /// The same records for looks, with connections of their own.
    ///
    /// # Errors
    /// If the URL cannot be read.
    pub fn for_looks(&self, url: &str) -> Result<Self, StoreError> {
        let Pools { looks, .. } = Pools::of(url)?;
        Ok(Self { pool: looks, ..self.clone() })
    }
}

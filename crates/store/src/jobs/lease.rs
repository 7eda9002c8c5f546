//! The right to do a job, and what it takes to do it.

use chrono::{DateTime, Utc};
use nomenta_api::job::Act;
use nomenta_core::name::token::Token;
use uuid::Uuid;

use crate::actor::Actor;
use crate::roster::RosterFilter;

/// The right to do a job until the lease runs out; each step renews it.
#[derive(Clone, Debug)]
pub struct JobLease {
    /// The job.
    pub id: Uuid,
    /// What is done.
    pub act: Act,
    pub(super) filter: RosterFilter,
    pub(super) actor: Option<Actor>,
    pub(super) lease: Uuid,
}

/// A token that has not been given to anybody, and its end.
pub type FreshToken = (Token, DateTime<Utc>);

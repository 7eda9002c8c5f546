//! What is kept for a time: what happened, and what was tried.

use chrono::{DateTime, Duration, Utc};

use crate::Store;
use crate::StoreError;

nomenta_core::spelled! {
    /// Records that are kept for a time.
    pub enum Aged: "kind of record" {
        /// What happened to domains.
        Events = "events",
        /// How the routing spread over the vantages, but for the latest of each domain.
        Spreads = "spreads",
        /// What happened with orders, step by step.
        Steps = "order-steps",
        /// Orders that have ended, but for the latest of each domain.
        Orders = "orders",
        /// What people have changed.
        Audit = "audit",
        /// Jobs that have ended.
        Jobs = "jobs",
        /// Sessions that have ended.
        Sessions = "sessions",
        /// Handoff links that show nothing any more.
        Handoffs = "handoffs",
        /// Updates that were sent to customers' zones.
        Publications = "publications",
        /// Notices that were sent, or given up.
        Deliveries = "notices",
        /// Whoever is told nothing any more.
        Receivers = "receivers",
        /// What registries said of domains.
        Registrations = "registrations",
        /// Answers to calls that carried a key of their own.
        Answers = "answers",
    }
}

/// How long the answer to a call with a key of its own is kept, as the API promises.
const ANSWERS: Duration = Duration::days(1);

/// For how long each kind of record is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Retention {
    /// What happened to domains.
    pub events: Duration,
    /// How the routing spread.
    pub spreads: Duration,
    /// What happened with orders, step by step.
    pub steps: Duration,
    /// Orders that have ended; budgets are counted from them.
    pub orders: Duration,
    /// What people have changed.
    pub audit: Duration,
    /// Jobs, and sessions, that have ended.
    pub jobs: Duration,
}

impl Default for Retention {
    fn default() -> Self {
        Self {
            events: Duration::days(400),
            spreads: Duration::days(30),
            steps: Duration::days(90),
            orders: Duration::days(400),
            audit: Duration::days(800),
            jobs: Duration::days(90),
        }
    }
}

impl Retention {
    /// For how long a kind is kept.
    pub fn of(&self, kind: Aged) -> Duration {
        match kind {
            Aged::Events => self.events,
            Aged::Spreads => self.spreads,
            Aged::Steps => self.steps,
            Aged::Orders => self.orders,
            Aged::Audit | Aged::Publications => self.audit,
            Aged::Jobs
            | Aged::Sessions
            | Aged::Handoffs
            | Aged::Deliveries
            | Aged::Receivers
            | Aged::Registrations => self.jobs,
            Aged::Answers => ANSWERS,
        }
    }
}

/// Forgets at most so many records that are older.
macro_rules! forget {
    ($store:expr, $before:expr, $most:expr, $statement:literal) => {
        sqlx::query!($statement, $before, $most).execute(&$store.pool).await?
    };
}

impl Store {
    /// Forgets records that are older than `before`, at most `most` of them; returns how
    /// many.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn forget_aged(&self, kind: Aged, before: DateTime<Utc>, most: i64) -> Result<u64, StoreError> {
        let done = match kind {
            Aged::Events => forget!(
                self, before, most,
                "DELETE FROM events WHERE seq IN (SELECT seq FROM events WHERE at < $1 ORDER BY at LIMIT $2)"
            ),
            Aged::Spreads => forget!(
                self, before, most,
                "DELETE FROM spreads s USING (SELECT domain_id, at FROM spreads o WHERE at < $1
                     AND EXISTS (SELECT FROM spreads n WHERE n.domain_id = o.domain_id AND n.at > o.at)
                     ORDER BY at LIMIT $2) o
                 WHERE s.domain_id = o.domain_id AND s.at = o.at"
            ),
            Aged::Steps => forget!(
                self, before, most,
                "DELETE FROM order_steps WHERE ctid = ANY(ARRAY(
                     SELECT ctid FROM order_steps WHERE at < $1 ORDER BY at LIMIT $2))"
            ),
            Aged::Orders => forget!(
                self, before, most,
                "DELETE FROM orders WHERE id IN (
                     SELECT o.id FROM orders o WHERE o.ended_at < $1
                       AND EXISTS (SELECT FROM orders n WHERE n.domain_ids && o.domain_ids AND n.placed_at > o.placed_at)
                     ORDER BY o.ended_at LIMIT $2)"
            ),
            Aged::Audit => forget!(
                self, before, most,
                "DELETE FROM audit WHERE seq IN (SELECT seq FROM audit WHERE at < $1 ORDER BY at LIMIT $2)"
            ),
            // With their lines, of which there may be many: one at a time.
            Aged::Jobs => forget!(
                self, before, most.min(1),
                "DELETE FROM jobs WHERE id IN (SELECT id FROM jobs WHERE ended_at < $1 ORDER BY ended_at LIMIT $2)"
            ),
            Aged::Sessions => forget!(
                self, before, most,
                "DELETE FROM sessions WHERE id IN (
                     SELECT id FROM sessions WHERE expires_at < $1 ORDER BY expires_at LIMIT $2)"
            ),
            Aged::Handoffs => forget!(
                self, before, most,
                "DELETE FROM handoffs WHERE id IN (
                     SELECT id FROM handoffs WHERE expires_at < $1 ORDER BY expires_at LIMIT $2)"
            ),
            Aged::Publications => forget!(
                self, before, most,
                "DELETE FROM publications WHERE id IN (
                     SELECT id FROM publications WHERE created_at < $1 ORDER BY created_at LIMIT $2)"
            ),
            Aged::Deliveries => forget!(
                self, before, most,
                "DELETE FROM deliveries WHERE id IN (
                     SELECT id FROM deliveries WHERE at < $1 AND state <> 'due' ORDER BY at LIMIT $2)"
            ),
            Aged::Receivers => forget!(
                self, before, most,
                "DELETE FROM receivers WHERE id IN (
                     SELECT id FROM receivers WHERE coalesce(ended_at, asked_at) < $1
                       AND (ended_at IS NOT NULL OR confirmed_at IS NULL)
                     ORDER BY coalesce(ended_at, asked_at) LIMIT $2)"
            ),
            Aged::Registrations => forget!(
                self, before, most,
                "DELETE FROM registrations WHERE domain IN (
                     SELECT domain FROM registrations WHERE asked_at < $1 ORDER BY asked_at LIMIT $2)"
            ),
            Aged::Answers => forget!(
                self,
                before,
                most,
                "DELETE FROM answers WHERE (caller, key) IN
                     (SELECT caller, key FROM answers WHERE asked_at < $1 ORDER BY asked_at LIMIT $2)"
            ),
        };
        Ok(done.rows_affected())
    }
}

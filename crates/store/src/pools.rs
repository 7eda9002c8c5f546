//! Connections to the database, kept apart by who waits at them: whatever one kind
//! does, the others have theirs.

use std::str::FromStr;
use std::time::Duration;

use sqlx::PgPool;
use sqlx::postgres::{PgConnectOptions, PgPoolOptions};

use crate::StoreError;

/// Callers wait for each other as long as the database is there; that it is away is told by
/// [`Watchman`](crate::Watchman).
const CALLER_PATIENCE: Duration = Duration::from_secs(5);
/// Work waits its turn.
const WORK_PATIENCE: Duration = Duration::from_secs(10);
/// A connection that nobody uses is given back.
const IDLE: Duration = Duration::from_secs(120);

/// How long a connection whose plans stay is kept: one that was made while there was next to
/// nothing goes along any index as well as along the right one.
const PLANS_KEPT: Duration = Duration::from_secs(60);

/// How many connections one process has of a kind: three processes fit into what
/// PostgreSQL grants where nothing else was set.
const CALLS: u32 = 8;
const SEARCHES: u32 = 3;
const LOOKS: u32 = 9;
const WORK: u32 = 9;
const LISTENING: u32 = 1;
const MIGRATING: u32 = 1;

/// Longest that one statement may take.
const CALL_LIMIT: &str = "5s";
const WORK_LIMIT: &str = "120s";
/// Longest that a step of a migration may take: it waits for that of another process, and builds
/// indexes beside those who write.
const MIGRATION_LIMIT: &str = "2h";

/// What the server does about a process of ours that says nothing: a transaction that is left open
/// holds locks which others wait for, and so does one whose process is gone without a word.
const OF_THE_SERVER: [(&str, &str); 6] = [
    ("jit", "off"),
    ("idle_in_transaction_session_timeout", "30s"),
    ("tcp_keepalives_idle", "15"),
    ("tcp_keepalives_interval", "5"),
    ("tcp_keepalives_count", "3"),
    ("tcp_user_timeout", "30000"),
];

/// Connections of one process, by who waits at them.
pub(crate) struct Pools {
    /// People and programs, who wait for an answer.
    pub calls: PgPool,
    /// The same, looking for text: how much there is of it decides how to find it, so
    /// each statement is planned by what it is given.
    pub search: PgPool,
    /// Looks. Each reads and writes one domain by its key, so a statement is planned once: to
    /// plan them anew for each takes longer than to do them.
    pub looks: PgPool,
    /// Orders, upkeep, and whatever else is done.
    pub work: PgPool,
    /// Bringing the schema up to date.
    pub migrating: PgPool,
    /// Hearing of what other processes have done.
    pub listening: PgPool,
}

impl Pools {
    /// Connects to nothing yet.
    ///
    /// # Errors
    /// If the URL cannot be read.
    pub(crate) fn of(url: &str) -> Result<Self, StoreError> {
        let options = PgConnectOptions::from_str(url)?.options(OF_THE_SERVER);
        let limited = |limit: &str| options.clone().options([("statement_timeout", limit)]);
        let pool = |most: u32, patience: Duration| {
            PgPoolOptions::new().max_connections(most).acquire_timeout(patience).idle_timeout(IDLE)
        };

        let by_what_is_given = limited(CALL_LIMIT).options([("plan_cache_mode", "force_custom_plan")]);
        // A plan that was made while tables were small reads them whole, and stays for a while.
        let planned_once = limited(WORK_LIMIT)
            .options([("plan_cache_mode", "force_generic_plan"), ("enable_seqscan", "off")]);
        let kept = pool(LOOKS, WORK_PATIENCE).max_lifetime(PLANS_KEPT);
        Ok(Self {
            calls: pool(CALLS, CALLER_PATIENCE).connect_lazy_with(limited(CALL_LIMIT)),
            search: pool(SEARCHES, CALLER_PATIENCE).connect_lazy_with(by_what_is_given),
            looks: kept.connect_lazy_with(planned_once),
            work: pool(WORK, WORK_PATIENCE).connect_lazy_with(limited(WORK_LIMIT)),
            migrating: pool(MIGRATING, WORK_PATIENCE).connect_lazy_with(limited(MIGRATION_LIMIT)),
            listening: pool(LISTENING, WORK_PATIENCE).connect_lazy_with(options.clone()),
        })
    }
}

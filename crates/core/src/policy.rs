//! What the platform's operator may set about judging and looking again.

use chrono::Duration;

/// Judging and looking again.
#[derive(Clone, Debug, PartialEq)]
pub struct Policy {
    /// Share of vantages that must see the routing: 0 to 1.
    pub quorum: f64,
    /// Issuer names that the certification authority goes by in CAA records.
    pub ca_identities: Vec<String>,
    /// First wait after a change.
    pub look_first: Duration,
    /// Longest wait while nothing moves.
    pub look_most: Duration,
    /// Wait between two looks at a live domain.
    pub look_live: Duration,
    /// Quick looks between two full ones, while nothing moves.
    pub quick_looks: i32,
    /// How long nothing may move before a domain counts as stalled.
    pub patience: Duration,
    /// Wait after the first refused order; doubles with each further one.
    pub order_retry: Duration,
    /// Longest wait between two orders.
    pub order_retry_most: Duration,
}

impl Default for Policy {
    fn default() -> Self {
        Self {
            quorum: 2.0 / 3.0,
            ca_identities: Vec::new(),
            look_first: Duration::seconds(5),
            look_most: Duration::minutes(30),
            look_live: Duration::hours(6),
            quick_looks: 3,
            patience: Duration::days(7),
            order_retry: Duration::minutes(5),
            order_retry_most: Duration::hours(24),
        }
    }
}

//! What the platform's operator may set about judging and looking again.

use chrono::Duration;

use crate::reading::method::Method;

crate::spelled! {
    /// What to think of a proxy in front of a domain that passes visitors on.
    #[derive(Default)]
    pub enum Fronting: "rule for proxies in front" {
        /// It keeps the domain from being routed.
        #[default]
        Block = "block",
        /// It is as good as the platform's own addresses.
        Allow = "allow",
    }
}

/// Judging and looking again.
#[derive(Clone, Debug, PartialEq)]
pub struct Policy {
    /// Share of vantages that must see the routing: 0 to 1.
    pub quorum: f64,
    /// Share of the vantages that must answer for the spread to say anything: 0
    /// to 1.
    pub vantage_floor: f64,
    /// How long a gate that was passed is doubted before it lapses: within that
    /// time a second look must come to the same.
    pub second_look: Duration,
    /// Issuer names that the certification authority goes by in CAA records.
    pub ca_identities: Vec<String>,
    /// Wait between two looks while a change is young, or somebody waits for the domain.
    pub look_first: Duration,
    /// How long a change is young; from then on the wait grows in proportion to its age.
    pub young_for: Duration,
    /// Longest wait while nothing moves.
    pub look_most: Duration,
    /// Wait between two looks at a live domain.
    pub look_live: Duration,
    /// Longest wait while another claim of the name is proved too: either side may
    /// change what stands in the zone.
    pub look_contested: Duration,
    /// How long the records of a domain that has left are watched.
    pub watch_for: Duration,
    /// Quick looks between two full ones, while nothing moves; at a live domain three at most.
    pub quick_looks: i32,
    /// How long nothing may move before a domain counts as stalled.
    pub stalled_after: Duration,
    /// Longest that one look may take; it is tried again later.
    pub look_limit: Duration,
    /// Longest that one try to bring an order to its end may take; the next
    /// one goes on from where it stands.
    pub order_limit: Duration,
    /// Wait after the first refused order; doubles with each further one.
    pub order_retry: Duration,
    /// Longest wait between two orders.
    pub order_retry_most: Duration,
    /// How control over names that are no wildcards is shown to the CA.
    pub method: Method,
    /// What to think of a proxy in front.
    pub fronting: Fronting,
    /// Most of somebody else's addresses that are visited for one domain. A proxy in front has a
    /// few; what has more is taken for none.
    pub most_visited: usize,
    /// How long a gate may be lapsed before it counts as not passed.
    pub grace: Duration,
    /// How long one of a pair waits for the other, to share a certificate.
    pub pair_hold: Duration,
    /// Most orders in a week for the names under one registered domain.
    pub orders_per_domain: u32,
    /// Most orders in three hours with the account at the CA.
    pub orders_per_account: u32,
    /// Share of both that is kept for renewals, in percent.
    pub renewal_reserve: u32,
    /// Share of what is left of the orders in three hours that one account of the platform may
    /// take, in percent.
    pub account_share: u32,
    /// Most certificates in a second on which the CA is asked when to renew them.
    pub advice_rate: u32,
}

impl Default for Policy {
    fn default() -> Self {
        Self {
            quorum: 2.0 / 3.0,
            vantage_floor: 0.5,
            second_look: Duration::seconds(10),
            ca_identities: Vec::new(),
            look_first: Duration::seconds(5),
            young_for: Duration::hours(1),
            look_most: Duration::minutes(30),
            look_live: Duration::hours(6),
            look_contested: Duration::minutes(5),
            watch_for: Duration::days(30),
            quick_looks: 11,
            stalled_after: Duration::days(7),
            look_limit: Duration::minutes(2),
            order_limit: Duration::minutes(5),
            order_retry: Duration::minutes(5),
            order_retry_most: Duration::hours(24),
            method: Method::Http,
            fronting: Fronting::Block,
            most_visited: 8,
            grace: Duration::hours(72),
            pair_hold: Duration::minutes(1),
            orders_per_domain: 40,
            orders_per_account: 250,
            renewal_reserve: 20,
            account_share: 50,
            advice_rate: 20,
        }
    }
}

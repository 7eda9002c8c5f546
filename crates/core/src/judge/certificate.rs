//! Certificates: where they come from, and when they are renewed.

use chrono::{DateTime, Duration, Utc};
use serde::{Deserialize, Serialize};

crate::spelled! {
    /// Where a certificate comes from.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Origin: "origin" {
        /// Ordered at the certification authority.
        Ordered = "ordered",
        /// Brought in by the customer.
        Brought = "brought",
    }
}

crate::spelled! {
    /// Why a certificate is revoked, by its name in RFC 5280, section 5.3.1.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum RevocationReason: "reason" {
        /// No reason is given.
        Unspecified = "unspecified",
        /// Somebody else may have the private key.
        KeyCompromise = "keyCompromise",
        /// Another certificate has taken its place.
        Superseded = "superseded",
        /// The domain has left the platform.
        CessationOfOperation = "cessationOfOperation",
    }
}

/// What is known of an issued certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CertificateFacts {
    /// Serial number, lower-case hex.
    pub serial: String,
    /// Issuer as a distinguished name.
    pub issuer: String,
    /// DNS names it covers.
    pub names: Vec<String>,
    /// Start of validity.
    pub not_before: DateTime<Utc>,
    /// End of validity.
    pub not_after: DateTime<Utc>,
}

/// A certificate that is held for a domain and served.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Held {
    /// What it says.
    pub facts: CertificateFacts,
    /// Where it comes from.
    pub origin: Origin,
    /// When it is to be renewed; never by us if it was brought in.
    pub renew_at: Option<DateTime<Utc>>,
}

impl Held {
    /// Whether it covers `name` at `now`.
    pub fn covers(&self, name: &str, now: DateTime<Utc>) -> bool {
        self.facts.names.iter().any(|n| n == name) && now < self.facts.not_after
    }

    /// Whether it is to be renewed.
    pub fn is_due(&self, now: DateTime<Utc>) -> bool {
        self.renew_at.is_some_and(|at| at <= now)
    }
}

/// When to renew where the directory has no advice: at two thirds of the
/// lifetime, or up to a twelfth of it earlier. `share` is a random number in
/// 0..1, so that certificates issued together come due apart.
pub fn renewal(facts: &CertificateFacts, share: f64) -> DateTime<Utc> {
    let lifetime = (facts.not_after - facts.not_before).as_seconds_f64();
    let after = lifetime * (2.0 / 3.0 - share.clamp(0.0, 1.0) / 12.0);

    facts.not_before + seconds(after)
}

/// When to renew within the window that the directory advises: a random point
/// of it (RFC 9773, section 4.2); at once if that has passed.
pub fn renewal_within(
    (start, end): (DateTime<Utc>, DateTime<Utc>),
    share: f64,
    now: DateTime<Utc>,
) -> DateTime<Utc> {
    let width = (end - start).as_seconds_f64().max(0.0);
    (start + seconds(width * share.clamp(0.0, 1.0))).max(now)
}

fn seconds(seconds: f64) -> Duration {
    Duration::milliseconds((seconds * 1000.0) as i64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    #[test]
    fn renewals_of_a_hundred_thousand_are_spread_over_days() {
        let facts = test::certificate("onswick.example");
        let mut busiest = std::collections::BTreeMap::<i64, u32>::new();
        let all = 100_000;

        for n in 0..all {
            let at = renewal(&facts, f64::from(n) / f64::from(all)) - facts.not_before;
            assert!(at <= Duration::days(60) && at > Duration::days(52), "{at}");
            *busiest.entry(at.num_hours()).or_default() += 1;
        }
        assert!(busiest.len() > 170, "{} hours", busiest.len());
        assert!(busiest.values().all(|n| *n < 600), "{:?}", busiest.values().max());
    }

    #[test]
    fn advice_is_followed_within_its_window_and_at_once_when_it_has_passed() {
        let now = test::now();
        let day = |n| now + Duration::days(n);
        assert_eq!(renewal_within((day(2), day(4)), 0.5, now), day(3));
        assert_eq!(renewal_within((day(-4), day(-2)), 0.5, now), now);
    }
}

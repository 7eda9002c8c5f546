//! When to look at a domain again.

use chrono::{DateTime, Duration, Utc};

use crate::gate::Stage;
use crate::policy::Policy;

/// Growth of the wait from one quiet look to the next.
const GROWTH: f64 = 1.5;

/// The next look: soon after a change, backing off while nothing moves, rarely
/// once live. `retry_at` brings a certificate order's own waiting time in.
pub fn next_look(
    stage: Stage,
    quiet_looks: i32,
    policy: &Policy,
    retry_at: Option<DateTime<Utc>>,
    now: DateTime<Utc>,
) -> DateTime<Utc> {
    let looked = match stage {
        Stage::Live => now + policy.look_live,
        _ => now + backed_off(policy.look_first, quiet_looks, GROWTH, policy.look_most),
    };
    match retry_at {
        Some(retry_at) if retry_at > now => looked.min(retry_at),
        _ => looked,
    }
}

/// The next look at a domain whose zone is right while resolvers still hold
/// older answers: the moment at which the first of them lets go.
pub fn when_cache_ends(ends: DateTime<Utc>, policy: &Policy, now: DateTime<Utc>) -> DateTime<Utc> {
    // Resolvers count whole seconds, so the last one may be shown as none.
    let after = ends + Duration::seconds(1);
    after.clamp(now + Duration::milliseconds(500), now + policy.look_most.max(Duration::seconds(1)))
}

/// When a refused order may be followed by another: doubling from
/// `policy.order_retry`.
pub fn order_retry(refusals: i32, policy: &Policy, now: DateTime<Utc>) -> DateTime<Utc> {
    now + backed_off(policy.order_retry, refusals - 1, 2.0, policy.order_retry_most)
}

/// When a task that could not be done is tried again: doubling from
/// `policy.look_first`. `tries` counts the failures before this one.
pub fn task_retry(tries: i32, policy: &Policy, now: DateTime<Utc>) -> DateTime<Utc> {
    now + backed_off(policy.look_first, tries, 2.0, policy.look_most)
}

/// A moment up to a quarter later than `at`, by `share` in 0..1, so that many
/// that were held up together do not come back together.
pub fn jittered(at: DateTime<Utc>, share: f64, now: DateTime<Utc>) -> DateTime<Utc> {
    let wait = (at - now).as_seconds_f64().max(0.0);
    at + Duration::milliseconds((wait * 250.0 * share.clamp(0.0, 1.0)) as i64)
}

fn backed_off(first: Duration, steps: i32, growth: f64, most: Duration) -> Duration {
    let seconds = first.as_seconds_f64() * growth.powi(steps.clamp(0, 60));
    let bounded = seconds.min(most.as_seconds_f64());
    Duration::milliseconds((bounded * 1000.0) as i64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::gate::GateName;

    #[test]
    fn waits_grow_while_nothing_moves_and_stay_bounded() {
        let (policy, now) = (Policy::default(), DateTime::UNIX_EPOCH);
        let wait = |quiet| next_look(Stage::At(GateName::Routing), quiet, &policy, None, now) - now;
        assert_eq!(wait(0), policy.look_first);
        assert!(wait(3) > wait(2));
        assert_eq!(wait(1_000_000), policy.look_most);
        assert_eq!(next_look(Stage::Live, 0, &policy, None, now) - now, policy.look_live);
    }

    #[test]
    fn a_waiting_order_is_looked_at_when_it_may_be_tried_again() {
        let (policy, now) = (Policy::default(), DateTime::UNIX_EPOCH);
        let stage = Stage::At(GateName::Certificate);
        let retry = now + Duration::seconds(90);
        assert_eq!(next_look(stage, 40, &policy, Some(retry), now), retry);
    }

    #[test]
    fn refusals_double_the_wait() {
        let (policy, now) = (Policy::default(), DateTime::UNIX_EPOCH);
        assert_eq!(order_retry(1, &policy, now) - now, policy.order_retry);
        assert_eq!(order_retry(3, &policy, now) - now, policy.order_retry * 4);
        assert_eq!(order_retry(99, &policy, now) - now, policy.order_retry_most);
    }

    #[test]
    fn what_cannot_be_done_is_tried_less_and_less_often() {
        let (policy, now) = (Policy::default(), DateTime::UNIX_EPOCH);
        assert_eq!(task_retry(0, &policy, now) - now, policy.look_first);
        assert_eq!(task_retry(2, &policy, now) - now, policy.look_first * 4);
        assert_eq!(task_retry(99, &policy, now) - now, policy.look_most);
    }

    #[test]
    fn jitter_adds_a_quarter_at_most() {
        let now = DateTime::UNIX_EPOCH;
        let at = now + Duration::seconds(100);
        assert_eq!(jittered(at, 0.0, now), at);
        assert_eq!(jittered(at, 1.0, now), at + Duration::seconds(25));
        assert_eq!(jittered(now, 1.0, at), now, "what has passed stays where it was");
    }
}

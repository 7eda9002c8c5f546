//! When to look at a domain again.

use chrono::{DateTime, Duration, Utc};

use crate::judge::action::Action;
use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::evidence::OrderState;
use crate::judge::finding::{Finding, Severity};
use crate::judge::gate::{GateName, Gates, Stage};
use crate::judge::policy::Policy;
use crate::judge::waiting::{self, Wait};
use crate::reading::target::Depth;

/// Shortest wait for a resolver that is about to let go.
const SOONEST: Duration = Duration::milliseconds(500);
/// Growth of the wait from one quiet look to the next.
const GROWTH: f64 = 1.5;
/// Waits after a change that a domain is left alone for whose look was cut short: it has cost what
/// a dozen others do, and the next one will.
const REST: i32 = 12;
/// Longest wait between two looks at what was left behind.
const LONGEST_WATCH: Duration = Duration::days(1);

/// What a look came to, as far as it matters for the next one.
pub(crate) struct Outlook<'a> {
    pub gates: &'a Gates,
    pub found: &'a [Finding],
    pub waits: &'a [Wait],
    pub action: Option<Action>,
    pub quiet_looks: i32,
}

impl Outlook<'_> {
    /// When the first resolver lets go of an older answer.
    fn cache_ends(&self) -> Option<DateTime<Utc>> {
        let ends = self.waits.iter().filter_map(|wait| wait.until).min();
        ends.filter(|_| self.gates.stage() != Stage::Live)
    }
}

/// When to look again after a look.
pub(crate) fn after_look(case: &Case<'_>, outlook: &Outlook<'_>) -> DateTime<Utc> {
    if outlook.gates.are_in_doubt() {
        return case.now + case.policy.second_look;
    }

    let next = undoubted(case, outlook);
    if case.survey.cuts.is_empty() { next } else { next.max(case.now + case.policy.look_first * REST) }
}

fn undoubted(case: &Case<'_>, outlook: &Outlook<'_>) -> DateTime<Utc> {
    if let Some(ends) = outlook.cache_ends().or_else(|| waiting::token_until(case)) {
        return when_cache_ends(ends, outlook.quiet_looks, case.policy, case.now);
    }

    let retry_at = match &case.evidence.order {
        OrderState::Refused { retry_at, .. } => Some(*retry_at),
        OrderState::None | OrderState::Wanted | OrderState::Open => None,
    };
    // A renewal that is held up is looked at like an order that is.
    let stage = match outlook.gates.stage() {
        Stage::Live if is_renewal_due(case) => Stage::At(GateName::Certificate),
        stage => stage,
    };
    let next = next_look(stage, outlook.quiet_looks, case.policy, retry_at, case.now);
    match case.domain.ties.standing.contest() {
        Some(_) => next.min(case.now + case.policy.look_contested),
        None => next,
    }
}

/// What a quick look must read for nothing to have changed; `None` if the next
/// look must be a full one.
pub(crate) fn quick(case: &Case<'_>, outlook: &Outlook<'_>) -> Option<i64> {
    let is_under_way = outlook.action.is_some()
        || case.domain.ties.standing.contest().is_some()
        || case.variation.is_any()
        || is_renewal_due(case)
        || outlook.cache_ends().is_some()
        || outlook.gates.are_in_doubt();
    if is_under_way || !is_calm(case, outlook) {
        return None;
    }
    Some(case.survey.quick_fingerprint(&case.target))
}

fn is_renewal_due(case: &Case<'_>) -> bool {
    case.evidence.certificate.as_ref().is_some_and(|held| held.is_due(case.now))
}

/// Whether all that can happen next shows in what a quick survey reads: the
/// customer has not published yet, or everything is well.
fn is_calm(case: &Case<'_>, outlook: &Outlook<'_>) -> bool {
    let waits_for_the_zone = match outlook.gates.stage() {
        Stage::Live => true,
        Stage::At(GateName::Ownership) => !case.is_owned(),
        Stage::At(GateName::Routing) => !case.is_routed(),
        Stage::At(_) | Stage::Paused | Stage::Released => false,
    };
    let was_full = case.survey.depth == Depth::Full && case.survey.apex().is_some();
    let is_well = outlook.found.iter().all(|f| f.severity == Severity::Note || f.code == Code::Stalled);

    waits_for_the_zone && was_full && case.policy.quick_looks > 0 && is_well
}

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
/// older answers: the moment at which the first of them lets go. How soon that is, the zone
/// says; one whose answers hold for a second is looked at ever less often all the same, while
/// nothing moves.
pub fn when_cache_ends(
    ends: DateTime<Utc>,
    quiet_looks: i32,
    policy: &Policy,
    now: DateTime<Utc>,
) -> DateTime<Utc> {
    let most = policy.look_most.max(Duration::seconds(1));
    ends.clamp(now + backed_off(SOONEST, quiet_looks, GROWTH, most), now + most)
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

/// When to see again what a domain has left behind that left at `ended_at`: ever less
/// often, and not for ever.
pub fn next_watch(ended_at: DateTime<Utc>, policy: &Policy, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
    let since = now - ended_at;
    let soon = policy.look_first * 6;
    let wait = (since / 4).clamp(soon, LONGEST_WATCH.max(soon));
    (since < policy.watch_for).then_some(now + wait)
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
    use crate::judge::gate::GateName;

    #[test]
    fn waits_grow_while_nothing_moves_and_stay_bounded() {
        let policy = Policy::default();
        let now = DateTime::UNIX_EPOCH;
        let wait = |quiet| next_look(Stage::At(GateName::Routing), quiet, &policy, None, now) - now;
        assert_eq!(wait(0), policy.look_first);
        assert!(wait(3) > wait(2));
        assert_eq!(wait(1_000_000), policy.look_most);
        assert_eq!(next_look(Stage::Live, 0, &policy, None, now) - now, policy.look_live);
    }

    #[test]
    fn a_waiting_order_is_looked_at_when_it_may_be_tried_again() {
        let policy = Policy::default();
        let now = DateTime::UNIX_EPOCH;
        let stage = Stage::At(GateName::Certificate);
        let retry = now + Duration::seconds(90);
        assert_eq!(next_look(stage, 40, &policy, Some(retry), now), retry);
    }

    #[test]
    fn a_zone_whose_answers_hold_for_a_moment_does_not_set_the_pace() {
        let policy = Policy::default();
        let now = DateTime::UNIX_EPOCH;
        let wait =
            |seconds, quiet| when_cache_ends(now + Duration::seconds(seconds), quiet, &policy, now) - now;
        assert_eq!(wait(20, 0), Duration::seconds(20));
        assert_eq!(wait(20, 3), Duration::seconds(20));
        assert_eq!(wait(-3, 0), SOONEST);
        assert!(wait(0, 6) > wait(0, 5));
        assert_eq!(wait(0, 1_000), policy.look_most);
        assert_eq!(wait(86_400, 0), policy.look_most);
    }

    #[test]
    fn what_is_left_behind_is_watched_ever_less_often_and_not_for_ever() {
        let policy = Policy::default();
        let left = Utc::now();
        let wait = |since: Duration| next_watch(left, &policy, left + since).map(|at| at - left - since);
        assert_eq!(wait(Duration::zero()), Some(policy.look_first * 6));
        assert_eq!(wait(Duration::hours(4)), Some(Duration::hours(1)));
        assert_eq!(wait(Duration::days(20)), Some(Duration::days(1)));
        assert_eq!(wait(policy.watch_for), None);
    }

    #[test]
    fn refusals_double_the_wait() {
        let policy = Policy::default();
        let now = DateTime::UNIX_EPOCH;
        assert_eq!(order_retry(1, &policy, now) - now, policy.order_retry);
        assert_eq!(order_retry(3, &policy, now) - now, policy.order_retry * 4);
        assert_eq!(order_retry(99, &policy, now) - now, policy.order_retry_most);
    }

    #[test]
    fn what_cannot_be_done_is_tried_less_and_less_often() {
        let policy = Policy::default();
        let now = DateTime::UNIX_EPOCH;
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

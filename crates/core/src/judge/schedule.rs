//! When to look at a domain again.

use chrono::{DateTime, Duration, Utc};

use crate::judge::action::Action;
use crate::judge::case::Case;
use crate::judge::evidence::OrderState;
use crate::judge::finding::{Finding, Severity};
use crate::judge::gate::{GateName, Gates, Stage};
use crate::judge::load::Load;
use crate::judge::policy::Policy;
use crate::judge::waiting::{self, Wait};
use crate::reading::answer::Reading;
use crate::reading::target::Depth;

/// Shortest wait for a resolver that is about to let go.
const SOONEST: Duration = Duration::milliseconds(500);
/// Share of the time since the last change that is waited at least for a resolver that holds an
/// older answer for longer than it says.
const HELD_ON: i32 = 20;
/// Waits after a change that a domain is left alone for whose look was cut short: it has cost what
/// a dozen others do, and the next one will.
const REST: i32 = 12;
/// How long a full look may take at the pace that a server bears, for quick ones to follow.
const MOST_STRAIN: Duration = Duration::seconds(1);
/// Most quick looks between two full ones at a live domain: some hours lie between each.
const QUICK_WHEN_LIVE: i32 = 3;
/// Longest wait between two looks at what was left behind.
const LONGEST_WATCH: Duration = Duration::days(1);

/// When to look again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NextLook {
    /// If nothing else happens.
    pub due: DateTime<Utc>,
    /// While somebody waits for it.
    pub soonest: DateTime<Utc>,
}

impl NextLook {
    /// At one moment, whoever waits for it.
    pub fn at(due: DateTime<Utc>) -> Self {
        Self { due, soonest: due }
    }

    fn no_earlier_than(self, least: DateTime<Utc>) -> Self {
        Self { due: self.due.max(least), soonest: self.soonest.max(least) }
    }

    fn no_later_than(self, most: DateTime<Utc>) -> Self {
        Self { due: self.due.min(most), soonest: self.soonest.min(most) }
    }
}

/// What a look came to, as far as it matters for the next one.
pub(crate) struct Outlook<'a> {
    pub gates: &'a Gates,
    pub found: &'a [Finding],
    pub waits: &'a [Wait],
    pub action: Option<Action>,
    pub moved_at: DateTime<Utc>,
}

impl Outlook<'_> {
    fn cache_ends(&self) -> Option<DateTime<Utc>> {
        cache_ends(self.gates, self.waits)
    }
}

/// When the first resolver lets go of an older answer.
pub(crate) fn cache_ends(gates: &Gates, waits: &[Wait]) -> Option<DateTime<Utc>> {
    let ends = waits.iter().filter_map(|wait| wait.until).min();
    ends.filter(|_| gates.stage() != Stage::Live)
}

/// When to look again after a look.
pub(crate) fn after_look(case: &Case<'_>, outlook: &Outlook<'_>) -> NextLook {
    if outlook.gates.are_in_doubt() {
        return NextLook::at(case.now + case.policy.second_look);
    }

    let next = undoubted(case, outlook);
    let rest = if case.survey.cuts.is_empty() { Duration::zero() } else { case.policy.look_first * REST };
    next.no_earlier_than(case.now + rest)
}

fn undoubted(case: &Case<'_>, outlook: &Outlook<'_>) -> NextLook {
    let (policy, load, now) = (case.policy, case.evidence.load, case.now);
    if let Some(ends) = outlook.cache_ends().or_else(|| waiting::token_until(case)) {
        return NextLook::at(when_cache_ends(ends, outlook.moved_at, load, policy, now));
    }

    // A renewal that is held up is looked at like an order that is.
    let stage = match outlook.gates.stage() {
        Stage::Live if is_renewal_due(case) => Stage::At(GateName::Certificate),
        stage => stage,
    };
    let next = next_look(stage, outlook.moved_at, load, policy, now);

    let retry_at = match &case.evidence.order {
        OrderState::Refused { retry_at, .. } => Some(*retry_at).filter(|at| *at > now),
        OrderState::None | OrderState::Wanted | OrderState::Open => None,
    };
    let contested = case.domain.ties.standing.contest().map(|_| now + policy.look_contested);
    let latest = retry_at.into_iter().chain(contested).min();
    latest.map_or(next, |latest| next.no_later_than(latest))
}

/// What a quick look must read for nothing to have changed; `None` if the next
/// look must be a full one.
pub(crate) fn quick(case: &Case<'_>, outlook: &Outlook<'_>) -> Option<i64> {
    let is_under_way = outlook.action.is_some()
        || case.domain.ties.standing.contest().is_some()
        || case.variation.is_any()
        || is_renewal_due(case)
        || outlook.cache_ends().is_some()
        || waiting::token_until(case).is_some()
        || outlook.gates.are_in_doubt();
    if is_under_way || !is_calm(case, outlook) || !is_soon_read(case) {
        return None;
    }
    Some(case.survey.quick_fingerprint(&case.target))
}

fn is_renewal_due(case: &Case<'_>) -> bool {
    case.evidence.certificate.as_ref().is_some_and(|held| held.is_due(case.now))
}

/// Whether all that can happen next shows in what a quick survey reads: the
/// customer has not published yet, or has published what a change there would mend, or everything
/// is well.
fn is_calm(case: &Case<'_>, outlook: &Outlook<'_>) -> bool {
    let stage = outlook.gates.stage();
    let waits_for_the_zone = match stage {
        Stage::Live => true,
        Stage::At(GateName::Ownership) => !case.is_owned(),
        Stage::At(GateName::Routing) => !case.is_routed(),
        Stage::At(_) | Stage::Paused | Stage::Released => false,
    };
    let was_full = case.survey.depth == Depth::Full && case.survey.apex().is_some();
    let shows = outlook
        .found
        .iter()
        .all(|finding| finding.severity == Severity::Note || finding.code.is_mended_at_its_lines());

    waits_for_the_zone && was_full && quick_looks(stage, case.policy) > 0 && shows
}

/// Whether its servers answer at once what a quick look asks: many are done together, and those that
/// wait for a server keep the others waiting.
fn is_soon_read(case: &Case<'_>) -> bool {
    let needed = case.target.must_be_there();
    let mut asked = case.survey.readings.iter().filter(|reading| {
        reading.source.is_authority()
            && needed.iter().any(|(name, rtype)| reading.name == **name && reading.rtype == *rtype)
    });
    case.evidence.load.strain < MOST_STRAIN && asked.all(Reading::is_prompt)
}

/// Most quick looks between two full ones.
pub fn quick_looks(stage: Stage, policy: &Policy) -> i32 {
    if stage == Stage::Live { policy.quick_looks.min(QUICK_WHEN_LIVE) } else { policy.quick_looks }
}

/// How overdue a look is: the time since the last one, in thousandths of the usual wait. Where not all
/// looks can be done at once, the most overdue go first.
pub fn overdue(
    stage: Stage,
    moved_at: DateTime<Utc>,
    seen_at: Option<DateTime<Utc>>,
    policy: &Policy,
    now: DateTime<Utc>,
) -> i64 {
    let usual = usual(stage, moved_at, policy, now);
    seen_at.map_or(i64::MAX, |at| (share(now - at, usual) * 1000.0) as i64)
}

/// The wait that nothing stretches.
fn usual(stage: Stage, moved_at: DateTime<Utc>, policy: &Policy, now: DateTime<Utc>) -> Duration {
    if stage == Stage::Live { policy.look_live } else { settled(moved_at, policy, now) }
}

/// The next look: soon after a change, ever later the longer nothing has moved, rarely once live.
pub fn next_look(
    stage: Stage,
    moved_at: DateTime<Utc>,
    load: Load,
    policy: &Policy,
    now: DateTime<Utc>,
) -> NextLook {
    let wait = usual(stage, moved_at, policy, now);
    let most = policy.look_most.max(policy.look_first);
    let soonest = stretched(policy.look_first, load, policy).max(load.rest()).min(most);
    let due = stretched(wait, load, policy).min(most).max(wait).max(soonest);
    NextLook { due: now + due, soonest: now + soonest }
}

/// The wait where nothing has moved since some moment: the shortest while that is not long ago,
/// then in proportion to the time that has passed.
fn settled(moved_at: DateTime<Utc>, policy: &Policy, now: DateTime<Utc>) -> Duration {
    let times = share(now - moved_at, policy.young_for);
    let wait = policy.look_first.as_seconds_f64() * times.max(1.0);
    seconds(wait.min(policy.look_most.as_seconds_f64()))
}

/// Every wait grows with the lateness: where the queue is as late as the shortest wait is long, there
/// is twice as much to do as can be done, and everybody makes room alike.
fn stretched(wait: Duration, load: Load, policy: &Policy) -> Duration {
    seconds(wait.as_seconds_f64() * (1.0 + share(load.late, policy.look_first)))
}

fn share(part: Duration, whole: Duration) -> f64 {
    part.as_seconds_f64() / whole.as_seconds_f64().max(f64::MIN_POSITIVE)
}

fn seconds(seconds: f64) -> Duration {
    Duration::milliseconds((seconds * 1000.0) as i64)
}

/// The next look at a domain whose zone is right while resolvers still hold
/// older answers: the moment at which the first of them lets go. How soon that is, the zone
/// says; one whose answers hold for a second is looked at ever less often all the same, while
/// nothing moves.
pub fn when_cache_ends(
    ends: DateTime<Utc>,
    moved_at: DateTime<Utc>,
    load: Load,
    policy: &Policy,
    now: DateTime<Utc>,
) -> DateTime<Utc> {
    let most = policy.look_most.max(Duration::seconds(1));
    let soonest = stretched(SOONEST, load, policy).max(load.rest());
    let least = ((now - moved_at) / HELD_ON).max(soonest).min(most);
    ends.clamp(now + least, now + most)
}

/// When a refused order may be followed by another: doubling from
/// `policy.order_retry`.
pub fn order_retry(refusals: i32, policy: &Policy, now: DateTime<Utc>) -> DateTime<Utc> {
    now + doubled(policy.order_retry, refusals - 1, policy.order_retry_most)
}

/// When a task that could not be done is tried again: doubling from
/// `policy.look_first`. `tries` counts the failures before this one.
pub fn task_retry(tries: i32, policy: &Policy, now: DateTime<Utc>) -> DateTime<Utc> {
    now + doubled(policy.look_first, tries, policy.look_most)
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

fn doubled(first: Duration, steps: i32, most: Duration) -> Duration {
    let wait = first.as_seconds_f64() * 2f64.powi(steps.clamp(0, 60));
    seconds(wait.min(most.as_seconds_f64()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judge::gate::GateName;

    fn after(age: Duration, load: Load) -> [Duration; 2] {
        let (policy, now) = (Policy::default(), Utc::now());
        let next = next_look(Stage::At(GateName::Routing), now - age, load, &policy, now);
        [next.due - now, next.soonest - now]
    }

    #[test]
    fn waits_are_short_while_the_last_change_is_young_and_grow_with_its_age() {
        let policy = Policy::default();
        let wait = |age| after(age, Load::default())[0];
        assert_eq!(wait(Duration::zero()), policy.look_first);
        assert_eq!(wait(policy.young_for), policy.look_first);
        assert_eq!(wait(policy.young_for * 24), policy.look_first * 24);
        assert_eq!(wait(Duration::days(3000)), policy.look_most);

        let now = Utc::now();
        let live = next_look(Stage::Live, now, Load::default(), &policy, now);
        assert_eq!(live.due - now, policy.look_live);
        assert_eq!(live.soonest - now, policy.look_first);
    }

    #[test]
    fn whoever_waits_for_an_old_domain_waits_no_longer() {
        assert_eq!(after(Duration::days(30), Load::default())[1], Policy::default().look_first);
    }

    #[test]
    fn a_late_queue_and_a_slow_server_make_looks_rarer_for_everybody() {
        let late = Load { late: Duration::seconds(20), ..Load::default() };
        assert_eq!(after(Duration::zero(), late), [Duration::seconds(25); 2]);
        let [old, awaited] = after(Duration::hours(10), late);
        assert_eq!((old, awaited), (Duration::seconds(250), Duration::seconds(25)), "all in proportion");
        let slow = Load { strain: Duration::seconds(3), ..Load::default() };
        assert_eq!(after(Duration::zero(), slow), [Duration::seconds(30); 2]);
        let dead = Load { late: Duration::days(9), ..Load::default() };
        assert_eq!(after(Duration::zero(), dead), [Policy::default().look_most; 2], "within bounds");
    }

    #[test]
    fn of_two_that_are_equally_late_the_one_that_is_usually_looked_at_sooner_goes_first() {
        let (policy, now) = (Policy::default(), Utc::now());
        let overdue = |age, since: Duration| {
            overdue(Stage::At(GateName::Routing), now - age, Some(now - since), &policy, now)
        };
        let young = overdue(Duration::minutes(9), Duration::seconds(10));
        assert!(young > overdue(Duration::days(1), Duration::seconds(125)));
        assert!(young < overdue(Duration::days(1), Duration::seconds(400)), "and nobody waits for ever");
    }

    #[test]
    fn a_zone_whose_answers_hold_for_a_moment_does_not_set_the_pace() {
        let (policy, now) = (Policy::default(), Utc::now());
        let wait = |seconds, age| {
            let ends = now + Duration::seconds(seconds);
            when_cache_ends(ends, now - Duration::seconds(age), Load::default(), &policy, now) - now
        };
        assert_eq!(wait(20, 0), Duration::seconds(20));
        assert_eq!(wait(20, 300), Duration::seconds(20));
        assert_eq!(wait(-3, 0), SOONEST);
        assert_eq!(wait(0, 600), Duration::seconds(30));
        assert_eq!(wait(0, 1_000_000), policy.look_most);
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

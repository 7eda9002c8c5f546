//! How long something is tried that is not taken.

use chrono::TimeDelta;

/// Seconds before the next try, by how often it was tried in a row; the last holds from then on.
const STEPS: [i64; 9] = [5, 30, 120, 600, 1800, 3600, 7200, 14_400, 28_800];
/// For how long it is tried.
const DAYS: i64 = 3;

/// How long to wait after `tries` tries that came to nothing; `jitter`, from 0 to 1, spreads
/// those that failed together.
pub fn again_after(tries: u32, jitter: f64) -> TimeDelta {
    let place = usize::try_from(tries.saturating_sub(1)).unwrap_or(usize::MAX).min(STEPS.len() - 1);
    let seconds = STEPS[place];
    #[expect(clippy::cast_possible_truncation, clippy::cast_precision_loss, reason = "seconds of a day")]
    let spread = (seconds as f64 * 250.0 * jitter.clamp(0.0, 1.0)) as i64;
    TimeDelta::seconds(seconds) + TimeDelta::milliseconds(spread)
}

/// Whether it has been tried for long enough.
pub fn is_over(age: TimeDelta) -> bool {
    age > TimeDelta::days(DAYS)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_tried_more_and_more_seldom_and_for_days() {
        let waits: Vec<_> = (1..=12).map(|tries| again_after(tries, 0.0)).collect();
        assert!(waits.is_sorted() && waits[0] == TimeDelta::seconds(5));
        assert_eq!((waits[8], waits[11]), (TimeDelta::hours(8), TimeDelta::hours(8)));
        assert_eq!(again_after(2, 1.0), TimeDelta::milliseconds(37_500));
        assert!(!is_over(TimeDelta::hours(71)) && is_over(TimeDelta::hours(73)));
    }
}

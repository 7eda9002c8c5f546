//! Moments, said so that nobody takes one for another day's.

use chrono::{DateTime, Duration, Utc};

/// How far ahead or back a time of day stands alone.
const NEAR: Duration = Duration::hours(6);

/// `14:20:05 UTC` within a few hours of `now`, with its date beyond.
pub fn moment(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    let format = if (at - now).abs() <= NEAR { "%H:%M:%S UTC" } else { "%Y-%m-%d %H:%M UTC" };
    at.format(format).to_string()
}

/// How long something lasts, as people say it: `40 s`, `5 min`, `3 h`, `4 days`.
pub fn lasting(seconds: i64) -> String {
    let seconds = seconds.max(0);
    match seconds {
        0..90 => format!("{seconds} s"),
        90..5_400 => format!("{} min", (seconds + 30) / 60),
        5_400..172_800 => format!("{} h", (seconds + 1_800) / 3_600),
        _ => format!("{} days", seconds / 86_400),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_time_is_told_in_its_largest_unit() {
        let told = [-5, 89, 90, 5_399, 5_400, 172_800].map(lasting);
        assert_eq!(told, ["0 s", "89 s", "2 min", "90 min", "2 h", "2 days"]);
    }

    #[test]
    fn a_time_of_another_day_carries_its_date() {
        let now = DateTime::UNIX_EPOCH;
        assert_eq!(moment(now + Duration::minutes(5), now), "00:05:00 UTC");
        assert_eq!(moment(now + Duration::hours(30), now), "1970-01-02 06:00 UTC");
        assert_eq!(moment(now - Duration::hours(7), now), "1969-12-31 17:00 UTC");
    }
}

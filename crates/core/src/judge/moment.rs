//! Moments, said so that nobody takes one for another day's.

use chrono::{DateTime, Duration, Utc};

/// How far ahead or back a time of day stands alone.
const NEAR: Duration = Duration::hours(6);

/// `14:20:05 UTC` within a few hours of `now`, with its date beyond.
pub fn moment(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    let format = if (at - now).abs() <= NEAR { "%H:%M:%S UTC" } else { "%Y-%m-%d %H:%M UTC" };
    at.format(format).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_time_of_another_day_carries_its_date() {
        let now = DateTime::UNIX_EPOCH;
        assert_eq!(moment(now + Duration::minutes(5), now), "00:05:00 UTC");
        assert_eq!(moment(now + Duration::hours(30), now), "1970-01-02 06:00 UTC");
        assert_eq!(moment(now - Duration::hours(7), now), "1969-12-31 17:00 UTC");
    }
}

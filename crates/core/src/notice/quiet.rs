//! Hours in which nobody wants to be told anything.

use std::fmt;
use std::str::FromStr;

use chrono::{DateTime, Days, NaiveTime, TimeZone, Utc};
use chrono_tz::Tz;
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// Hours of the day in somebody's time zone, written `22:00-07:00 Europe/Lisbon`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct QuietHours {
    from: NaiveTime,
    to: NaiveTime,
    zone: Tz,
}

/// Why a text names no hours.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum QuietError {
    /// It has another shape.
    #[error("{0} are no quiet hours. Write them as 22:00-07:00 and a time zone, such as 22:00-07:00 UTC")]
    Shape(String),
    /// There is no such time zone.
    #[error("{0} is no time zone of the tz database")]
    Zone(String),
    /// They never end.
    #[error("Quiet hours that begin and end at {0} never end. Remove the recipient instead")]
    Endless(String),
}

impl QuietHours {
    /// When they end, if `now` is within them.
    pub fn end(&self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        let here = now.with_timezone(&self.zone);
        let time = here.time();
        let is_over_midnight = self.from > self.to;
        let is_within = match is_over_midnight {
            true => time >= self.from || time < self.to,
            false => time >= self.from && time < self.to,
        };
        if !is_within {
            return None;
        }

        let is_tomorrow = is_over_midnight && time >= self.from;
        let day = here.date_naive().checked_add_days(Days::new(is_tomorrow.into()))?;
        // An hour that the clocks leave out is over when they are past it.
        let end = (0..4).find_map(|quarters| {
            let later = day.and_time(self.to) + chrono::TimeDelta::minutes(30 * quarters);
            self.zone.from_local_datetime(&later).earliest()
        })?;
        Some(end.with_timezone(&Utc))
    }
}

impl FromStr for QuietHours {
    type Err = QuietError;

    fn from_str(text: &str) -> Result<Self, QuietError> {
        let shape = || QuietError::Shape(text.to_owned());
        let (hours, zone) = text.trim().split_once(' ').ok_or_else(shape)?;
        let (from, to) = hours.split_once('-').ok_or_else(shape)?;
        let time = |text: &str| NaiveTime::parse_from_str(text, "%H:%M").map_err(|_| shape());

        let (from, to) = (time(from)?, time(to)?);
        let zone = zone.trim().parse().map_err(|_| QuietError::Zone(zone.trim().to_owned()))?;
        if from == to {
            Err(QuietError::Endless(from.format("%H:%M").to_string()))
        } else {
            Ok(Self { from, to, zone })
        }
    }
}

impl fmt::Display for QuietHours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{} {}", self.from.format("%H:%M"), self.to.format("%H:%M"), self.zone)
    }
}

impl TryFrom<String> for QuietHours {
    type Error = QuietError;

    fn try_from(text: String) -> Result<Self, QuietError> {
        text.parse()
    }
}

impl From<QuietHours> for String {
    fn from(hours: QuietHours) -> Self {
        hours.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn end(hours: &str, now: &str) -> Option<String> {
        let hours: QuietHours = hours.parse().expect(hours);
        hours.end(now.parse().expect(now)).map(|end| end.format("%dT%H:%M").to_string())
    }

    #[test]
    fn within_the_hours_their_end_is_told_in_their_own_time_zone() {
        for (hours, now, want) in [
            ("22:00-07:00 UTC", "2026-03-10T21:59:00Z", None),
            ("22:00-07:00 UTC", "2026-03-10T22:00:00Z", Some("11T07:00")),
            ("22:00-07:00 UTC", "2026-03-11T06:59:00Z", Some("11T07:00")),
            ("22:00-07:00 UTC", "2026-03-11T07:00:00Z", None),
            ("12:00-14:00 UTC", "2026-03-11T13:00:00Z", Some("11T14:00")),
            // Two hours ahead in summer.
            ("22:00-07:00 Europe/Berlin", "2026-07-10T20:30:00Z", Some("11T05:00")),
            // The clocks leave 02:30 out.
            ("22:00-02:30 Europe/Berlin", "2026-03-28T22:00:00Z", Some("29T01:00")),
        ] {
            assert_eq!(end(hours, now).as_deref(), want, "{hours} at {now}");
        }
    }

    #[test]
    fn what_are_no_hours_says_how_to_write_them() {
        for (text, part) in [
            ("nights", "22:00-07:00 UTC"),
            ("22:00-25:00 UTC", "22:00-07:00 UTC"),
            ("22:00-07:00 Moon/North", "no time zone"),
            ("22:00-22:00 UTC", "never end"),
        ] {
            assert!(text.parse::<QuietHours>().expect_err(text).to_string().contains(part), "{text}");
        }
        let hours: QuietHours = "22:00-07:00 Europe/Berlin".parse().expect("hours");
        assert_eq!(hours.to_string(), "22:00-07:00 Europe/Berlin");
    }
}

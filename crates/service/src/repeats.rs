//! One warning, with a count, for what goes wrong many times over.
//!
//! A CA that cannot be reached fails every order and every look at it: thousands
//! of lines that say one thing hide the line that says another.

use std::collections::HashMap;
use std::fmt::Display;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// How long a warning stands before the same is said again.
const STANDS: Duration = Duration::from_secs(60);
/// Warnings told apart at once; beyond them only their kinds are.
const MOST: usize = 64;
/// Longest part of an error that tells it apart, in characters.
const LONGEST: usize = 200;

/// Warnings that were given of late.
#[derive(Debug, Default)]
pub(crate) struct Repeats(Mutex<HashMap<String, Given>>);

#[derive(Debug)]
struct Given {
    at: Instant,
    /// How many more there were since.
    again: u64,
}

impl Repeats {
    /// Warns that `what` happened, unless it was said a moment ago; then it is
    /// counted.
    pub(crate) fn warn(&self, what: &'static str, error: &dyn Display) {
        if let Some(again) = self.count(what, &error.to_string(), Instant::now()) {
            tracing::warn!(%error, again, "{what}");
        }
    }

    /// Says how often it happened again, where nothing followed that would say it.
    pub(crate) fn settle(&self) {
        for (what, again) in self.ended(Instant::now()) {
            tracing::warn!(again, "{what}");
        }
    }

    /// How many were counted since the last warning, if one is due again.
    fn count(&self, what: &str, error: &str, now: Instant) -> Option<u64> {
        let mut given = self.0.lock().expect("nothing panics with it");
        let mut key: String = format!("{what}: {error}").chars().take(LONGEST).collect();
        if given.len() >= MOST && !given.contains_key(&key) {
            what.clone_into(&mut key);
        }

        match given.get_mut(&key) {
            Some(one) if now < one.at + STANDS => {
                one.again += 1;
                None
            }
            Some(one) => Some(std::mem::replace(one, Given { at: now, again: 0 }).again),
            None => {
                given.insert(key, Given { at: now, again: 0 });
                Some(0)
            }
        }
    }

    /// Forgets what was said long ago; what happened again meanwhile.
    fn ended(&self, now: Instant) -> Vec<(String, u64)> {
        let mut given = self.0.lock().expect("nothing panics with it");
        let old = given.extract_if(|_, one| now >= one.at + STANDS);
        old.filter(|(_, one)| one.again > 0).map(|(what, one)| (what, one.again)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_thing_is_said_once_and_counted_until_its_minute_is_over() {
        let repeats = Repeats::default();
        let start = Instant::now();
        assert_eq!(repeats.count("no CA", "refused", start), Some(0));
        for _ in 0..5_700 {
            assert_eq!(repeats.count("no CA", "refused", start + STANDS / 2), None);
        }
        assert_eq!(repeats.count("no CA", "no route", start), Some(0), "another reason is another thing");
        assert_eq!(repeats.count("no CA", "refused", start + STANDS), Some(5_700));
    }

    #[test]
    fn what_nothing_follows_is_counted_in_the_end_and_then_forgotten() {
        let repeats = Repeats::default();
        let start = Instant::now();
        repeats.count("no CA", "refused", start);
        repeats.count("no CA", "refused", start);
        assert_eq!(repeats.ended(start), []);
        assert_eq!(repeats.ended(start + STANDS), [("no CA: refused".to_owned(), 1)]);
        assert_eq!(repeats.ended(start + STANDS * 2), []);
    }

    #[test]
    fn no_number_of_reasons_makes_more_than_so_many_warnings() {
        let repeats = Repeats::default();
        let start = Instant::now();
        let said = (0..10_000).filter(|n| repeats.count("no CA", &n.to_string(), start).is_some()).count();
        assert_eq!(said, MOST + 1);
    }
}

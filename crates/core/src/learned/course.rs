//! The course of one domain's edit: from the editor to the zone's servers, and from there to
//! most of the world.

use std::collections::BTreeSet;

use chrono::{DateTime, Duration, Utc};
use serde::{Deserialize, Serialize};

use crate::judge::code::Code;
use crate::judge::finding::Finding;
use crate::judge::served::Served;
use crate::learned::mistake::is_mistake;

/// Longest time between two looks for the second to tell when something came about.
const FINE: Duration = Duration::minutes(5);

/// How one domain's records came into the world.
///
/// What was in place before the first look, or came while nobody looked for long, is not timed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Course {
    /// Since when the edit is known of: it was sent from here, or some of the servers had it.
    /// Kept apart from the rest, since others write it too.
    #[serde(skip)]
    pub begun_at: Option<DateTime<Utc>>,
    /// When all of the zone's servers were first seen to have it.
    pub served_at: Option<DateTime<Utc>>,
    /// Seconds from then on until the quorum of vantages saw it.
    pub seen_after: Option<i64>,
    /// Whether nothing more is to be learned from it.
    pub is_over: bool,
    /// What went wrong on the way.
    pub mistakes: BTreeSet<Code>,
    /// Lowest TTL of what was published, in seconds.
    pub lowest_ttl: Option<u32>,
    /// Whether an alias at the apex became addresses there; nothing, where none was tried.
    pub flattens: Option<bool>,
}

/// What one look shows of it.
#[derive(Clone, Debug)]
pub struct Glimpse<'a> {
    /// When it was.
    pub at: DateTime<Utc>,
    /// When the one before it was.
    pub before: Option<DateTime<Utc>>,
    /// What the zone's servers return.
    pub served: &'a Served,
    /// Share of the vantages that see it, 0 to 1.
    pub spread: Option<f64>,
    /// Share that is enough, 0 to 1.
    pub quorum: f64,
    /// What is wrong.
    pub findings: &'a [Finding],
}

impl Glimpse<'_> {
    /// Whether what it shows came about a moment ago.
    fn is_fine(&self) -> bool {
        self.before.is_some_and(|before| self.at - before <= FINE)
    }

    fn is_seen(&self) -> bool {
        self.spread.is_some_and(|spread| spread + 1e-9 >= self.quorum)
    }
}

impl Course {
    /// The course after another look; nothing, where that tells nothing new.
    pub fn after(before: Option<&Self>, look: &Glimpse<'_>) -> Option<Self> {
        let mut course = before.cloned().unwrap_or_default();
        if course.is_over {
            return None;
        }

        course.notice(look);
        course.go_on(look);
        (Some(&course) != before).then_some(course)
    }

    /// Seconds until all servers had it, where it is known when it was made.
    pub fn served_after(&self) -> Option<i64> {
        let took = self.served_at? - self.begun_at?;
        (took >= Duration::zero()).then_some(took.num_seconds())
    }

    /// What is to be seen of the editor, however far the edit has come.
    fn notice(&mut self, look: &Glimpse<'_>) {
        let codes = look.findings.iter().map(|finding| finding.code);
        self.mistakes.extend(codes.filter(|code| is_mistake(*code)));
        self.lowest_ttl = self.lowest_ttl.into_iter().chain(look.served.ttl).min();

        if look.served.by_alias {
            self.flattens = Some(true);
        } else if self.mistakes.contains(&Code::CnameAtApex) {
            self.flattens = self.flattens.or(Some(false));
        }
    }

    fn go_on(&mut self, look: &Glimpse<'_>) {
        let Glimpse { at, served, .. } = *look;
        // Servers that are silent say nothing against it.
        if served.all == 0 {
            return;
        }
        if !served.is_whole() {
            // What was taken away again is not waited for.
            self.is_over = self.served_at.is_some();
            self.begun_at = self.begun_at.or((served.with > 0).then_some(at));
            return;
        }

        let served_at = match self.served_at {
            Some(served_at) => served_at,
            None if self.begun_at.is_none() && !look.is_fine() => {
                self.is_over = true;
                return;
            }
            None => *self.served_at.insert(at),
        };
        if look.is_seen() {
            self.seen_after = Some((at - served_at).num_seconds());
            self.is_over = true;
        }
    }
}

#[cfg(test)]
mod tests {
    use chrono::Duration;

    use super::*;
    use crate::test;

    /// A look so many seconds after the first, which so many of two servers pass, and a share
    /// of the vantages.
    fn look(before: Option<&Course>, seconds: i64, with: usize, spread: f64) -> Option<Course> {
        let served = Served { with, all: 2, ttl: Some(300), by_alias: false };
        Course::after(before, &glimpse(&served, seconds, spread, &[]))
    }

    fn glimpse<'a>(served: &'a Served, seconds: i64, spread: f64, findings: &'a [Finding]) -> Glimpse<'a> {
        let at = test::now() + Duration::seconds(seconds);
        let before = (seconds > 0).then(|| at - Duration::seconds(5));
        Glimpse { at, before, served, spread: Some(spread), quorum: 2.0 / 3.0, findings }
    }

    #[test]
    fn an_edit_is_timed_from_the_first_server_to_the_last_and_on_to_the_quorum() {
        let none = look(None, 0, 0, 0.0).expect("begun");
        assert_eq!((none.begun_at, none.is_over), (None, false));
        assert_eq!(look(Some(&none), 5, 0, 0.0), None, "nothing has happened");

        let some = look(Some(&none), 10, 1, 0.0).expect("one has it");
        let all = look(Some(&some), 70, 2, 0.3).expect("all have it");
        assert_eq!((all.served_after(), all.is_over), (Some(60), false));
        assert_eq!(look(Some(&all), 80, 2, 0.3), None, "resolvers are waited for");

        let seen = look(Some(&all), 370, 2, 0.7).expect("enough see it");
        assert_eq!((seen.served_after(), seen.seen_after, seen.is_over), (Some(60), Some(300), true));
        assert_eq!(look(Some(&seen), 400, 0, 0.0), None, "what comes later is another matter");
    }

    #[test]
    fn nothing_is_timed_that_nobody_saw_begin() {
        let there = look(None, 0, 2, 0.3).expect("there already");
        assert_eq!((there.served_after(), there.seen_after, there.is_over), (None, None, true));

        let none = look(None, 0, 0, 0.0).expect("begun");
        let at_once = look(Some(&none), 600, 2, 1.0).expect("everywhere");
        assert_eq!((at_once.served_after(), at_once.seen_after), (None, Some(0)), "by hand, at some time");

        let whole = Served { with: 2, all: 2, ..Served::default() };
        let late = Glimpse { before: Some(test::now()), ..glimpse(&whole, 600, 1.0, &[]) };
        let late = Course::after(Some(&none), &late).expect("over");
        assert_eq!((late.seen_after, late.is_over), (None, true), "nobody looked for ten minutes");

        let sent = Course { begun_at: Some(test::now()), ..none };
        assert_eq!(look(Some(&sent), 8, 2, 1.0).expect("everywhere").served_after(), Some(8));
    }

    #[test]
    fn what_is_taken_away_again_is_not_waited_for_and_silence_says_nothing() {
        let none = look(None, 0, 0, 0.0).expect("begun");
        let all = look(Some(&none), 10, 2, 0.0).expect("all have it");
        let silent = Served::default();
        assert_eq!(Course::after(Some(&all), &glimpse(&silent, 20, 0.0, &[])), None);
        let gone = look(Some(&all), 30, 0, 0.0).expect("gone");
        assert_eq!((gone.seen_after, gone.is_over), (None, true));
    }

    #[test]
    fn mistakes_stay_known_once_they_are_mended() {
        let found = test::diagnose("onswick.example", &["@ CNAME onswick.edge.quaymark.example"]);
        assert!(found.iter().any(|finding| finding.code == Code::CnameAtApex), "{:?}", test::codes(&found));
        let served = Served { with: 0, all: 1, ..Served::default() };
        let wrong = Course::after(None, &glimpse(&served, 0, 0.0, &found)).expect("noticed");
        assert_eq!((wrong.mistakes.len(), wrong.flattens), (1, Some(false)));

        let right = look(Some(&wrong), 60, 2, 1.0).expect("mended");
        assert!(right.mistakes.contains(&Code::CnameAtApex));
        assert_eq!(right.lowest_ttl, Some(300));
        let alias = Served { with: 1, all: 1, ttl: Some(60), by_alias: true };
        let by_alias = Course::after(Some(&wrong), &glimpse(&alias, 60, 1.0, &[])).expect("mended");
        assert_eq!((by_alias.flattens, by_alias.lowest_ttl), (Some(true), Some(60)));
    }
}

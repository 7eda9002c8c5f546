//! What many courses at one DNS operator come to.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::judge::code::Code;
use crate::learned::course::Course;

/// How many there must be before anything is said: fewer would tell of somebody.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Enough {
    /// Domains.
    pub cases: usize,
    /// Accounts that they are of.
    pub accounts: usize,
    /// Share of the cases from which on a mistake is a usual one, 0 to 1.
    pub usual: f64,
}

impl Default for Enough {
    fn default() -> Self {
        Self { cases: 5, accounts: 3, usual: 0.2 }
    }
}

/// One account's case.
#[derive(Clone, Debug)]
pub struct Known<A> {
    /// Whose it is.
    pub account: A,
    /// How it went.
    pub course: Course,
}

/// How long something takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Times {
    /// Cases that it is known of.
    pub cases: usize,
    /// Seconds within which half of them were done.
    pub median: u32,
    /// Seconds within which nine of ten were.
    pub ninetieth: u32,
}

/// A mistake that several accounts have made.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Mistake {
    /// What is found then.
    pub code: Code,
    /// Cases in which it was.
    pub cases: usize,
    /// Whether that is often enough to warn everybody of it.
    pub is_usual: bool,
}

/// What the fleet has learned of one DNS operator.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Lessons {
    /// Domains that it was learned from.
    pub cases: usize,
    /// How long an edit takes until every server of the zone has it, of those that it is known
    /// of when they were made.
    pub served: Option<Times>,
    /// How long it takes from then on until the quorum of vantages sees it.
    pub seen: Option<Times>,
    /// Mistakes, those made most first.
    pub mistakes: Vec<Mistake>,
    /// Lowest TTL that was published there, in seconds.
    pub lowest_ttl: Option<u32>,
    /// Whether an alias at the apex becomes addresses; nothing, where too few have tried.
    pub flattens: Option<bool>,
}

impl Lessons {
    /// Draws them; nothing, where there are not enough cases.
    pub fn of<A: Ord>(known: &[Known<A>], enough: &Enough) -> Option<Self> {
        let cases = Cases(known.iter().collect());
        if !cases.are_enough(enough) {
            return None;
        }

        Some(Self {
            cases: known.len(),
            served: cases.times(enough, Course::served_after),
            seen: cases.times(enough, |course| course.seen_after),
            mistakes: cases.mistakes(enough),
            lowest_ttl: cases.lowest_ttl(enough),
            flattens: cases.flattens(enough),
        })
    }

    /// Mistakes that everybody is warned of.
    pub fn usual(&self) -> impl Iterator<Item = Code> {
        self.mistakes.iter().filter(|mistake| mistake.is_usual).map(|mistake| mistake.code)
    }
}

struct Cases<'a, A>(Vec<&'a Known<A>>);

impl<'a, A: Ord> Cases<'a, A> {
    fn are_enough(&self, enough: &Enough) -> bool {
        self.0.len() >= enough.cases && self.accounts() >= enough.accounts
    }

    fn accounts(&self) -> usize {
        self.0.iter().map(|known| &known.account).collect::<BTreeSet<_>>().len()
    }

    /// Those of which something is known, if they are enough.
    fn with(&self, enough: &Enough, is_known: impl Fn(&Course) -> bool) -> Option<Self> {
        let some = Self(self.0.iter().copied().filter(|known| is_known(&known.course)).collect());
        some.are_enough(enough).then_some(some)
    }

    fn times(&self, enough: &Enough, of: impl Fn(&Course) -> Option<i64>) -> Option<Times> {
        let some = self.with(enough, |course| of(course).is_some())?;
        let mut seconds: Vec<_> = some.0.iter().filter_map(|known| of(&known.course)).collect();
        seconds.sort_unstable();

        // Courses have whole seconds: what has taken a part of one is done within one.
        let within = |tenths| u32::try_from(rank(&seconds, tenths).max(1)).unwrap_or(u32::MAX);
        Some(Times { cases: seconds.len(), median: within(5), ninetieth: within(9) })
    }

    fn mistakes(&self, enough: &Enough) -> Vec<Mistake> {
        let mut made: BTreeMap<Code, Vec<&'a Known<A>>> = BTreeMap::new();
        for known in &self.0 {
            for code in &known.course.mistakes {
                made.entry(*code).or_default().push(known);
            }
        }

        // What one account alone has done is its own affair.
        let made = made.into_iter().filter(|(_, made)| Cases(made.clone()).accounts() > 1);
        let mut mistakes: Vec<_> = made
            .map(|(code, made)| {
                let is_usual = made.len() as f64 >= enough.usual * self.0.len() as f64;
                Mistake { code, cases: made.len(), is_usual }
            })
            .collect();
        mistakes.sort_by_key(|mistake| (std::cmp::Reverse(mistake.cases), mistake.code));
        mistakes
    }

    fn lowest_ttl(&self, enough: &Enough) -> Option<u32> {
        let some = self.with(enough, |course| course.lowest_ttl.is_some())?;
        some.0.iter().filter_map(|known| known.course.lowest_ttl).min()
    }

    /// One that was flattened is enough to know that it can be done; that it cannot needs
    /// several who have tried.
    fn flattens(&self, enough: &Enough) -> Option<bool> {
        let tried =
            |wanted| Self(self.0.iter().copied().filter(|k| k.course.flattens == Some(wanted)).collect());
        if tried(true).accounts() > 1 {
            return Some(true);
        }
        (tried(true).0.is_empty() && tried(false).accounts() >= enough.accounts).then_some(false)
    }
}

/// The least of these, sorted, that so many tenths of them do not exceed.
fn rank(sorted: &[i64], tenths: usize) -> i64 {
    let place = (sorted.len() * tenths).div_ceil(10).max(1) - 1;
    sorted.get(place).copied().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known(account: u8, course: Course) -> Known<u8> {
        Known { account, course }
    }

    fn seen(account: u8, seconds: i64) -> Known<u8> {
        known(account, Course { seen_after: Some(seconds), is_over: true, ..Course::default() })
    }

    #[test]
    fn times_are_those_within_which_half_and_nine_of_ten_were_done() {
        let cases: Vec<_> = (1..=20).map(|n| seen(n % 4, i64::from(n) * 10)).collect();
        let lessons = Lessons::of(&cases, &Enough::default()).expect("enough");
        assert_eq!(lessons.seen, Some(Times { cases: 20, median: 100, ninetieth: 180 }));
        assert_eq!((lessons.served, lessons.lowest_ttl, lessons.flattens), (None, None, None));
    }

    #[test]
    fn nothing_is_said_of_a_few() {
        let few: Vec<_> = (0..4).map(|n| seen(n, 10)).collect();
        assert_eq!(Lessons::of(&few, &Enough::default()), None);
        let of_two: Vec<_> = (0..40).map(|n| seen(n % 2, 10)).collect();
        assert_eq!(Lessons::of(&of_two, &Enough::default()), None, "many domains of two accounts");

        let mut mixed: Vec<_> = (0..9).map(|n| known(n, Course::default())).collect();
        mixed.extend([seen(10, 10), seen(11, 10)]);
        let lessons = Lessons::of(&mixed, &Enough::default()).expect("enough cases");
        assert_eq!((lessons.cases, lessons.seen), (11, None), "two of them say how long");
    }

    #[test]
    fn a_mistake_is_told_once_two_accounts_have_made_it_and_warned_of_when_many_have() {
        let made = |account, codes: &[Code]| {
            known(account, Course { mistakes: codes.iter().copied().collect(), ..Course::default() })
        };
        let mut cases = vec![
            made(1, &[Code::HostDoubled]),
            made(2, &[Code::HostDoubled, Code::WrongType]),
            made(3, &[Code::WrongType, Code::HostDoubled]),
            made(4, &[Code::MailLost]),
        ];
        cases.extend((5..16).map(|account| made(account, &[])));
        let lessons = Lessons::of(&cases, &Enough::default()).expect("enough");
        let told: Vec<_> = lessons.mistakes.iter().map(|one| (one.code, one.cases, one.is_usual)).collect();
        assert_eq!(told, [(Code::HostDoubled, 3, true), (Code::WrongType, 2, false)]);
        assert_eq!(lessons.usual().collect::<Vec<_>>(), [Code::HostDoubled]);
    }

    #[test]
    fn whether_aliases_become_addresses_is_known_when_it_was_tried() {
        let tried = |flattens: &[Option<bool>]| {
            let courses = flattens.iter().map(|flattens| Course { flattens: *flattens, ..Course::default() });
            let cases: Vec<_> = (0_u8..).zip(courses).map(|(n, course)| known(n, course)).collect();
            Lessons::of(&cases, &Enough::default()).expect("enough").flattens
        };
        assert_eq!(tried(&[None; 6]), None);
        assert_eq!(tried(&[Some(true), Some(true), None, None, Some(false)]), Some(true));
        assert_eq!(tried(&[Some(false), Some(false), Some(false), None, None]), Some(false));
        assert_eq!(tried(&[Some(false), Some(true), Some(false), Some(false), None]), None);
    }
}

//! What was seen at the host over the last checks, answer by answer.
//!
//! Zones do not always say the same: generators hand addresses out by turns, by weight, by the
//! asker's region or by the time of day. One answer alone tells nothing about that, and two that
//! differ may as well be an edit. So each source's answers are remembered with how often and when
//! they were seen: what comes back after something else is handed out by turns, and what a resolver
//! fetches anew while the zone's own servers say otherwise is another region's answer.

use std::collections::BTreeSet;
use std::net::IpAddr;

use chrono::{DateTime, Duration, Utc};
use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::reading::answer::{Reading, Source};
use crate::reading::record::{RecordData, RecordType};
use crate::reading::survey::{Survey, ZoneView};
use crate::reading::view;

/// Different answers of one source that are remembered; those seen longest ago go first.
const MAX_ANSWERS: usize = 16;
/// Sources that are remembered, each for each type.
const MAX_SOURCES: usize = 80;
/// Answers of one source that count; of more, all counts are halved.
const MAX_COUNTED: u32 = 64;
/// An answer is forgotten once so many times as many others have come as usually lie between two
/// of it: the odds that it is still handed out are then less than one in a million, which counts
/// where every check rolls the dice again.
const FORGOTTEN_AFTER: u32 = 14;
/// How much longer than its TTL a resolver may hold an answer: whole seconds are counted, and some
/// clocks are late.
const HELD_FOR_MORE: Duration = Duration::seconds(2);

/// What each source said about the host in the last checks.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Recent(pub Vec<Past>);

/// What one source said of one type, the latest answer first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Past {
    /// Who was asked.
    pub source: Source,
    /// For which type: A or AAAA.
    pub rtype: RecordType,
    /// Each different answer once.
    pub answers: Vec<SeenAnswer>,
}

/// One answer, and when it was seen.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SeenAnswer {
    /// Where aliases lead, from the host on.
    pub chain: Vec<DnsName>,
    /// The addresses.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub addresses: BTreeSet<IpAddr>,
    /// When it was seen first.
    pub first_at: DateTime<Utc>,
    /// When it was seen last.
    pub last_at: DateTime<Utc>,
    /// How often it was seen, of the answers that count.
    pub times: u32,
    /// How many other answers of the source have come since.
    pub since: u32,
    /// How often it came back after another one.
    pub returns: u32,
    /// Whether it came back within one check.
    pub recurs: bool,
    /// The longest that a resolver was to hold it, in seconds, of what was seen.
    #[serde(default)]
    pub held_for: u32,
}

/// One sample of what a source says.
struct Sample<'a> {
    reading: &'a Reading,
    chain: Vec<DnsName>,
    addresses: BTreeSet<IpAddr>,
    held_for: u32,
}

impl Recent {
    /// Whether nothing is remembered.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// What is remembered after a survey, of what was seen up to the one before it; nothing while
    /// everybody has said the same all along, since the survey itself holds that.
    pub fn after(before: Option<&Survey>, survey: &Survey) -> Self {
        // The servers of a domain that is not registered hand out nothing any more.
        if matches!(survey.zone, ZoneView::Unregistered { .. }) {
            return Self::default();
        }

        let mut recent = match before.filter(|before| before.routed() == survey.routed()) {
            Some(before) if before.recent.is_empty() => Self::default().with(before),
            Some(before) => before.recent.clone(),
            None => Self::default(),
        };
        recent = recent.with(survey);
        if recent.is_quiet() { Self::default() } else { recent }
    }

    fn with(mut self, survey: &Survey) -> Self {
        let routed = survey.routed().to_owned();
        let of_host = |reading: &&Reading| {
            reading.name == *routed && matches!(reading.rtype, RecordType::A | RecordType::Aaaa)
        };

        let readings = survey.readings.iter().chain(&survey.samples).filter(of_host);
        let samples: Vec<Sample<'_>> = readings.filter_map(|reading| Sample::of(survey, reading)).collect();
        // Nobody was asked, or nobody answered: that changes nothing.
        if samples.is_empty() {
            return self;
        }

        for sample in &samples {
            self.past_of(sample).take(sample, survey.at);
        }
        self.note_returns(&samples);
        self.0.retain(|past| samples.iter().any(|sample| sample.reading.source == past.source));
        self.0.truncate(MAX_SOURCES);
        self
    }

    /// Whether every source has said the same, and nothing else.
    fn is_quiet(&self) -> bool {
        self.0.iter().all(|past| {
            let same = self.0.iter().filter(|other| other.rtype == past.rtype);
            same.flat_map(|other| &other.answers)
                .all(|answer| past.answers.iter().all(|one| one.is_like(answer)))
        })
    }

    /// Whether a server of the zone hands out different answers by turns.
    pub fn varies_by_turns(&self) -> bool {
        self.0.iter().filter(|past| past.source.is_authority()).any(Past::varies)
    }

    /// Everything that the zone's servers are known to hand out for one type.
    pub fn handed_out(&self, rtype: RecordType) -> impl Iterator<Item = &SeenAnswer> {
        let pasts = self.0.iter().filter(move |past| past.rtype == rtype && past.source.is_authority());
        pasts.flat_map(|past| &past.answers)
    }

    /// The answers that vantages give although the zone's own servers have said something else for
    /// longer than any resolver may hold one: those of their region.
    pub fn of_regions(&self) -> impl Iterator<Item = (&Source, RecordType, &SeenAnswer)> {
        let vantages = self.0.iter().filter(|past| !past.source.is_authority());
        vantages.filter_map(|past| {
            let latest = past.answers.first()?;
            let own = self.0.iter().filter(|own| own.source.is_authority() && own.rtype == past.rtype);
            let own: Vec<_> = own.collect();

            let is_told_here = own.iter().flat_map(|own| &own.answers).any(|own| own.is_like(latest));
            let since = own.iter().filter_map(|own| own.answers.first()).map(|own| own.first_at).max()?;
            let gone_by = since + Duration::seconds(latest.held_for.into()) + HELD_FOR_MORE;
            (!is_told_here && latest.last_at > gone_by).then_some((&past.source, past.rtype, latest))
        })
    }

    fn past_of(&mut self, sample: &Sample<'_>) -> &mut Past {
        let Reading { source, rtype, .. } = sample.reading;
        let place = self.0.iter().position(|past| past.source == *source && past.rtype == *rtype);
        let place = place.unwrap_or_else(|| {
            self.0.push(Past { source: source.clone(), rtype: *rtype, answers: Vec::new() });
            self.0.len() - 1
        });
        &mut self.0[place]
    }

    /// Notes which answers came back within this check.
    fn note_returns(&mut self, samples: &[Sample<'_>]) {
        for past in &mut self.0 {
            let of =
                samples.iter().filter(|s| s.reading.source == past.source && s.reading.rtype == past.rtype);
            let of: Vec<_> = of.collect();
            for answer in &mut past.answers {
                let mut is_it = of.iter().map(|sample| sample.is(answer));
                // It, then another one, then it again.
                let recurs = is_it.any(|it| it) && is_it.any(|it| !it) && is_it.any(|it| it);
                answer.recurs |= recurs;
            }
        }
    }
}

impl Past {
    /// Whether the answers come by turns: one has come back at once, or more than once. A single
    /// return may be an edit that was taken back.
    fn varies(&self) -> bool {
        self.answers.len() > 1 && self.answers.iter().any(|answer| answer.recurs || answer.returns > 1)
    }

    fn take(&mut self, sample: &Sample<'_>, now: DateTime<Utc>) {
        match self.answers.iter().position(|answer| sample.is(answer)) {
            Some(place) => {
                let mut answer = self.answers.remove(place);
                answer.see(sample, now, place > 0);
                self.answers.insert(0, answer);
            }
            None => self.answers.insert(0, SeenAnswer::new(sample, now)),
        }
        self.answers.iter_mut().skip(1).for_each(|other| other.since += 1);

        let counted: u32 = self.answers.iter().map(|answer| answer.times).sum();
        if counted > MAX_COUNTED {
            self.answers.iter_mut().for_each(SeenAnswer::count_half);
        }
        let counted: u32 = self.answers.iter().map(|answer| answer.times).sum();
        self.answers.retain(|answer| answer.is_expected_still(counted));
        self.answers.truncate(MAX_ANSWERS);
    }
}

impl SeenAnswer {
    fn new(sample: &Sample<'_>, now: DateTime<Utc>) -> Self {
        Self {
            chain: sample.chain.clone(),
            addresses: sample.addresses.clone(),
            first_at: now,
            last_at: now,
            times: 1,
            since: 0,
            returns: 0,
            recurs: false,
            held_for: sample.held_for,
        }
    }

    /// Takes in that it was seen again, after others if it `returns`.
    fn see(&mut self, sample: &Sample<'_>, now: DateTime<Utc>, returns: bool) {
        self.held_for = self.held_for.max(sample.held_for);
        self.last_at = now;
        self.times += 1;
        self.since = 0;
        self.returns += u32::from(returns);
    }

    fn count_half(&mut self) {
        self.times = self.times.div_ceil(2);
        self.since /= 2;
    }

    /// Whether too few others have come since for it to be gone, by how often it came before, of
    /// so many answers in all.
    fn is_expected_still(&self, counted: u32) -> bool {
        let until_then = counted.saturating_sub(self.since).max(self.times);
        self.since * self.times <= FORGOTTEN_AFTER * until_then
    }

    /// Whether another one says the same.
    fn is_like(&self, other: &Self) -> bool {
        self.chain == other.chain && self.addresses == other.addresses
    }
}

impl<'a> Sample<'a> {
    /// `None` for an answer that says nothing, or that nothing stands there.
    fn of(survey: &Survey, reading: &'a Reading) -> Option<Self> {
        let apex = survey.apex()?;
        let is_own = reading.source.is_authority();
        let records = reading.answer().filter(|_| !reading.is_lame())?.iter();
        // What other zones hand out is theirs.
        let records: Vec<_> = records.filter(|record| record.owner.is_within(apex)).collect();

        let addresses = records.iter().filter_map(|record| match record.data {
            RecordData::A(address) => Some(IpAddr::V4(address)),
            RecordData::Aaaa(address) => Some(IpAddr::V6(address)),
            _ => None,
        });
        let left = records.iter().map(|record| record.ttl).min().or(reading.negative_ttl);
        let held_for = if is_own { 0 } else { left.unwrap_or(0) };
        let chain = view::chain(survey.routed(), &records);
        Some(Self { reading, chain, addresses: addresses.collect(), held_for })
    }

    fn is(&self, answer: &SeenAnswer) -> bool {
        self.chain == answer.chain && self.addresses == answer.addresses
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    const HOST: &str = "onswick.example";

    /// A survey in which the zone's server answers so, one sample after the other.
    fn survey(minute: i64, answers: &[&str]) -> Survey {
        let line = |address: &str| format!("@ A {address}");
        let mut survey = test::survey(HOST, &[&line(answers[0])]);
        survey.at = test::now() + Duration::minutes(minute);
        for address in &answers[1..] {
            let again = test::survey(HOST, &[&line(address)]);
            let samples = again.readings.into_iter().filter(|r| r.name == HOST && r.rtype == RecordType::A);
            survey.samples.extend(samples);
        }
        survey
    }

    fn after(surveys: &[Survey]) -> Recent {
        let mut before: Option<Survey> = None;
        for survey in surveys {
            let mut survey = survey.clone();
            survey.remember(before.as_ref());
            before = Some(survey);
        }
        before.expect("a survey").recent
    }

    fn handed_out(recent: &Recent) -> usize {
        recent.handed_out(RecordType::A).flat_map(|answer| &answer.addresses).collect::<BTreeSet<_>>().len()
    }

    #[test]
    fn what_comes_back_at_once_is_handed_out_by_turns_and_an_edit_is_not() {
        let (one, two) = ("127.77.0.10", "127.77.0.11");
        assert!(after(&[survey(0, &[one, two, one])]).varies_by_turns());
        assert!(!after(&[survey(0, &[one, one, two, two])]).varies_by_turns(), "an edit under way");
        assert!(!after(&[survey(0, &[one]), survey(1, &[two]), survey(2, &[two])]).varies_by_turns());
        assert!(
            !after(&[survey(0, &[one]), survey(1, &[two]), survey(2, &[one])]).varies_by_turns(),
            "taken back"
        );
        let by_time: Vec<_> = (0..6).map(|n| survey(n, &[[one, two][n as usize % 2]])).collect();
        assert!(after(&by_time).varies_by_turns());
    }

    #[test]
    fn what_is_handed_out_no_more_is_forgotten_and_what_is_rare_is_remembered_for_longer() {
        let (one, two) = ("127.77.0.10", "192.0.2.7");
        let by_turns = survey(0, &[one, two, one, two]);
        let then = |count: i64| {
            let quiet = (1..=count).map(|n| survey(n, &[one, one, one, one]));
            after(&[vec![by_turns.clone()], quiet.collect()].concat())
        };
        assert_eq!(handed_out(&then(1)), 2);
        assert!(then(9).is_empty());

        let seldom = [vec![survey(0, &[one; 20])], vec![survey(1, &[two, one, one, one])]].concat();
        let quiet = (2..10).map(|n| survey(n, &[one, one, one, one]));
        assert_eq!(handed_out(&after(&[seldom, quiet.collect()].concat())), 2, "one in 24");
    }

    #[test]
    fn an_answer_that_no_resolver_can_hold_any_more_is_its_regions_and_one_that_it_may_hold_is_not() {
        let seen = |second: i64, address: [u8; 4]| {
            let mut survey = survey(0, &["127.77.0.10"]);
            survey.at = test::now() + Duration::seconds(second);
            survey.readings.push(test::seen("north", HOST, RecordType::A, &[RecordData::A(address.into())]));
            survey
        };
        let foreign = [192, 0, 2, 7];
        let regions = |surveys: &[Survey]| after(surveys).of_regions().count();
        assert_eq!(regions(&[seen(0, foreign), seen(30, foreign), seen(60, foreign)]), 0, "held for 60 s");
        let anew = [0, 70, 140].map(|second| seen(second, foreign));
        assert_eq!(regions(&anew), 1);
        assert_eq!(
            regions(&[&anew[..], &[seen(210, [127, 77, 0, 10])]].concat()),
            0,
            "it sees what is told here"
        );
    }

    #[test]
    fn nothing_is_kept_while_everybody_says_the_same() {
        let mut quiet = survey(0, &["127.77.0.10", "127.77.0.10"]);
        quiet.readings.push(test::seen(
            "north",
            HOST,
            RecordType::A,
            &[RecordData::A([127, 77, 0, 10].into())],
        ));
        assert!(after(&[quiet.clone(), quiet.clone()]).is_empty());
        let edited = after(&[quiet, survey(1, &["192.0.2.7"])]);
        assert_eq!(handed_out(&edited), 2, "what stood there before is taken from the survey before");
    }

    #[test]
    fn memory_is_bounded_whatever_a_zone_hands_out() {
        let addresses: Vec<String> = (0..200).map(|n| format!("192.0.2.{n}")).collect();
        let surveys: Vec<_> = (0..50)
            .map(|n| {
                survey(
                    n,
                    &addresses.iter().skip(n as usize).map(String::as_str).take(100).collect::<Vec<_>>(),
                )
            })
            .collect();
        let recent = after(&surveys);
        assert!(recent.0.iter().all(|past| past.answers.len() <= MAX_ANSWERS));
    }
}

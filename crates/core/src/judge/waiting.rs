//! Waiting, explained: which vantages see the routing, which still hold an
//! older answer, and until when.
//!
//! A resolver keeps what it was told for the TTL it was told (RFC 1035, section
//! 3.2.1), and an absence for the time that the zone's SOA gives it (RFC 2308,
//! section 5). What is left of that time comes with every answer.

use std::collections::BTreeSet;

use chrono::{DateTime, Duration, Utc};
use serde::{Deserialize, Serialize};

use crate::judge::case::Case;
use crate::judge::verdict::Verdict;
use crate::reading::answer::{Reading, Source};
use crate::reading::record::{Record, RecordData, RecordType};

/// What one vantage sees or holds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Wait {
    /// Name of the vantage.
    pub vantage: String,
    /// Whether it leads visitors here.
    pub sees: bool,
    /// Whether it answers at all. One that is silent is ours to mend, and is left
    /// out of the spread.
    #[serde(default = "answered")]
    pub answers: bool,
    /// What it answers instead of an address, in words that follow its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
    /// What it still holds instead, as zone files write it; `nothing` for a
    /// cached absence. Empty where it holds nothing old.
    pub holds: Vec<String>,
    /// When it lets go of that; `None` where it sees, or cannot be read.
    pub until: Option<DateTime<Utc>>,
}

fn answered() -> bool {
    true
}

/// One entry for each vantage that was asked.
///
/// A time is given only while the authoritative servers are right: before that,
/// what a resolver will ask for next is not there yet either.
pub fn waits(case: &Case<'_>) -> Vec<Wait> {
    case.vantages.iter().map(|source| wait(case, source)).collect()
}

fn wait(case: &Case<'_>, source: &Source) -> Wait {
    let view = case.survey.host_view(source);
    let by_turns = view.as_ref().is_some_and(|view| case.variation.grants(view, &case.domain.ingress));
    let sees = case.expected.routing(view.as_ref()) == Verdict::Match || (by_turns && case.is_routed());
    // What its region is told is no older answer, and no wait makes it go.
    let is_regions = case.variation.by_region.iter().any(|(known, _)| known == source);
    let old = if sees || is_regions || !case.is_routed() { Vec::new() } else { outdated(case, source) };

    let until = old.iter().filter_map(|reading| let_go(case, reading, &case.sheet.routed)).max();
    let failed = failed(case, source);
    Wait {
        vantage: source.to_string(),
        sees,
        answers: failed.is_none_or(Reading::is_theirs),
        failure: failed.filter(|reading| reading.is_theirs()).and_then(Reading::failure),
        holds: old.iter().flat_map(|reading| shown(reading, &case.sheet.routed)).collect(),
        until,
    }
}

/// The first of its address readings that is of no use.
fn failed<'a>(case: &'a Case<'_>, source: &Source) -> Option<&'a Reading> {
    let types = [RecordType::A, RecordType::Aaaa];
    let readings = types.into_iter().flat_map(|rtype| case.survey.of(&case.sheet.routed, rtype));
    readings.filter(|reading| &reading.source == source).find(|reading| reading.answer().is_none())
}

/// When the first vantage lets go of the absence of the token that it holds, once the zone's own
/// servers have it; `None` where none says.
pub fn token_until(case: &Case<'_>) -> Option<DateTime<Utc>> {
    if !case.is_owned() || case.owners.is_seen != Some(false) {
        return None;
    }
    let challenge = &case.sheet.challenge;
    let readings =
        case.survey.of(challenge, RecordType::Txt).filter(|reading| !reading.source.is_authority());
    readings.filter_map(|reading| let_go(case, reading, challenge)).min()
}

/// When a resolver has let go for certain of what it showed: it counts whole seconds, so that what
/// is shown with none left may be held for one more.
fn let_go(case: &Case<'_>, reading: &Reading, routed: &str) -> Option<DateTime<Utc>> {
    let seconds = left(reading, routed)?;
    let answered_at = case.survey.at + Duration::milliseconds(reading.after_ms.into());
    Some(answered_at + Duration::seconds(i64::from(seconds) + 1))
}

/// Share of the vantages that see it, of those that answer; `None` where none
/// does.
pub fn spread(waits: &[Wait]) -> Option<f64> {
    let answering = waits.iter().filter(|wait| wait.answers).count();
    let seeing = waits.iter().filter(|wait| wait.sees).count();
    (answering > 0).then(|| seeing as f64 / answering as f64)
}

/// When enough vantages for `quorum` will see it; `None` where one that is
/// needed gives no time.
pub fn settled_at(waits: &[Wait], quorum: f64) -> Option<DateTime<Utc>> {
    let answering = waits.iter().filter(|wait| wait.answers).count();
    let needed = (quorum * answering as f64 - 1e-9).ceil().max(0.0) as usize;
    let seeing = waits.iter().filter(|w| w.sees).count();

    let mut ends: Vec<_> = waits.iter().filter(|w| !w.sees).filter_map(|w| w.until).collect();
    ends.sort();
    ends.get(needed.checked_sub(seeing + 1)?).copied()
}

/// Address readings of a vantage that differ from what the zone now says.
fn outdated<'a>(case: &'a Case<'_>, source: &Source) -> Vec<&'a Reading> {
    let routed = &case.sheet.routed;
    let types = [RecordType::A, RecordType::Aaaa].into_iter();

    types
        .filter_map(|rtype| {
            let held = case.survey.of(routed, rtype).find(|r| &r.source == source)?;
            let (_, now) = case.survey.authority(routed, rtype).next()?;
            (own(held.answer()?, routed) != own(now, routed)).then_some(held)
        })
        .collect()
}

/// What stands at the host itself, whatever it leads to.
fn own<'a>(records: &'a [Record], routed: &str) -> BTreeSet<&'a RecordData> {
    records.iter().filter(|record| record.owner == routed).map(|record| &record.data).collect()
}

/// Seconds until the resolver asks anew.
fn left(reading: &Reading, routed: &str) -> Option<u32> {
    let own = reading.answer()?.iter().filter(|r| r.owner == routed);
    own.map(|r| r.ttl).min().or(reading.negative_ttl)
}

fn shown(reading: &Reading, routed: &str) -> Vec<String> {
    let own = reading.answer().unwrap_or_default().iter().filter(|r| r.owner == routed);
    let shown: Vec<_> = own.map(|record| record.data.typed()).collect();

    if shown.is_empty() { vec![format!("no {}", reading.rtype)] } else { shown }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    fn wait(sees: bool, seconds: Option<i64>) -> Wait {
        let until = seconds.map(|s| test::now() + Duration::seconds(s));
        Wait { vantage: "north".into(), sees, answers: true, failure: None, holds: Vec::new(), until }
    }

    #[test]
    fn enough_have_settled_when_the_last_one_needed_lets_go() {
        let waits = [wait(true, None), wait(false, Some(40)), wait(false, Some(20))];
        assert_eq!(spread(&waits), Some(1.0 / 3.0));
        assert_eq!(settled_at(&waits, 2.0 / 3.0), Some(test::now() + Duration::seconds(20)));
        assert_eq!(settled_at(&waits, 1.0), Some(test::now() + Duration::seconds(40)));
        let unknown = [wait(true, None), wait(false, None), wait(false, Some(20))];
        assert_eq!(settled_at(&unknown, 1.0), None);
        assert_eq!(settled_at(&waits, 0.3), None, "nothing is waited for");
    }

    #[test]
    fn what_is_held_and_for_how_long_is_read_from_the_answers() {
        let mut survey = test::survey(HOST, &test::healthy(HOST));
        let a = RecordData::A([192, 0, 2, 7].into());
        survey.readings.push(test::seen("north", HOST, RecordType::A, std::slice::from_ref(&a)));
        survey.readings.push(test::seen("north", HOST, RecordType::Aaaa, &[]));
        let absent = survey.readings.last_mut().expect("one");
        absent.negative_ttl = Some(90);
        absent.after_ms = 1_500;
        let waits = test::waits(HOST, &survey);
        assert_eq!(waits[0].holds, ["A 192.0.2.7", "no AAAA"]);
        assert_eq!(waits[0].until, Some(test::now() + Duration::milliseconds(92_500)));
        assert!(!waits[0].sees);
    }

    #[test]
    fn while_the_zone_itself_is_wrong_no_time_is_promised() {
        let mut survey = test::survey(HOST, &["timetable A 192.0.2.7"]);
        let a = RecordData::A([192, 0, 2, 7].into());
        survey.readings.push(test::seen("north", HOST, RecordType::A, std::slice::from_ref(&a)));
        survey.readings.push(test::seen("north", HOST, RecordType::Aaaa, &[]));
        let waits = test::waits(HOST, &survey);
        assert_eq!((waits[0].until, waits[0].holds.len()), (None, 0));
    }
}

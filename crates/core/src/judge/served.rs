//! What the zone's own servers return of the routing.

use crate::judge::case::Case;
use crate::judge::verdict::Verdict;
use crate::reading::record::RecordType;

/// How far an edit has come at the servers of its zone.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Served {
    /// Servers that lead visitors here.
    pub with: usize,
    /// Servers that answer at all.
    pub all: usize,
    /// Lowest TTL of what stands at the host, in seconds, where it leads here.
    pub ttl: Option<u32>,
    /// Whether it leads here by an alias that the editor has turned into addresses, and by
    /// nothing else.
    pub by_alias: bool,
}

impl Served {
    /// Counts them.
    pub fn of(case: &Case<'_>) -> Self {
        let routing = |view| case.expected.routing(Some(view));
        let leading: Vec<_> = case.views.iter().filter(|(_, view)| routing(view) == Verdict::Match).collect();

        let routed = &case.sheet.routed;
        let types = [RecordType::A, RecordType::Aaaa].into_iter();
        let held = types.flat_map(|rtype| case.survey.authority(routed, rtype));
        let held = held.filter(|(source, _)| leading.iter().any(|(leads, _)| leads == source));
        let own = held.flat_map(|(_, records)| records).filter(|record| record.owner == *routed);

        Self {
            with: leading.len(),
            all: case.views.len(),
            ttl: own.map(|record| record.ttl).min(),
            by_alias: leading.iter().any(|(_, view)| case.expected.is_by_alias(view)),
        }
    }

    /// Whether every server that answers has it.
    pub fn is_whole(&self) -> bool {
        self.all > 0 && self.with == self.all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::record::RecordData;
    use crate::reading::survey::Survey;
    use crate::test;

    fn served(host: &str, survey: &Survey) -> Served {
        test::run(&test::domain(host), survey, Served::of)
    }

    #[test]
    fn it_is_whole_when_every_server_that_answers_has_it() {
        let host = "timetable.onswick.example";
        let mut survey = test::survey(host, &test::healthy(host));
        let whole = served(host, &survey);
        assert!(whole.is_whole() && !whole.by_alias && whole.ttl.is_some(), "{whole:?}");

        test::second(&mut survey, &["timetable A 192.0.2.7"]);
        let half = served(host, &survey);
        assert_eq!((half.with, half.all, half.is_whole()), (1, 2, false));
        assert!(!served(host, &test::silent_survey(host)).is_whole());
    }

    #[test]
    fn an_alias_shows_where_the_canonical_host_has_other_addresses_than_the_ingress() {
        let host = "onswick.example";
        let mut survey = test::survey(host, &["@ A 127.77.0.99"]);
        let canonical = test::sheet(host).canonical;
        let a = RecordData::A([127, 77, 0, 99].into());
        survey.readings.push(test::seen("north", &canonical, RecordType::A, &[a]));
        assert!(served(host, &survey).by_alias);
        assert!(!served(host, &test::survey(host, &test::healthy(host))).by_alias);
    }
}

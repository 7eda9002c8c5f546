//! The CAA set that counts for a host: found by climbing, as a CA does (RFC 8659,
//! section 3).

use crate::name::dns;
use crate::reading::answer::{Reading, Source};
use crate::reading::record::{Record, RecordType};
use crate::reading::survey::Survey;

impl Survey {
    /// What a CA would find for the host (RFC 8659, section 3): the closest
    /// non-empty set, climbing. A name on the way that nobody answers for ends
    /// the climb, since a set may stand there.
    pub fn caa(&self) -> CaaView<'_> {
        for name in dns::climb(self.host.as_str()) {
            match self.caa_at(name) {
                CaaAt::Unasked => {}
                CaaAt::Set(records) if records.is_empty() => {}
                CaaAt::Set(records) => return CaaView::Set { owner: name, records },
                CaaAt::Unread { why, theirs } => return CaaView::Unread { owner: name, why, theirs },
            }
        }
        CaaView::None
    }

    /// Every set that a CA may find: where the zone's servers do not agree, each
    /// may be the one that is asked.
    pub fn caa_sets(&self) -> Vec<CaaSet<'_>> {
        let mut servers: Vec<&Source> = Vec::new();
        for reading in self.readings.iter().filter(|reading| reading.rtype == RecordType::Caa) {
            if reading.source.is_authority() && !servers.contains(&&reading.source) {
                servers.push(&reading.source);
            }
        }

        let mut sets: Vec<CaaSet<'_>> = Vec::new();
        let any = servers.is_empty().then_some(None);
        let asked = servers.into_iter().map(Some).chain(any);
        for set in asked.filter_map(|server| self.caa_by(server)) {
            if !sets.iter().any(|known| known.is_same(&set)) {
                sets.push(set);
            }
        }
        sets
    }

    /// The set found by climbing with one server asked at each step; with
    /// another, where that one has no answer.
    fn caa_by(&self, server: Option<&Source>) -> Option<CaaSet<'_>> {
        for name in dns::climb(self.host.as_str()) {
            let own = self.of(name, RecordType::Caa).find(|reading| {
                let is_asked = server == Some(&reading.source);
                is_asked && reading.answer().is_some() && !reading.is_lame() && !reading.is_alias()
            });
            let at = own.map_or_else(|| self.caa_at(name), |reading| CaaAt::Set(reading.caa()));
            match at {
                CaaAt::Unasked => {}
                CaaAt::Set(records) if records.is_empty() => {}
                CaaAt::Set(records) => return Some(CaaSet { owner: name, records }),
                CaaAt::Unread { .. } => return None,
            }
        }
        None
    }

    /// The authority's own word where it gives one, else a vantage's, which
    /// has followed an alias to its end. A CA has a resolver with nothing in its
    /// memory: what none of the zone's servers answers, it does not get.
    fn caa_at<'a>(&'a self, name: &'a str) -> CaaAt<'a> {
        let readings: Vec<_> = self.of(name, RecordType::Caa).collect();
        let (own, vantages): (Vec<_>, Vec<_>) = readings.into_iter().partition(|r| r.source.is_authority());
        if own.is_empty() && vantages.is_empty() {
            return CaaAt::Unasked;
        }

        let tried: Vec<_> = own.iter().filter(|reading| reading.is_theirs()).collect();
        let served: Vec<_> = tried.iter().filter(|r| r.answer().is_some() && !r.is_lame()).collect();
        if let (Some(failed), true) = (tried.first(), served.is_empty()) {
            return CaaAt::unread(failed);
        }

        let (seen, failed): (Vec<&Reading>, Vec<&Reading>) =
            vantages.iter().filter(|reading| reading.is_theirs()).partition(|r| r.answer().is_some());
        if failed.len() > seen.len() {
            return CaaAt::unread(failed[0]);
        }

        let direct = served.into_iter().find(|reading| !reading.is_alias()).map(|reading| **reading);
        match direct.or_else(|| seen.first().copied()) {
            Some(reading) => CaaAt::Set(reading.caa()),
            // Where an alias leads is for a resolver to say, if there is one.
            None if vantages.is_empty() => CaaAt::Unasked,
            None => CaaAt::Unread { why: "no vantage answers".into(), theirs: false },
        }
    }
}

/// A CAA set, and the name that it stands at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CaaSet<'a> {
    /// The name.
    pub owner: &'a str,
    /// The set.
    pub records: Vec<&'a Record>,
}

impl CaaSet<'_> {
    /// Whether both have the same records at the same name, in whatever order.
    fn is_same(&self, other: &Self) -> bool {
        let holds = |set: &Self, record: &Record| set.records.iter().any(|own| own.data == record.data);
        self.owner == other.owner
            && self.records.len() == other.records.len()
            && self.records.iter().all(|record| holds(other, record))
    }
}

/// The CAA set that counts for a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CaaView<'a> {
    /// It stands here.
    Set {
        /// The name.
        owner: &'a str,
        /// The set.
        records: Vec<&'a Record>,
    },
    /// There is none.
    None,
    /// It cannot be told whether there is one.
    Unread {
        /// The name that nobody answers for.
        owner: &'a str,
        /// What came instead, in words that follow a source.
        why: String,
        /// Whether a CA would fare no better.
        theirs: bool,
    },
}

/// What is known of the CAA set at one name.
enum CaaAt<'a> {
    Unasked,
    Set(Vec<&'a Record>),
    Unread { why: String, theirs: bool },
}

impl CaaAt<'_> {
    fn unread(reading: &Reading) -> Self {
        let failure = reading.failure().unwrap_or_else(|| "answers without authority".into());
        Self::Unread { why: format!("{} {failure}", reading.source), theirs: true }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::answer::{Outcome, Rcode};
    use crate::reading::record::RecordData;
    use crate::test;

    const HOST: &str = "a.lines.onswick.example";

    /// What a source answers: an issuer's name for a set, nothing for none,
    /// `alias` for a CNAME without a set behind it, `alias:` and an issuer for one
    /// with, `fails`, `refuses` or `silence`.
    fn outcome(said: &str, name: &str, is_authority: bool) -> Outcome {
        let record = |data| Record { owner: name.into(), ttl: 60, data };
        let set =
            |issuer: &str| record(RecordData::Caa { flags: 0, tag: "issue".into(), value: issuer.into() });
        let alias = || record(RecordData::Cname("elsewhere.example".into()));
        let answer = |rcode, records| Outcome::Answer { rcode, authoritative: is_authority, records };

        match said {
            "silence" => Outcome::Silence,
            "fails" => answer(Rcode::ServFail, Vec::new()),
            "refuses" => answer(Rcode::Refused, Vec::new()),
            "" => answer(Rcode::NoError, Vec::new()),
            "nothing there" => answer(Rcode::NxDomain, Vec::new()),
            "alias" => answer(Rcode::NoError, vec![alias()]),
            other => match other.strip_prefix("alias:") {
                Some(issuer) => answer(Rcode::NoError, vec![alias(), set(issuer)]),
                None => answer(Rcode::NoError, vec![set(other)]),
            },
        }
    }

    /// A survey in which the sources of each name say this, and of all others
    /// that nothing stands there. Two servers and a vantage are asked.
    fn survey(said: &[(&str, [&str; 3])]) -> Survey {
        let mut survey = test::survey(HOST, &[]);
        survey.readings.clear();
        let vantage = Source::Vantage { name: "vantage-0".into() };
        for name in dns::climb(HOST) {
            let answers = said.iter().find(|(own, _)| *own == name).map_or([""; 3], |(_, answers)| *answers);
            for (source, answer) in
                [test::authority(1), test::authority(2), vantage.clone()].iter().zip(answers)
            {
                let outcome = outcome(answer, name, source.is_authority());
                let reading = Reading::new(source.clone(), name.into(), RecordType::Caa, outcome, 1);
                survey.readings.push(reading);
            }
        }
        survey
    }

    /// The climb in words: what is found, or where it ends.
    fn climbed(survey: &Survey) -> String {
        match survey.caa() {
            CaaView::None => "none".into(),
            CaaView::Set { owner, records } => format!("{} at {owner}", issuers(&records)),
            CaaView::Unread { owner, .. } => format!("unread at {owner}"),
        }
    }

    fn issuers(records: &[&Record]) -> String {
        let issuer = |record: &&Record| match &record.data {
            RecordData::Caa { value, .. } => value.to_text(),
            _ => String::new(),
        };
        records.iter().map(issuer).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn the_climb_ends_where_section_3_says() {
        let all = |said: &'static str| [said; 3];
        for (said, want) in [
            // RelevantCAASet: the closest set that is not empty, whatever is above it.
            (vec![], "none"),
            (vec![(HOST, all("x"))], "x at a.lines.onswick.example"),
            (vec![("lines.onswick.example", all("x"))], "x at lines.onswick.example"),
            (vec![("onswick.example", all("x"))], "x at onswick.example"),
            (vec![("example", all("x"))], "x at example"),
            (vec![(HOST, all("x")), ("onswick.example", all("y"))], "x at a.lines.onswick.example"),
            (vec![("onswick.example", all("x")), ("example", all("y"))], "x at onswick.example"),
            (vec![(HOST, all("nothing there")), ("onswick.example", all("x"))], "x at onswick.example"),
            // A set behind an alias counts; the parents of where it leads do not.
            (
                vec![(HOST, ["alias", "alias", "alias:x"]), ("onswick.example", all("y"))],
                "x at a.lines.onswick.example",
            ),
            (vec![(HOST, all("alias")), ("onswick.example", all("y"))], "y at onswick.example"),
            (vec![("lines.onswick.example", ["alias", "alias", "alias:x"])], "x at lines.onswick.example"),
            // What nobody answers is not empty: the climb goes no further.
            (vec![(HOST, all("fails")), ("onswick.example", all("x"))], "unread at a.lines.onswick.example"),
            (vec![(HOST, all("x")), ("onswick.example", all("fails"))], "x at a.lines.onswick.example"),
            (vec![("lines.onswick.example", all("silence"))], "unread at lines.onswick.example"),
            (vec![("example", all("refuses"))], "unread at example"),
            // A resolver asks the next server where one fails.
            (vec![(HOST, ["fails", "x", "x"])], "x at a.lines.onswick.example"),
            (vec![(HOST, ["silence", "", ""]), ("example", all("x"))], "x at example"),
            (vec![(HOST, ["x", "refuses", "x"])], "x at a.lines.onswick.example"),
            // A vantage of ours that is silent says nothing of what a CA gets.
            (vec![(HOST, ["x", "x", "silence"])], "x at a.lines.onswick.example"),
            (vec![(HOST, ["", "", "silence"]), ("onswick.example", all("x"))], "x at onswick.example"),
            // The zone's own word may be in no resolver yet.
            (vec![(HOST, ["x", "x", ""])], "x at a.lines.onswick.example"),
            (vec![(HOST, ["x", "x", "fails"])], "unread at a.lines.onswick.example"),
        ] {
            assert_eq!(climbed(&survey(&said)), want, "{said:?}");
        }
    }

    #[test]
    fn servers_that_do_not_agree_give_a_set_each() {
        for (said, want) in [
            (
                vec![(HOST, ["x", "y", "x"])],
                vec!["x at a.lines.onswick.example", "y at a.lines.onswick.example"],
            ),
            (vec![(HOST, ["x", "x", "y"])], vec!["x at a.lines.onswick.example"]),
            (
                vec![(HOST, ["", "x", ""]), ("onswick.example", ["y", "y", "y"])],
                vec!["y at onswick.example", "x at a.lines.onswick.example"],
            ),
            (vec![(HOST, ["", "x", ""])], vec!["x at a.lines.onswick.example"]),
            (vec![(HOST, ["fails", "x", "x"])], vec!["x at a.lines.onswick.example"]),
            (vec![(HOST, ["alias", "alias", "alias:x"])], vec!["x at a.lines.onswick.example"]),
            (vec![], vec![]),
        ] {
            let survey = survey(&said);
            let sets = survey.caa_sets();
            let sets: Vec<_> =
                sets.iter().map(|s| format!("{} at {}", issuers(&s.records), s.owner)).collect();
            assert_eq!(sets, want, "{said:?}");
        }
    }
}

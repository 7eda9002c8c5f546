//! Fingerprints: one number for everything that a survey read.
//!
//! The number is kept across versions, so it is made of what does not change
//! with them: numbers of the IANA registries, octets and lengths, never a
//! derived hash or a sentence. Whoever has to change the form raises
//! `VERSION`; every domain then gets one full look, and no more.

use std::net::IpAddr;

use siphasher::sip::SipHasher13;

use crate::reading::answer::{Outcome, Reading, Source};
use crate::reading::record::{Record, RecordData};
use crate::reading::survey::{Survey, ZoneView};
use crate::reading::target::{Depth, Target};

/// Goes into every fingerprint.
const VERSION: u8 = 1;

impl Survey {
    /// Changes when anything but TTLs and round-trips does.
    pub fn fingerprint(&self) -> i64 {
        self.print_of(|_| true)
    }

    /// The fingerprint of what a quick survey reads: the same for a quick one
    /// and for a full one that read the same.
    pub fn quick_fingerprint(&self, target: &Target) -> i64 {
        let quick = target.questions("", Depth::Quick);
        self.print_of(|reading| {
            let asked = quick.iter().any(|q| q.name == reading.name && q.rtype == reading.rtype);
            reading.source.is_authority() && asked
        })
    }

    /// Readings are printed one by one and sorted, so that the order in which
    /// servers answered has no part.
    fn print_of(&self, wanted: impl Fn(&Reading) -> bool) -> i64 {
        let mut print = Print::new();
        let readings = self.readings.iter().filter(|reading| wanted(reading));
        let mut prints: Vec<u64> = readings.map(|reading| print.of_reading(reading)).collect();
        prints.sort_unstable();

        print.begin();
        print.number(prints.len() as u64);
        for reading in prints {
            print.number(reading);
        }
        print.tag(match self.zone {
            ZoneView::Found { .. } => 0,
            ZoneView::Unregistered { .. } => 1,
            ZoneView::Unreachable { .. } => 2,
        });
        print.finish().cast_signed()
    }
}

/// Takes in values, each so that no two of them read alike. They are hashed all
/// at once, which is several times as fast as one by one.
struct Print(Vec<u8>);

impl Print {
    fn new() -> Self {
        Self(Vec::with_capacity(256))
    }

    /// Begins anew.
    fn begin(&mut self) {
        self.0.clear();
        self.tag(VERSION);
    }

    fn finish(&self) -> u64 {
        SipHasher13::new().hash(&self.0)
    }

    /// A number for what one reading says; the order of its records has no part.
    fn of_reading(&mut self, reading: &Reading) -> u64 {
        let records = reading.answer().unwrap_or_default();
        let mut prints: Vec<u64> = records.iter().map(|record| self.of_record(record)).collect();
        prints.sort_unstable();

        self.begin();
        self.source(&reading.source);
        self.octets(reading.name.as_bytes());
        self.number(reading.rtype.number().into());
        if reading.answer().is_some() {
            self.tag(1);
            prints.into_iter().for_each(|record| self.number(record));
        } else {
            self.tag(0);
            self.failure(&reading.outcome);
        }
        self.finish()
    }

    fn of_record(&mut self, record: &Record) -> u64 {
        self.begin();
        self.octets(record.owner.as_bytes());
        self.number(record.data.rtype().map_or(0, |rtype| rtype.number().into()));
        self.data(&record.data);
        self.finish()
    }

    /// Which of several shapes follows.
    fn tag(&mut self, tag: u8) {
        self.0.push(tag);
    }

    fn number(&mut self, number: u64) {
        self.0.extend_from_slice(&number.to_be_bytes());
    }

    /// Octets after their length.
    fn octets(&mut self, octets: &[u8]) {
        self.number(octets.len() as u64);
        self.0.extend_from_slice(octets);
    }

    fn address(&mut self, address: IpAddr) {
        match address {
            IpAddr::V4(address) => self.octets(&address.octets()),
            IpAddr::V6(address) => self.octets(&address.octets()),
        }
    }

    fn source(&mut self, source: &Source) {
        match source {
            Source::Authority { server, address } => {
                self.tag(1);
                self.octets(server.as_bytes());
                self.address(*address);
            }
            Source::Vantage { name } => {
                self.tag(2);
                self.octets(name.as_bytes());
            }
        }
    }

    /// What kind of failure it is; its words may change.
    fn failure(&mut self, outcome: &Outcome) {
        match outcome {
            Outcome::Answer { rcode, .. } => {
                self.tag(1);
                self.number(rcode.number().into());
            }
            Outcome::Silence => self.tag(2),
            Outcome::Guarded => self.tag(3),
            Outcome::NoRoute => self.tag(4),
            Outcome::Garbled { .. } => self.tag(5),
            Outcome::Short { .. } => self.tag(6),
            Outcome::Late => self.tag(7),
            Outcome::Unread { .. } => self.tag(8),
        }
    }

    fn data(&mut self, data: &RecordData) {
        match data {
            RecordData::A(address) => self.octets(&address.octets()),
            RecordData::Aaaa(address) => self.octets(&address.octets()),
            RecordData::Cname(name) | RecordData::Dname(name) | RecordData::Ns(name) => {
                self.octets(name.as_bytes());
            }
            RecordData::Txt(text) => self.octets(text.as_bytes()),
            RecordData::Caa { flags, tag, value } => {
                self.tag(*flags);
                self.octets(tag.as_bytes());
                self.octets(value.as_bytes());
            }
            RecordData::Soa(soa) => {
                self.octets(soa.primary.as_bytes());
                self.octets(soa.contact.as_bytes());
                for number in [soa.serial, soa.refresh, soa.retry, soa.expire, soa.minimum] {
                    self.number(number.into());
                }
            }
            RecordData::Mx { preference, exchange } => {
                self.number((*preference).into());
                self.octets(exchange.as_bytes());
            }
            RecordData::Https { priority, target, hints } => {
                self.number((*priority).into());
                self.octets(target.as_bytes());
                hints.iter().for_each(|hint| self.address(*hint));
            }
            RecordData::Ds(key_tag) => self.number((*key_tag).into()),
            RecordData::Other(name) => self.octets(name.as_bytes()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    /// Surveys and the numbers that they have had since version 1.
    const VECTORS: &str = include_str!("../../tests/vectors/fingerprints.json");

    #[test]
    fn no_version_changes_the_print_of_what_was_kept() {
        let vectors: Vec<(Survey, i64)> = serde_json::from_str(VECTORS).expect("reads");
        assert!(vectors.len() > 5);
        for (survey, number) in vectors {
            assert_eq!(survey.fingerprint(), number, "{survey:?}");
        }
    }

    #[test]
    fn a_reworded_reason_changes_nothing() {
        let garbled = |reason: &str| {
            let mut survey = test::silent_survey(HOST);
            for reading in &mut survey.readings {
                reading.outcome = Outcome::Garbled { reason: reason.into() };
            }
            survey.fingerprint()
        };
        assert_eq!(garbled("too short"), garbled("it ends before its end"));
        assert_ne!(garbled("too short"), test::silent_survey(HOST).fingerprint());
    }

    #[test]
    fn a_quick_survey_has_the_print_of_a_full_one_that_read_the_same() {
        let target = test::domain(HOST).target(&test::platform());
        let full = test::survey_spread(HOST, &test::healthy(HOST), 1, 2);
        let mut quick = full.clone();
        quick.readings.retain(|r| r.source.is_authority());
        quick.readings.truncate(3);
        assert_eq!(full.quick_fingerprint(&target), quick.quick_fingerprint(&target));
        assert_eq!(quick.quick_fingerprint(&target), quick.fingerprint());
        let other = test::survey(HOST, &["timetable A 192.0.2.7"]);
        assert_ne!(other.quick_fingerprint(&target), quick.fingerprint());
    }

    #[test]
    fn the_fingerprint_changes_with_records_and_failures_alone() {
        let one = test::survey(HOST, &["timetable A 192.0.2.7"]);
        let mut same = one.clone();
        same.at += chrono::Duration::hours(1);
        same.readings.iter_mut().for_each(|r| r.rtt_ms = 99);
        assert_eq!(one.fingerprint(), same.fingerprint());
        let other = test::survey(HOST, &["timetable A 192.0.2.8"]);
        assert_ne!(one.fingerprint(), other.fingerprint());
        assert_ne!(one.fingerprint(), test::silent_survey(HOST).fingerprint());
        let gone =
            Survey { zone: test::unregistered("onswick.example"), readings: Vec::new(), ..one.clone() };
        let dead = Survey { zone: test::unreachable("onswick.example", "x"), readings: Vec::new(), ..one };
        assert_ne!(gone.fingerprint(), dead.fingerprint());
    }
}

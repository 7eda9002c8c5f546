//! What is asked once more before it counts: where one answer may be the lesser part of the truth.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use futures::future::join_all;
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::answer::{Reading, Source};
use nomenta_core::reading::record::{RecordData, RecordType};
use nomenta_core::reading::survey::{Authority, Survey};
use nomenta_core::reading::target::{Question, Target};
use tokio::time::sleep;

use super::{Surveyor, address, read};
use crate::ask::Ask;
use crate::budget::Round;
use crate::wire::Mode;

/// Further answers about the host that are asked for before visitors are led here, and where answers
/// vary.
const SAMPLES: usize = 3;
const MORE_SAMPLES: usize = 6;
/// Pauses before each question that a vantage is asked again, about a zone whose servers limit rates.
const VANTAGE_PAUSES: [Duration; 2] = [Duration::from_millis(500), Duration::from_millis(1500)];

impl Surveyor {
    /// Asks again, in small letters, for what must be there and is not: some servers compare names
    /// by their octets, and hold those in small letters alone.
    pub(super) async fn ask_in_small_letters(
        &self,
        target: &Target,
        readings: &mut [Reading],
        round: Round<'_>,
    ) {
        let must = target.must_be_there();
        let is_missing = |reading: &Reading| {
            let is_wanted =
                must.iter().any(|(name, rtype)| reading.name == **name && reading.rtype == *rtype);
            is_wanted && reading.answer().is_some_and(<[_]>::is_empty)
        };

        let mut by_server: BTreeMap<SocketAddr, Vec<usize>> = BTreeMap::new();
        for (place, reading) in readings.iter().enumerate().filter(|(_, reading)| is_missing(reading)) {
            if let Source::Authority { address, .. } = reading.source {
                let server = SocketAddr::new(address, self.config.authority_port);
                by_server.entry(server).or_default().push(place);
            }
        }

        let rounds = by_server.into_iter().map(|(server, places)| {
            let asks = places.iter().map(|place| {
                let Reading { name, rtype, .. } = &readings[*place];
                Ask { lower: true, ..Ask::new(server, name, *rtype, Mode::Authority) }
            });
            let asks: Vec<Ask> = asks.collect();
            async move { (server, places, self.exchange.ask_patiently(asks, round).await) }
        });

        for (server, places, answers) in join_all(rounds).await {
            for (place, answered) in places.into_iter().zip(answers) {
                let before = &readings[place];
                let question = Question { name: before.name.clone(), rtype: before.rtype, vantages: false };
                let again = read(before.source.clone(), &question, answered, round.budget);
                if again.answer().is_some_and(|records| !records.is_empty()) {
                    self.exchange.write_small(server);
                    readings[place] = again;
                }
            }
        }
    }

    /// Asks the vantages again, one question after the other, for what they did not get of a zone
    /// whose servers limit rates: they ask as fast as we do.
    pub(super) async fn ask_vantages_slowly(
        &self,
        readings: &[Reading],
        seen: &mut [Reading],
        round: Round<'_>,
    ) {
        let is_served = |name: &DnsName, rtype: RecordType| {
            let mut of = readings.iter().filter(|reading| reading.name == *name && reading.rtype == rtype);
            of.any(|reading| reading.answer().is_some())
        };
        for pause in VANTAGE_PAUSES {
            let failed: Vec<usize> = (0..seen.len())
                .filter(|place| {
                    seen[*place].answer().is_none() && is_served(&seen[*place].name, seen[*place].rtype)
                })
                .collect();
            for place in failed {
                let before = &seen[place];
                let name = before.source.to_string();
                let Some(vantage) = self.config.vantages.iter().find(|vantage| vantage.name == name) else {
                    continue;
                };
                if tokio::time::Instant::now() + pause >= round.patience {
                    return;
                }

                sleep(pause).await;
                let question = Question { name: before.name.clone(), rtype: before.rtype, vantages: true };
                let round = Round { deadline: round.patience, ..round };
                let again = self.read_vantage(vantage, &[&question], round).await;
                if let Some(again) = again.into_iter().find(|reading| reading.answer().is_some()) {
                    seen[place] = again;
                }
            }
        }
    }

    /// Asks for another name that nobody publishes, where a wildcard answered for the first: it may
    /// choose its answers by the name.
    pub(super) async fn ask_beside_again(
        &self,
        target: &Target,
        apex: &str,
        servers: &[Authority],
        readings: &[Reading],
        round: Round<'_>,
    ) -> Vec<Reading> {
        let beside = target.beside(&target.routed);
        let answers = readings.iter().filter(|r| r.rtype == RecordType::A && r.name == beside);
        if !answers.into_iter().any(|reading| !addresses_in(reading).is_empty()) {
            return Vec::new();
        }

        let name = target.beside_again(&target.routed);
        let list = [RecordType::A, RecordType::Aaaa].map(|rtype| Question {
            name: name.clone(),
            rtype,
            vantages: false,
        });
        self.put(self.plan(&list, apex, servers), round).await
    }

    /// Further answers about the host, where one is not enough: before visitors are led here, since
    /// the next one may lead elsewhere, and wherever answers differ or have only some of our
    /// addresses, which may be handed out by turns.
    pub(super) async fn samples(&self, target: &Target, survey: &Survey, round: Round<'_>) -> Vec<Reading> {
        let mut samples = Vec::new();
        let of_host = |readings: &[Reading]| {
            let is_meant = |reading: &&Reading| {
                let is_address = matches!(reading.rtype, RecordType::A | RecordType::Aaaa);
                reading.source.is_authority() && reading.name == target.routed && is_address
            };
            readings.iter().filter(is_meant).cloned().collect::<Vec<_>>()
        };

        let first = of_host(&survey.readings);
        let is_there = first.iter().any(|reading| !addresses_in(reading).is_empty() || reading.is_alias());
        if target.is_unrouted && is_there {
            samples.extend(self.sample(target, survey, &[RecordType::A], SAMPLES, round).await);
        }

        let seen = [first, samples.clone()].concat();
        if is_there && (vary(&seen) || seen.iter().any(|reading| is_part(reading, &target.addresses))) {
            let both = [RecordType::A, RecordType::Aaaa];
            samples.extend(self.sample(target, survey, &both, MORE_SAMPLES, round).await);
        }
        samples
    }

    /// Asks each server so many times about the host, one time after the other.
    async fn sample(
        &self,
        target: &Target,
        survey: &Survey,
        types: &[RecordType],
        times: usize,
        round: Round<'_>,
    ) -> Vec<Reading> {
        let Some(apex) = survey.apex() else { return Vec::new() };
        let list: Vec<_> = types
            .iter()
            .map(|rtype| Question { name: target.routed.clone(), rtype: *rtype, vantages: false })
            .collect();

        let mut samples = Vec::new();
        for _ in 0..times {
            samples.extend(self.put(self.plan(&list, apex, survey.servers()), round).await);
        }
        samples
    }

    /// Where servers differ, the zone may have been edited between two
    /// questions; what they say when asked once more counts.
    pub(super) async fn confirmed(
        &self,
        list: &[Question],
        apex: &str,
        servers: &[Authority],
        mut readings: Vec<Reading>,
        round: Round<'_>,
    ) -> Vec<Reading> {
        let doubtful: Vec<Question> = list.iter().filter(|q| differ(&readings, q)).cloned().collect();

        for again in self.put(self.plan(&doubtful, apex, servers), round).await {
            let before = readings.iter_mut().find(|reading| {
                reading.source == again.source && reading.name == again.name && reading.rtype == again.rtype
            });
            if let Some(reading) = before {
                *reading = again;
            }
        }
        readings
    }
}

/// The addresses in an answer.
fn addresses_in(reading: &Reading) -> BTreeSet<IpAddr> {
    reading.answer().unwrap_or_default().iter().filter_map(|record| address(&record.data)).collect()
}

/// Whether the authoritative servers give different answers to a question.
fn differ(readings: &[Reading], question: &Question) -> bool {
    let of = readings.iter().filter(|reading| {
        reading.source.is_authority() && reading.name == question.name && reading.rtype == question.rtype
    });
    let mut answers = of.filter_map(sorted);
    let first = answers.next();
    answers.any(|other| Some(other) != first)
}

/// Whether a server has given different answers to the same question.
fn vary(readings: &[Reading]) -> bool {
    readings.iter().any(|one| {
        let mut others = readings.iter().filter(|o| o.source == one.source && o.rtype == one.rtype);
        others.any(|other| sorted(one).is_some() && sorted(other).is_some() && sorted(one) != sorted(other))
    })
}

/// Whether an answer has some of our addresses of one kind, and neither all nor any other.
fn is_part(reading: &Reading, ours: &BTreeSet<IpAddr>) -> bool {
    let found = addresses_in(reading);
    let of_kind = |address: &&IpAddr| address.is_ipv4() == (reading.rtype == RecordType::A);
    !found.is_empty() && found.is_subset(ours) && found.len() < ours.iter().filter(of_kind).count()
}

/// The records of a usable answer, in an order of their own.
fn sorted(reading: &Reading) -> Option<Vec<(&DnsName, &RecordData)>> {
    let mut records: Vec<_> = reading.answer()?.iter().map(|r| (&r.owner, &r.data)).collect();
    records.sort();
    Some(records)
}

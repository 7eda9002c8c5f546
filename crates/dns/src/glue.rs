//! Addresses of name servers that the zone above has (glue), beside those that the zone has itself
//! (RFC 1034, section 4.2.1).
//!
//! A server that has moved is found under its old address for as long as the registrar lists that.
//! Whatever answers there speaks of a zone as it was.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::answer::{Reading, Source};
use nomenta_core::reading::delegation::{Fault, ServerFault};
use nomenta_core::reading::record::{RecordData, RecordType};
use nomenta_core::reading::survey::{Authority, Survey, ZoneView};
use nomenta_core::reading::target::{Depth, Question, Target};

use crate::Surveyor;
use crate::budget::Round;
use crate::surveyor::address;

/// Questions about the own addresses of one zone's name servers.
const MAX_ASKED: usize = 16;

impl Surveyor {
    /// Reads a zone at the addresses that it has for its own name servers, where the zone above has
    /// others, and leaves out what answers there.
    pub(crate) async fn follow_moved_servers(&self, target: &Target, survey: &mut Survey, round: Round<'_>) {
        let Some(apex) = survey.apex().cloned() else { return };
        let own = survey.servers().iter().filter(|server| server.name.is_within(&apex));
        // Of the kinds of addresses that are listed: what is not listed cannot be out of date.
        let asked: BTreeSet<(DnsName, RecordType)> =
            own.map(|s| (s.name.clone(), kind_of(s.address))).collect();
        if asked.is_empty() {
            return;
        }

        let questions = asked.into_iter().take(MAX_ASKED);
        let list: Vec<Question> =
            questions.map(|(name, rtype)| Question { name, rtype, vantages: false }).collect();
        let told = self.put(self.plan(&list, &apex, survey.servers()), round).await;
        let moved = moved(survey, &apex, &told);
        if moved.is_empty() {
            return;
        }

        let is_old = |address: IpAddr| moved.iter().any(|one| one.listed == address);
        survey.readings.retain(|reading| !address_of(&reading.source).is_some_and(is_old));
        let ZoneView::Found { servers, delegation, .. } = &mut survey.zone else { return };
        servers.retain(|server| !is_old(server.address));

        let mut found: Vec<Authority> = Vec::new();
        for Moved { server, listed, now } in moved {
            let own = now.iter().map(|address| Authority { name: server.clone(), address: *address });
            found.extend(own.filter(|one| !servers.iter().any(|known| known.address == one.address)));
            if let Some(delegation) = delegation {
                delegation.faults.push(ServerFault { server, fault: Fault::Moved { listed, now } });
            }
        }
        servers.extend(found.iter().cloned());

        let list = target.questions(&apex, Depth::Full);
        let readings = self.put(self.plan(&list, &apex, &found), round).await;
        survey.readings.splice(0..0, readings);
    }
}

fn kind_of(address: IpAddr) -> RecordType {
    if address.is_ipv4() { RecordType::A } else { RecordType::Aaaa }
}

/// A name server that the zone has elsewhere than the zone above lists it.
struct Moved {
    server: DnsName,
    listed: IpAddr,
    now: Vec<IpAddr>,
}

/// What the servers with the newest copy of the zone say against the listed addresses.
fn moved(survey: &Survey, apex: &DnsName, told: &[Reading]) -> Vec<Moved> {
    let serials = serials(survey, apex);
    let mut moved = Vec::new();

    for Authority { name, address: listed } in survey.servers().iter().filter(|s| s.name.is_within(apex)) {
        let of_kind = |address: &IpAddr| address.is_ipv4() == listed.is_ipv4();
        let own = told.iter().filter(|reading| reading.name == *name && !reading.is_lame());
        let own = own.filter_map(|reading| {
            let now: Vec<IpAddr> =
                reading.answer()?.iter().filter_map(|r| address(&r.data)).filter(of_kind).collect();
            let serial = serials.get(&address_of(&reading.source)?).copied()?;
            (!now.is_empty()).then_some((serial, now))
        });

        let newest = own.max_by_key(|(serial, _)| *serial);
        if let Some((_, now)) = newest.filter(|(_, now)| !now.contains(listed)) {
            moved.push(Moved { server: name.clone(), listed: *listed, now });
        }
    }
    moved
}

/// The serial of the copy that each server has.
fn serials(survey: &Survey, apex: &DnsName) -> BTreeMap<IpAddr, u32> {
    let starts = survey.authority(apex, RecordType::Soa);
    let serials = starts.filter_map(|(source, records)| {
        let serial = records.iter().find_map(|record| match &record.data {
            RecordData::Soa(start) => Some(start.serial),
            _ => None,
        });
        Some((address_of(source)?, serial?))
    });
    serials.collect()
}

fn address_of(source: &Source) -> Option<IpAddr> {
    match source {
        Source::Authority { address, .. } => Some(*address),
        Source::Vantage { .. } => None,
    }
}

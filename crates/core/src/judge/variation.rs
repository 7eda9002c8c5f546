//! Answers that vary: what a zone hands out by turns or by region, taken together.
//!
//! A judgement by the one answer that happened to come would change with it. So the servers of a
//! zone that hands out addresses by turns are judged by all that they are known to hand out, and a
//! vantage whose region gets other answers is not taken for one that holds an older one.

use std::collections::BTreeSet;
use std::net::IpAddr;

use crate::name::dns::DnsName;
use crate::reading::answer::Source;
use crate::reading::recent::SeenAnswer;
use crate::reading::record::{RecordData, RecordType};
use crate::reading::survey::Survey;
use crate::reading::view::HostView;
use crate::sheet::ingress::Ingress;

/// Longest list of what is handed out that is told one by one.
const MAX_TOLD: usize = 6;

/// How the answers about the host vary.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Variation {
    /// Whether the zone's servers hand out different answers by turns.
    pub by_turns: bool,
    /// Vantages that get answers of their own, by their region, each with what it gets.
    pub by_region: Vec<(Source, BTreeSet<RecordData>)>,
    /// Everything that the zone's servers hand out at the host.
    pub handed_out: BTreeSet<RecordData>,
}

impl Variation {
    /// How the answers vary that were seen up to a survey; of servers that are not to be found now,
    /// nothing is said.
    pub fn of(survey: &Survey) -> Self {
        let recent = &survey.recent;
        if recent.is_empty() || survey.apex().is_none() {
            return Self::default();
        }

        let mut by_region: Vec<(Source, BTreeSet<RecordData>)> = Vec::new();
        for (source, _, answer) in recent.of_regions() {
            match by_region.iter_mut().find(|(known, _)| known == source) {
                Some((_, known)) => known.extend(records(answer)),
                None => by_region.push((source.clone(), records(answer).collect())),
            }
        }

        let by_turns = recent.varies_by_turns();
        let answers =
            [RecordType::A, RecordType::Aaaa].into_iter().flat_map(|rtype| recent.handed_out(rtype));
        let handed_out = if by_turns { answers.flat_map(records).collect() } else { BTreeSet::new() };
        Self { by_turns, by_region, handed_out }
    }

    /// Whether there is any.
    pub fn is_any(&self) -> bool {
        self.by_turns || !self.by_region.is_empty()
    }

    /// What a server of a zone whose answers vary says about the host as a whole, where it said
    /// `now`: all that is handed out by turns, and those of our addresses that other regions get.
    pub fn whole(&self, now: &HostView, ingress: &Ingress) -> HostView {
        let has_alias = self.handed_out.iter().any(|data| matches!(data, RecordData::Cname(_)));
        if has_alias || now.cname().is_some() {
            return now.clone();
        }

        let elsewhere =
            self.by_region.iter().flat_map(|(_, data)| data).filter(|data| is_address_of(data, ingress));
        let mut whole = now.clone();
        for data in self.handed_out.iter().chain(elsewhere) {
            match data {
                RecordData::A(address) => drop(whole.ipv4.insert(*address)),
                RecordData::Aaaa(address) => drop(whole.ipv6.insert(*address)),
                _ => {}
            }
        }
        whole
    }

    /// What of it leads elsewhere, of all that is handed out by turns.
    pub fn foreign_by_turns(&self, ingress: &Ingress, canonical: &DnsName) -> Vec<&RecordData> {
        self.handed_out.iter().filter(|data| !is_ours(data, ingress, canonical)).collect()
    }

    /// The vantages whose region is led elsewhere.
    pub fn foreign_by_region(
        &self,
        ingress: &Ingress,
        canonical: &DnsName,
    ) -> impl Iterator<Item = &(Source, BTreeSet<RecordData>)> {
        let is_foreign = |data: &RecordData| !is_ours(data, ingress, canonical);
        self.by_region.iter().filter(move |(_, data)| data.is_empty() || data.iter().any(is_foreign))
    }

    /// Whether whoever got a part of our addresses, and nothing else, got what is handed out by turns
    /// or in a region.
    pub fn grants(&self, view: &HostView, ingress: &Ingress) -> bool {
        self.is_any() && is_part_of(view, ingress)
    }
}

/// Whether all that stands there is addresses of ours.
pub fn is_part_of(view: &HostView, ingress: &Ingress) -> bool {
    let is_ours = view.ipv4.is_subset(&ingress.ipv4) && view.ipv6.is_subset(&ingress.ipv6);
    is_ours && view.cname().is_none() && !view.has_no_address()
}

fn is_ours(data: &RecordData, ingress: &Ingress, canonical: &DnsName) -> bool {
    match data {
        RecordData::Cname(target) => target == canonical,
        address => is_address_of(address, ingress),
    }
}

fn is_address_of(data: &RecordData, ingress: &Ingress) -> bool {
    match data {
        RecordData::A(address) => ingress.ipv4.contains(address),
        RecordData::Aaaa(address) => ingress.ipv6.contains(address),
        _ => false,
    }
}

/// What one answer has at the host itself, or leads to.
fn records(answer: &SeenAnswer) -> impl Iterator<Item = RecordData> {
    let alias = answer.chain.last().map(|target| RecordData::Cname(target.clone()));
    let addresses = answer.addresses.iter().map(|address| match address {
        IpAddr::V4(address) => RecordData::A(*address),
        IpAddr::V6(address) => RecordData::Aaaa(*address),
    });
    alias.into_iter().chain(addresses)
}

/// Some of what is handed out, as zone files write it, for a sentence.
pub fn listed<'a>(data: impl IntoIterator<Item = &'a RecordData>) -> String {
    let all: Vec<_> = data.into_iter().map(RecordData::typed).collect();
    match all.len().checked_sub(MAX_TOLD) {
        None | Some(0) => all.join(", "),
        Some(more) => format!("{} and {more} more", all[..MAX_TOLD].join(", ")),
    }
}

//! A zone file as a server that loaded it would answer from (RFC 1034, section
//! 4.3.2).

use std::collections::{BTreeSet, HashMap, HashSet};
use std::net::{IpAddr, Ipv4Addr};

use chrono::{DateTime, Utc};

use super::SERVER;
use crate::judge::domain::Domain;
use crate::name::dns::{self, DnsName};
use crate::name::platform::Platform;
use crate::reading::answer::{Outcome, Rcode, Reading, Source};
use crate::reading::delegation::Delegation;
use crate::reading::record::{Record, RecordData, RecordType};
use crate::reading::survey::{Authority, Survey, ZoneView};
use crate::reading::target::Depth;
use crate::zonefile::ZoneFile;

/// Aliases followed within the file.
const LONGEST_CHAIN: usize = 16;
/// Where the file would be served.
const NOWHERE: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);

/// What a survey of a server with this file alone would read.
pub(super) fn survey(file: &ZoneFile, domain: &Domain, platform: &Platform, at: DateTime<Utc>) -> Survey {
    let held = Held::new(file);
    let target = domain.target(platform);
    let zone = held.zone_of(domain.host.as_str());

    let apex = match &zone {
        ZoneView::Found { apex, .. } => apex.clone(),
        _ => file.zone.clone(),
    };
    let asked = target.questions(&apex, Depth::Full).into_iter();
    let inside = asked.filter(|question| question.name.is_within(&file.zone));
    let readings = inside.map(|question| held.read(question.name, question.rtype)).collect();

    Survey {
        host: domain.host.clone(),
        at,
        zone,
        readings,
        samples: Vec::new(),
        recent: Default::default(),
        followed: Vec::new(),
        cuts: Vec::new(),
        trust: None,
        signed: None,
        routed: target.routed,
        depth: Depth::Full,
    }
}

/// The records by name, as a server holds them.
struct Held<'a> {
    zone: &'a DnsName,
    by_owner: HashMap<&'a str, Vec<&'a Record>>,
    /// Every name that exists, those with nothing of their own included (RFC
    /// 4592, section 2.2.2).
    existing: HashSet<&'a str>,
    /// Names of other zones below this one, with their servers.
    cuts: HashMap<&'a str, BTreeSet<DnsName>>,
    /// Names whose subtrees are redirected (RFC 6672).
    redirected: HashMap<&'a str, &'a Record>,
}

impl<'a> Held<'a> {
    fn new(file: &'a ZoneFile) -> Self {
        let mut by_owner: HashMap<&str, Vec<&Record>> = HashMap::new();
        let mut existing = HashSet::new();
        let mut cuts: HashMap<&str, BTreeSet<DnsName>> = HashMap::new();
        let mut redirected = HashMap::new();

        for record in file.records() {
            let owner = record.owner.as_str();
            by_owner.entry(owner).or_default().push(record);
            // A name that is known has its ancestors known.
            for name in dns::climb(owner) {
                if !existing.insert(name) {
                    break;
                }
            }
            match &record.data {
                RecordData::Ns(server) if record.owner != *file.zone => {
                    cuts.entry(owner).or_default().insert(server.clone());
                }
                RecordData::Dname(_) => {
                    redirected.insert(owner, record);
                }
                _ => {}
            }
        }
        Self { zone: &file.zone, by_owner, existing, cuts, redirected }
    }

    /// Where a walk down the delegations would end for `host`.
    fn zone_of(&self, host: &str) -> ZoneView {
        let cut = self.cut(host);
        let apex = cut.map_or_else(|| self.zone.clone(), |(name, _)| DnsName::new(name));
        let parent = match cut {
            Some(_) => self.zone.clone(),
            None => DnsName::new(dns::parent(self.zone)),
        };
        let servers = cut.map_or_else(|| self.name_servers(), |(_, servers)| servers.clone());

        let delegation = (!servers.is_empty()).then_some(Delegation { parent, servers, faults: Vec::new() });
        let servers = vec![Authority { name: SERVER.into(), address: NOWHERE }];
        ZoneView::Found { apex, servers, delegation }
    }

    fn at(&self, name: &str) -> &[&'a Record] {
        self.by_owner.get(name).map_or(&[], Vec::as_slice)
    }

    /// The zone's own name servers.
    fn name_servers(&self) -> BTreeSet<DnsName> {
        let servers = self.at(self.zone).iter().filter_map(|record| match &record.data {
            RecordData::Ns(server) => Some(server.clone()),
            _ => None,
        });
        servers.collect()
    }

    /// The topmost cut at or above a name, unless what is above it is redirected.
    fn cut(&self, name: &str) -> Option<(&str, &BTreeSet<DnsName>)> {
        match self.turn(name)? {
            Turn::Cut(cut, servers) => Some((cut, servers)),
            Turn::Redirected(_) => None,
        }
    }

    /// The topmost place on the way down to a name where the way leaves the zone's
    /// own tree: what lies below is not asked (RFC 1034, section 4.3.2, step 3; RFC
    /// 6672, section 3.2).
    fn turn(&self, name: &str) -> Option<Turn<'_>> {
        let mut topmost = None;
        for above in dns::climb(name).take_while(|above| dns::is_within(above, self.zone)) {
            if let Some((cut, servers)) = self.cuts.get_key_value(above) {
                topmost = Some(Turn::Cut(cut, servers));
            }
            if let Some(record) = self.redirected.get(above).filter(|_| above != name) {
                topmost = Some(Turn::Redirected(record));
            }
        }
        topmost
    }

    fn read(&self, name: DnsName, rtype: RecordType) -> Reading {
        let source = Source::Authority { server: SERVER.into(), address: NOWHERE };
        let (rcode, records) = self.answer(&name, rtype);
        let outcome = Outcome::Answer { rcode, authoritative: true, records };
        Reading::new(source, name, rtype, outcome, 0)
    }

    fn answer(&self, name: &DnsName, rtype: RecordType) -> (Rcode, Vec<Record>) {
        let mut records: Vec<Record> = Vec::new();
        let mut at = name.clone();
        for _ in 0..LONGEST_CHAIN {
            match self.turn(&at) {
                // The referral is the walk's to follow.
                Some(Turn::Cut(..)) => break,
                Some(Turn::Redirected(dname)) => {
                    let Some(alias) = synthesised(&at, dname) else { break };
                    records.extend([dname.clone(), alias.clone()]);
                    match alias.data.name().filter(|target| target.is_within(self.zone)) {
                        Some(target) if !records.iter().any(|r| r.owner == *target) => at = target.clone(),
                        _ => break,
                    }
                    continue;
                }
                None => {}
            }

            let Some(own) = self.own(&at) else {
                let rcode = if records.is_empty() { Rcode::NxDomain } else { Rcode::NoError };
                return (rcode, records);
            };
            let alias = own.iter().find(|record| matches!(record.data, RecordData::Cname(_)));
            records.extend(own.iter().filter(|record| record.data.rtype() == Some(rtype)).cloned());

            let Some(record) = alias.filter(|_| rtype != RecordType::Cname) else { break };
            let Some(target) = record.data.name() else { break };
            records.push(record.clone());
            if !target.is_within(self.zone) || records.iter().any(|r| r.owner == *target) {
                break;
            }
            at = target.clone();
        }
        (Rcode::NoError, records)
    }

    /// Records at a name, from a wildcard where the name does not exist (RFC
    /// 4592); `None` where nothing does.
    fn own(&self, name: &DnsName) -> Option<Vec<Record>> {
        if self.existing.contains(name.as_str()) {
            return Some(self.at(name).iter().map(|record| (*record).clone()).collect());
        }

        let encloser = dns::climb(name).skip(1).find(|above| self.existing.contains(above))?;
        let star = DnsName::new(encloser).child("*");
        let stars = self.by_owner.get(star.as_str())?;
        Some(stars.iter().map(|record| Record { owner: name.clone(), ..(*record).clone() }).collect())
    }
}

/// Where the way down to a name leaves the zone's own tree.
enum Turn<'a> {
    /// To another zone, with its servers.
    Cut(&'a str, &'a BTreeSet<DnsName>),
    /// To where a DNAME record leads.
    Redirected(&'a Record),
}

/// The alias that a DNAME record makes of a name below it (RFC 6672, section
/// 3.1).
fn synthesised(name: &DnsName, dname: &Record) -> Option<Record> {
    let below = name.strip_suffix(dname.owner.as_str())?.strip_suffix('.')?;
    let target = dname.data.name()?.child(below);
    Some(Record { owner: name.clone(), ttl: dname.ttl, data: RecordData::Cname(target) })
}

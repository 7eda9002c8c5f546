//! The walk from the root down the delegations to the zone of a name.

use std::collections::{BTreeSet, HashMap};
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use nomenta_core::name::dns;
use nomenta_core::reading::answer::Rcode;
use nomenta_core::reading::record::{Record, RecordData, RecordType};
use nomenta_core::reading::survey::{Authority, Delegation};

use crate::DnsConfig;
use crate::ask::{Ask, Got};
use crate::exchange::Exchange;
use crate::wire::{Mode, Reply};

/// Longest time that a delegation is believed, whatever its TTL says.
const BELIEVE: Duration = Duration::from_secs(3600);
/// Referrals followed before a walk counts as going in circles.
const MAX_REFERRALS: usize = 16;
/// Name servers whose own addresses need a walk, nested.
const MAX_DEPTH: usize = 4;

/// Where a walk ended.
#[derive(Clone, Debug)]
pub(crate) enum Located {
    /// The zone that holds the name.
    Zone { apex: String, servers: Vec<Authority>, by: Authority, delegation: Option<Delegation> },
    /// A zone on the way whose servers are all of no use.
    Dead { zone: String, tried: Vec<String> },
}

/// A zone cut, remembered.
#[derive(Clone, Debug)]
struct Cut {
    zone: String,
    servers: Vec<Authority>,
    delegation: Option<Delegation>,
    expires: Instant,
}

/// Walks, and remembers delegations while their TTL lasts.
pub(crate) struct Walker {
    config: DnsConfig,
    cache: Mutex<HashMap<String, Cut>>,
    /// Zones that walks ended in, by apex.
    zones: Mutex<HashMap<String, Known>>,
}

/// A zone, remembered with all servers that it and its parent list.
#[derive(Clone, Debug)]
struct Known {
    servers: Vec<Authority>,
    delegation: Option<Delegation>,
    expires: Instant,
}

type Boxed<'a, T> = Pin<Box<dyn Future<Output = T> + Send + 'a>>;

impl Walker {
    pub fn new(config: DnsConfig) -> Self {
        Self { config, cache: Mutex::default(), zones: Mutex::default() }
    }

    /// A zone that a walk ended in not long ago.
    pub fn known(&self, apex: &str) -> Option<(String, Vec<Authority>, Option<Delegation>)> {
        let zones = self.zones.lock().unwrap_or_else(PoisonError::into_inner);
        let Known { servers, delegation, .. } =
            zones.get(apex).filter(|z| z.expires > Instant::now())?.clone();
        Some((apex.to_owned(), servers, delegation))
    }

    fn remember_zone(&self, apex: &str, known: Known) {
        let mut zones = self.zones.lock().unwrap_or_else(PoisonError::into_inner);
        if zones.len() >= zones.capacity() {
            let now = Instant::now();
            zones.retain(|_, zone| zone.expires > now);
        }
        zones.insert(apex.to_owned(), known);
    }

    /// Finds the zone of `name`. A remembered delegation that has gone dead is
    /// forgotten and walked anew.
    pub async fn locate(&self, exchange: &Exchange, name: &str) -> Located {
        let start = self.nearest(name);
        let remembered = !start.zone.is_empty();
        let located = match self.descend(exchange, name, start, 0).await {
            Located::Dead { zone, .. } if remembered => {
                self.forget(&zone);
                self.descend(exchange, name, self.root(), 0).await
            }
            located => located,
        };
        if let Located::Zone { apex, servers, delegation, .. } = &located {
            let expires = self.nearest(apex).expires;
            let (servers, delegation) = (servers.clone(), delegation.clone());
            self.remember_zone(apex, Known { servers, delegation, expires });
        }
        located
    }

    fn root(&self) -> Cut {
        let server = |address| Authority { name: "root".into(), address };
        let servers = self.config.roots.iter().copied().map(server).collect();
        let delegation = None;
        Cut { zone: String::new(), servers, delegation, expires: Instant::now() + BELIEVE }
    }

    fn nearest(&self, name: &str) -> Cut {
        let cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        let known = |name| cache.get(name).filter(|cut| cut.expires > now).cloned();
        dns::climb(name).find_map(known).unwrap_or_else(|| self.root())
    }

    fn remember(&self, delegation: &Cut) {
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        if cache.len() >= cache.capacity() {
            // About to grow: let go of what has run out first.
            let now = Instant::now();
            cache.retain(|_, cut| cut.expires > now);
        }
        cache.insert(delegation.zone.clone(), delegation.clone());
    }

    fn forget(&self, zone: &str) {
        let mut cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        cache.retain(|cached, _| !dns::is_within(zone, cached));
    }

    fn descend<'a>(
        &'a self,
        exchange: &'a Exchange,
        name: &'a str,
        start: Cut,
        depth: usize,
    ) -> Boxed<'a, Located> {
        Box::pin(async move {
            let (mut at, mut asked) = (start, name);
            for _ in 0..MAX_REFERRALS {
                let (by, reply) = match self.first_answer(exchange, &at, asked, RecordType::Soa).await {
                    Ok(answered) => answered,
                    Err(tried) => return Located::Dead { zone: at.zone, tried },
                };
                if let Some(next) = self.referral(exchange, &reply, &at.zone, name, depth).await {
                    self.remember(&next);
                    at = next;
                } else if is_alias(&reply, asked) {
                    // An alias hides the zone's SOA; it cannot stand at an apex.
                    asked = dns::parent(asked);
                } else {
                    return self.arrive(exchange, at, by, &reply, depth).await;
                }
            }
            Located::Dead { zone: at.zone, tried: vec!["the delegations go in circles".into()] }
        })
    }

    /// Asks the servers in turn until one gives a usable reply.
    async fn first_answer(
        &self,
        exchange: &Exchange,
        at: &Cut,
        name: &str,
        rtype: RecordType,
    ) -> Result<(Authority, Reply), Vec<String>> {
        let mut tried = Vec::new();
        for server in &at.servers {
            let Authority { name: label, address } = server;
            if !self.config.egress.admits(*address) {
                tried.push(format!("{label} ({address}) has an address that may not be asked"));
                continue;
            }
            let server_at = SocketAddr::new(*address, self.config.authority_port);
            let ask = Ask { server: server_at, name: name.into(), rtype, mode: Mode::Authority };
            match exchange.ask(&ask).await.0 {
                Got::Reply(reply) if matches!(reply.rcode, Rcode::NoError | Rcode::NxDomain) => {
                    return Ok((server.clone(), reply));
                }
                Got::Reply(reply) => tried.push(format!("{label} ({address}) answers {:?}", reply.rcode)),
                Got::NoRoute => tried.push(format!("{label} ({address}) cannot be reached from here")),
                Got::Silence => tried.push(format!("{label} ({address}) does not answer")),
                Got::Garbled(why) => tried.push(format!("{label} ({address}) answers unreadably: {why}")),
            }
        }
        if tried.is_empty() {
            tried.push("no name server has an address".into());
        }
        Err(tried)
    }

    /// The delegation that `reply` points down to, with its servers' addresses.
    async fn referral(
        &self,
        exchange: &Exchange,
        reply: &Reply,
        zone: &str,
        name: &str,
        depth: usize,
    ) -> Option<Cut> {
        if reply.authoritative || reply.rcode != Rcode::NoError {
            return None;
        }
        let points_down = |r: &&Record| {
            let below = r.owner != zone && dns::is_within(&r.owner, zone);
            below && dns::is_within(name, &r.owner) && matches!(r.data, RecordData::Ns(_))
        };
        let owner = reply.authority.iter().find(points_down)?.owner.clone();
        let set: Vec<_> = reply.authority.iter().filter(|r| r.owner == owner).collect();
        let ttl = set.iter().map(|r| r.ttl).min().unwrap_or(0);
        let (mut servers, mut listed) = (BTreeSet::new(), BTreeSet::new());
        for record in set {
            if let RecordData::Ns(server) = &record.data {
                listed.insert(server.clone());
                servers.extend(self.addresses(exchange, server, &reply.additional, depth).await);
            }
        }
        let expires = Instant::now() + Duration::from_secs(ttl.into()).min(BELIEVE);
        let delegation = Some(Delegation { parent: zone.to_owned(), servers: listed });
        Some(Cut { zone: owner, servers: servers.into_iter().collect(), delegation, expires })
    }

    /// Addresses of a name server: glue where it is given, else by a walk of
    /// its own.
    async fn addresses(
        &self,
        exchange: &Exchange,
        server: &str,
        glue: &[Record],
        depth: usize,
    ) -> Vec<Authority> {
        let found = pick_addresses(server, glue);
        if !found.is_empty() || depth >= MAX_DEPTH {
            return found;
        }
        let Located::Zone { apex, servers, .. } =
            self.descend(exchange, server, self.nearest(server), depth + 1).await
        else {
            return Vec::new();
        };
        let at = Cut { zone: apex, servers, delegation: None, expires: Instant::now() };
        let mut found = Vec::new();
        for rtype in [RecordType::A, RecordType::Aaaa] {
            if let Ok((_, reply)) = self.first_answer(exchange, &at, server, rtype).await {
                found.extend(pick_addresses(server, &reply.answers));
            }
        }
        found
    }

    /// The walk ends here: names the apex, and adds the servers that the zone
    /// itself lists to those that its parent does.
    async fn arrive(
        &self,
        exchange: &Exchange,
        at: Cut,
        by: Authority,
        reply: &Reply,
        depth: usize,
    ) -> Located {
        let soa = reply.answers.iter().chain(&reply.authority);
        let apex = soa.filter(|r| matches!(r.data, RecordData::Soa { .. })).map(|r| r.owner.clone()).next();
        let apex = apex.unwrap_or_else(|| at.zone.clone());
        let mut servers: BTreeSet<_> = at.servers.iter().cloned().collect();
        let above = at.delegation.clone().filter(|_| at.zone == apex);
        let (reached, mut listed_here) = (at.zone.clone(), BTreeSet::new());
        let only = Cut { servers: vec![by.clone()], ..at };
        if depth == 0
            && let Ok((_, listed)) = self.first_answer(exchange, &only, &apex, RecordType::Ns).await
        {
            for record in listed.answers.iter().filter(|r| r.owner == apex) {
                if let RecordData::Ns(server) = &record.data {
                    listed_here.insert(server.clone());
                    let known: Vec<_> = servers.iter().filter(|s| &s.name == server).cloned().collect();
                    let glue = &listed.additional;
                    let more = match known.is_empty() {
                        true => self.addresses(exchange, server, glue, depth + 1).await,
                        false => known,
                    };
                    servers.extend(more);
                }
            }
        }
        // A server that holds both sides of a cut answers from below it, and
        // shows no referral.
        let silent = (reached != apex).then_some(Delegation { parent: reached, servers: listed_here });
        let delegation = above.or(silent);
        Located::Zone { apex, servers: servers.into_iter().collect(), by, delegation }
    }
}

fn is_alias(reply: &Reply, name: &str) -> bool {
    reply.answers.iter().any(|r| r.owner == name && matches!(r.data, RecordData::Cname(_)))
}

fn pick_addresses(server: &str, records: &[Record]) -> Vec<Authority> {
    let address = |r: &Record| match r.data {
        RecordData::A(a) => Some(a.into()),
        RecordData::Aaaa(a) => Some(a.into()),
        _ => None,
    };
    records
        .iter()
        .filter(|r| r.owner == server)
        .filter_map(|r| Some(Authority { name: server.to_owned(), address: address(r)? }))
        .collect()
}

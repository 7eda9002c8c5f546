//! The walk from the root down the delegations to the zone of a name.

use std::collections::{BTreeSet, HashMap};
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use nomenta_core::name::dns::{self, DnsName};
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
    Zone { apex: DnsName, servers: Vec<Authority>, by: Authority, delegation: Option<Delegation> },
    /// A zone on the way whose servers are all of no use.
    Dead { zone: DnsName, tried: Vec<String> },
}

/// A zone cut, remembered.
#[derive(Clone, Debug)]
struct Cut {
    zone: DnsName,
    servers: Vec<Authority>,
    delegation: Option<Delegation>,
    expires: Instant,
}

/// Walks, and remembers delegations while their TTL lasts.
pub(crate) struct Walker {
    config: DnsConfig,
    cache: Mutex<HashMap<DnsName, Cut>>,
    /// Zones that walks ended in, by apex.
    zones: Mutex<HashMap<DnsName, Known>>,
}

/// A zone, remembered with all servers that it and its parent list.
#[derive(Clone, Debug)]
pub(crate) struct Known {
    pub servers: Vec<Authority>,
    pub delegation: Option<Delegation>,
    expires: Instant,
}

type Boxed<'a, T> = Pin<Box<dyn Future<Output = T> + Send + 'a>>;

impl Walker {
    pub(crate) fn new(config: DnsConfig) -> Self {
        Self { config, cache: Mutex::default(), zones: Mutex::default() }
    }

    /// A zone that a walk ended in not long ago.
    pub(crate) fn known(&self, apex: &str) -> Option<Known> {
        let zones = self.zones.lock().unwrap_or_else(PoisonError::into_inner);
        zones.get(apex).filter(|zone| zone.expires > Instant::now()).cloned()
    }

    fn remember_zone(&self, apex: &DnsName, known: Known) {
        let mut zones = self.zones.lock().unwrap_or_else(PoisonError::into_inner);
        if zones.len() >= zones.capacity() {
            let now = Instant::now();
            zones.retain(|_, zone| zone.expires > now);
        }
        zones.insert(apex.clone(), known);
    }

    /// Finds the zone of `name`. A remembered delegation that has gone dead is
    /// forgotten and walked anew.
    pub(crate) async fn locate(&self, exchange: &Exchange, name: &str) -> Located {
        let start = self.nearest(name);
        let was_remembered = !start.zone.is_root();
        let located = match self.descend(exchange, name, start, 0).await {
            Located::Dead { zone, .. } if was_remembered => {
                self.forget(&zone);
                self.descend(exchange, name, self.root(), 0).await
            }
            located => located,
        };

        if let Located::Zone { apex, servers, delegation, .. } = &located {
            let known = Known {
                servers: servers.clone(),
                delegation: delegation.clone(),
                expires: self.nearest(apex).expires,
            };
            self.remember_zone(apex, known);
        }
        located
    }

    fn root(&self) -> Cut {
        let roots = self.config.roots.iter();
        Cut {
            zone: DnsName::root(),
            servers: roots.map(|address| Authority { name: "root".into(), address: *address }).collect(),
            delegation: None,
            expires: Instant::now() + BELIEVE,
        }
    }

    fn nearest(&self, name: &str) -> Cut {
        let cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();

        let known = dns::climb(name).find_map(|name| cache.get(name).filter(|cut| cut.expires > now));
        known.cloned().unwrap_or_else(|| self.root())
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
            let mut at = start;
            let mut asked = name;

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
        let down = reply.authority.iter().find(|record| points_down(record, zone, name))?;
        let owner = down.owner.clone();
        let set: Vec<_> = reply.authority.iter().filter(|r| r.owner == owner).collect();
        let ttl = set.iter().map(|r| r.ttl).min().unwrap_or(0);

        let mut servers = BTreeSet::new();
        let mut listed = BTreeSet::new();
        for record in set {
            if let RecordData::Ns(server) = &record.data {
                listed.insert(server.clone());
                servers.extend(self.addresses(exchange, server, &reply.additional, depth).await);
            }
        }

        let expires = Instant::now() + Duration::from_secs(ttl.into()).min(BELIEVE);
        let delegation = Some(Delegation { parent: zone.into(), servers: listed });
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
        let mut authority = reply.answers.iter().chain(&reply.authority);
        let soa = authority.find(|record| matches!(record.data, RecordData::Soa { .. }));
        let apex = soa.map_or_else(|| at.zone.clone(), |record| record.owner.clone());

        let above = at.delegation.clone().filter(|_| at.zone == apex);
        let reached = at.zone.clone();
        let mut servers: BTreeSet<_> = at.servers.iter().cloned().collect();
        let mut listed_here = BTreeSet::new();
        let only = Cut { servers: vec![by.clone()], ..at };
        if depth == 0
            && let Ok((_, listed)) = self.first_answer(exchange, &only, &apex, RecordType::Ns).await
        {
            for record in listed.answers.iter().filter(|r| r.owner == apex) {
                let RecordData::Ns(server) = &record.data else { continue };
                listed_here.insert(server.clone());
                if !servers.iter().any(|known| known.name == *server) {
                    servers.extend(self.addresses(exchange, server, &listed.additional, depth + 1).await);
                }
            }
        }

        // A server that holds both sides of a cut answers from below it, and
        // shows no referral.
        let unshown = (reached != apex).then_some(Delegation { parent: reached, servers: listed_here });
        let delegation = above.or(unshown);
        Located::Zone { apex, servers: servers.into_iter().collect(), by, delegation }
    }
}

/// Whether a record delegates from `zone` towards `name`.
fn points_down(record: &Record, zone: &str, name: &str) -> bool {
    let is_below = record.owner != zone && record.owner.is_within(zone);
    is_below && dns::is_within(name, &record.owner) && matches!(record.data, RecordData::Ns(_))
}

fn is_alias(reply: &Reply, name: &str) -> bool {
    reply.answers.iter().any(|r| r.owner == name && matches!(r.data, RecordData::Cname(_)))
}

fn pick_addresses(server: &str, records: &[Record]) -> Vec<Authority> {
    let own = records.iter().filter(|record| record.owner == server);
    let found = own.filter_map(|record| {
        let address = match record.data {
            RecordData::A(address) => address.into(),
            RecordData::Aaaa(address) => address.into(),
            _ => return None,
        };
        Some(Authority { name: server.into(), address })
    });
    found.collect()
}

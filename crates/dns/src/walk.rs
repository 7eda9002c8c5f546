//! The walk from the root down the delegations to the zone of a name.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use futures::StreamExt;
use futures::stream::FuturesUnordered;
use nomenta_core::name::dns::{self, DnsName};
use nomenta_core::reading::answer::Rcode;
use nomenta_core::reading::delegation::{Delegation, Fault, ServerFault};
use nomenta_core::reading::record::{Record, RecordData, RecordType};
use nomenta_core::reading::survey::Authority;

use crate::DnsConfig;
use crate::ask::{Ask, Got};
use crate::budget::Budget;
use crate::exchange::Exchange;
use crate::servers::{Servers, Useless, Why, fault_in, pick_addresses, unfound};
use crate::wire::{Mode, Reply};

/// Longest time that a delegation is believed, whatever its TTL says.
const BELIEVE: Duration = Duration::from_secs(3600);
/// The same where some of its servers cannot be found: that may be mended at any
/// moment.
const BELIEVE_FAULTY: Duration = Duration::from_secs(30);
/// Referrals followed before a walk counts as going in circles.
const MAX_REFERRALS: usize = 16;
/// Name servers whose own addresses need a walk, nested.
const MAX_DEPTH: usize = 4;
/// Addresses of one zone's servers that are asked.
pub(crate) const MOST_SERVERS: usize = 32;

/// Where a walk ended.
#[derive(Clone, Debug)]
pub(crate) enum Located {
    /// The zone that holds the name.
    Zone { apex: DnsName, servers: Vec<Authority>, by: Authority, delegation: Option<Delegation> },
    /// A zone on the way whose servers are all of no use.
    Dead { zone: DnsName, tried: Vec<String>, delegation: Option<Delegation> },
}

/// What a walk goes by.
#[derive(Clone, Copy)]
struct Way<'a> {
    exchange: &'a Exchange,
    budget: &'a Budget,
    /// The name servers whose addresses are being looked for, outermost first.
    seeking: &'a [&'a str],
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
        let budget = Budget::new(self.config.limits);
        let way = Way { exchange, budget: &budget, seeking: &[] };

        let start = self.nearest(name);
        let was_remembered = !start.zone.is_root();
        let located = match self.descend(way, name, start).await {
            Located::Dead { zone, .. } if was_remembered => {
                self.forget(&zone);
                self.descend(way, name, self.root()).await
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

    /// The servers of the zone above `apex`, as far as they are known.
    pub(crate) fn above(&self, apex: &str) -> Vec<Authority> {
        self.nearest(dns::parent(apex)).servers
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

    fn descend<'a>(&'a self, way: Way<'a>, name: &'a str, start: Cut) -> Boxed<'a, Located> {
        Box::pin(async move {
            let mut at = start;
            let mut asked = name;

            for _ in 0..MAX_REFERRALS {
                let (by, reply) = match self.first_answer(way, &at, asked, RecordType::Soa).await {
                    Ok(answered) => answered,
                    Err(tried) => return at.dead(tried),
                };

                if let Some(next) = self.referral(way, &reply, &at.zone, name).await {
                    self.remember(&next);
                    at = next;
                } else if is_alias(&reply, asked) {
                    // An alias hides the zone's SOA; it cannot stand at an apex.
                    asked = dns::parent(asked);
                } else {
                    return self.arrive(way, at, by, &reply).await;
                }
            }

            at.dead(vec!["the delegations go in circles".into()])
        })
    }

    /// Asks the first server, and if that gives nothing usable, all others at
    /// once.
    async fn first_answer(
        &self,
        way: Way<'_>,
        at: &Cut,
        name: &str,
        rtype: RecordType,
    ) -> Result<(Authority, Reply), Vec<String>> {
        let Some((first, others)) = at.servers.split_first() else { return Err(Vec::new()) };
        let mut tried = match self.usable(way, first, name, rtype).await {
            Ok(reply) => return Ok((first.clone(), reply)),
            Err(failure) => vec![failure.to_string()],
        };

        let mut asking: FuturesUnordered<_> = others
            .iter()
            .map(|server| async move { (server, self.usable(way, server, name, rtype).await) })
            .collect();
        while let Some((server, answered)) = asking.next().await {
            match answered {
                Ok(reply) => return Ok((server.clone(), reply)),
                Err(failure) => tried.push(failure.to_string()),
            }
        }

        tried.sort();
        Err(tried)
    }

    /// The reply of one server, if it is of use.
    ///
    /// # Errors
    /// [`Useless`] says what came instead.
    async fn usable(
        &self,
        way: Way<'_>,
        server: &Authority,
        name: &str,
        rtype: RecordType,
    ) -> Result<Reply, Useless> {
        let useless = |why| Useless { server: server.clone(), why };
        if !self.config.egress.admits(server.address) {
            return Err(useless(Why::Guarded));
        }
        way.budget.take().map_err(|spent| useless(Why::Unasked(spent)))?;

        let server_at = SocketAddr::new(server.address, self.config.authority_port);
        let asked = Ask::new(server_at, name, rtype, Mode::Authority);
        match way.exchange.ask(&asked).await.0 {
            Got::Reply(reply) if matches!(reply.rcode, Rcode::NoError | Rcode::NxDomain) => Ok(reply),
            other => Err(useless(Why::Got(other))),
        }
    }

    /// The delegation that `reply` points down to, with its servers' addresses.
    async fn referral(&self, way: Way<'_>, reply: &Reply, zone: &str, name: &str) -> Option<Cut> {
        if reply.authoritative || reply.rcode != Rcode::NoError {
            return None;
        }
        let down = reply.authority.iter().find(|record| points_down(record, zone, name))?;
        let owner = down.owner.clone();
        let set: Vec<_> = reply.authority.iter().filter(|r| r.owner == owner).collect();
        let ttl = set.iter().map(|r| r.ttl).min().unwrap_or(0);

        let mut found = Servers::default();
        for record in set {
            if let RecordData::Ns(server) = &record.data {
                found.listed.insert(server.clone());
                found.add(server, self.addresses(way, server, &reply.additional).await);
            }
        }

        let longest = if found.faults.is_empty() { BELIEVE } else { BELIEVE_FAULTY };
        let expires = Instant::now() + Duration::from_secs(ttl.into()).min(longest);
        let delegation = Delegation { parent: zone.into(), servers: found.listed, faults: found.faults };
        let servers = found.addresses.into_iter().collect();
        Some(Cut { zone: owner, servers, delegation: Some(delegation), expires })
    }

    /// Addresses of a name server: glue where it is given, else by a walk of
    /// its own.
    async fn addresses(&self, way: Way<'_>, server: &str, glue: &[Record]) -> Result<Vec<Authority>, Fault> {
        let found = pick_addresses(server, glue);
        if !found.is_empty() {
            return Ok(found);
        }
        if server.parse::<IpAddr>().is_ok() {
            return Err(Fault::Address);
        }
        if way.seeking.contains(&server) {
            return Err(Fault::Circle);
        }
        if way.seeking.len() >= MAX_DEPTH {
            return Err(Fault::Unasked);
        }

        let seeking = [way.seeking, &[server]].concat();
        let way = Way { seeking: &seeking, ..way };
        match self.descend(way, server, self.nearest(server)).await {
            Located::Zone { apex, servers, .. } => self.read_addresses(way, server, apex, servers).await,
            Located::Dead { zone, tried, delegation } => Err(unfound(&zone, &tried, delegation)),
        }
    }

    /// Asks the zone of a name server for its addresses.
    async fn read_addresses(
        &self,
        way: Way<'_>,
        server: &str,
        apex: DnsName,
        servers: Vec<Authority>,
    ) -> Result<Vec<Authority>, Fault> {
        let at = Cut { zone: apex, servers, delegation: None, expires: Instant::now() };
        let mut found = Vec::new();
        let mut fault = Fault::Addressless;

        for rtype in [RecordType::A, RecordType::Aaaa] {
            match self.first_answer(way, &at, server, rtype).await {
                Ok((_, reply)) => {
                    found.extend(pick_addresses(server, &reply.answers));
                    if let Some(seen) = fault_in(&reply, server, &at.zone) {
                        fault = seen;
                    }
                }
                Err(tried) => fault = Fault::Unreadable { reason: tried.join("; ") },
            }
        }

        if found.is_empty() { Err(fault) } else { Ok(found) }
    }

    /// The walk ends here: names the apex, and adds the servers that the zone
    /// itself lists to those that its parent does.
    async fn arrive(&self, way: Way<'_>, at: Cut, by: Authority, reply: &Reply) -> Located {
        let mut authority = reply.answers.iter().chain(&reply.authority);
        let soa = authority.find(|record| matches!(record.data, RecordData::Soa { .. }));
        let apex = soa.map_or_else(|| at.zone.clone(), |record| record.owner.clone());

        let above = at.delegation.clone().filter(|_| at.zone == apex);
        let reached = at.zone.clone();
        let mut found = Servers { addresses: at.servers.iter().cloned().collect(), ..Servers::default() };

        let only = Cut { servers: vec![by.clone()], ..at };
        if way.seeking.is_empty()
            && let Ok((_, reply)) = self.first_answer(way, &only, &apex, RecordType::Ns).await
        {
            for record in reply.answers.iter().filter(|r| r.owner == apex) {
                let RecordData::Ns(server) = &record.data else { continue };
                found.listed.insert(server.clone());
                if !found.addresses.iter().any(|known| known.name == *server) {
                    let looked_up = self.addresses(way, server, &reply.additional).await;
                    found.add(server, looked_up);
                }
            }
        }

        let mut servers: Vec<_> = found.addresses.into_iter().collect();
        for surplus in servers.split_off(servers.len().min(MOST_SERVERS)) {
            found.faults.push(ServerFault { server: surplus.name, fault: Fault::Unasked });
        }

        // A server that holds both sides of a cut answers from below it, and
        // shows no referral.
        let unshown = Delegation { parent: reached.clone(), servers: found.listed, faults: Vec::new() };
        let mut delegation = above.or((reached != apex).then_some(unshown));
        if let Some(delegation) = &mut delegation {
            let known = std::mem::take(&mut delegation.faults);
            let more =
                found.faults.into_iter().filter(|fault| !known.iter().any(|k| k.server == fault.server));
            delegation.faults = known.iter().cloned().chain(more).collect();
        }
        Located::Zone { apex, servers, by, delegation }
    }
}

impl Cut {
    /// The end of a walk here; without a server to ask, the delegation says why.
    fn dead(self, tried: Vec<String>) -> Located {
        Located::Dead { zone: self.zone, tried, delegation: self.delegation }
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

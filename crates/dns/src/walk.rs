//! The walk from the root down the delegations to the zone of a name.

use std::collections::{BTreeSet, HashMap};
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use futures::StreamExt;
use futures::future::join_all;
use futures::stream::FuturesUnordered;
use nomenta_core::name::dns::{self, DnsName};
use nomenta_core::name::hostname::Hostname;
use nomenta_core::reading::answer::Rcode;
use nomenta_core::reading::delegation::{Delegation, Fault};
use nomenta_core::reading::record::{Record, RecordData, RecordType};
use nomenta_core::reading::survey::Authority;
use rand::seq::SliceRandom;
use tokio::time::sleep;

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
/// Pauses before a zone is asked once more whose servers have answered not long ago.
const PAUSES: [Duration; 3] = [Duration::from_millis(100), Duration::from_secs(1), Duration::from_secs(2)];
/// Zones and cuts that are remembered at most; what has run out goes first.
const MOST_REMEMBERED: usize = 200_000;

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
    /// Whether names go in small letters: some servers know no others.
    lower: bool,
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
        make_room(&mut zones, |zone| zone.expires);
        zones.insert(apex.clone(), known);
    }

    /// Finds the zone of `name`. A remembered delegation that has gone dead is
    /// forgotten and walked anew.
    pub(crate) async fn locate(&self, exchange: &Exchange, budget: &Budget, name: &str) -> Located {
        let way = Way { exchange, budget, seeking: &[], lower: false };

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

    /// The zone above `apex` and its servers, as far as they are known; the root's own of the root.
    /// What was believed a moment ago is good enough here: the walk to `apex` has just gone by it.
    pub(crate) fn above(&self, apex: &str) -> (DnsName, Vec<Authority>) {
        let cache = self.cache.lock().unwrap_or_else(PoisonError::into_inner);
        let known = dns::climb(dns::parent(apex)).find_map(|name| cache.get(name).cloned());
        let cut = known.unwrap_or_else(|| self.root());
        (cut.zone, cut.servers)
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
        make_room(&mut cache, |cut| cut.expires);
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
                let (by, reply) = match self.answer_about(way, &at, asked).await {
                    Ok(answered) => answered,
                    Err(tried) => return at.dead(said(&tried)),
                };

                if let Some(next) = self.referral(way, &reply, &at.zone, name).await {
                    self.remember(&next);
                    at = next;
                } else if is_alias(&reply, asked) && !is_start(&reply, asked) && *asked != *at.zone {
                    // An alias hides the zone's SOA. At an apex it may not stand, and does.
                    asked = dns::parent(asked);
                } else {
                    return self.arrive(way, name, at, by, &reply).await;
                }
            }

            at.dead(vec!["the delegations go in circles".into()])
        })
    }

    /// Asks about a name, and where no server says anything usable about it, about the zone: they
    /// may fail at one name alone. A registry that fails says nothing about who has registered.
    ///
    /// # Errors
    /// What each of the servers gave instead.
    async fn answer_about(
        &self,
        way: Way<'_>,
        at: &Cut,
        name: &str,
    ) -> Result<(Authority, Reply), Vec<Useless>> {
        if !dns::is_within(&at.zone, Hostname::kept(name).registered()) {
            return self.first_answer(way, at, name, RecordType::Soa).await;
        }

        let servers = shuffled(&at.servers);
        let Some((first, others)) = servers.split_first() else { return Err(Vec::new()) };
        let mut tried = match self.usable(way, &at.zone, first, name, RecordType::Soa).await {
            Ok(reply) => return Ok(((*first).clone(), reply)),
            Err(failure) => vec![failure],
        };

        let about_zone = if *at.zone == *name { &[][..] } else { &servers[..] };
        let (by_name, by_zone) = tokio::join!(
            self.any_answer(way, &at.zone, others, name, RecordType::Soa),
            self.any_answer(way, &at.zone, about_zone, &at.zone, RecordType::Soa)
        );
        match (by_name, by_zone) {
            (Ok(answered), _) | (Err(_), Ok(answered)) => return Ok(answered),
            (Err(failures), Err(_)) => tried.extend(failures),
        }
        self.answer_to_patience(way, at, tried).await
    }

    /// Asks about a zone once more, after a while, whose servers turn us away, or are known to limit
    /// how fast they are asked: a look just before may have asked them much.
    ///
    /// # Errors
    /// What each of the servers gave at last.
    async fn answer_to_patience(
        &self,
        way: Way<'_>,
        at: &Cut,
        mut tried: Vec<Useless>,
    ) -> Result<(Authority, Reply), Vec<Useless>> {
        let way = Way { lower: true, ..way };
        for pause in PAUSES {
            let is_worth_it = tried.iter().any(|failure| self.may_bear_less(way, failure));
            if !is_worth_it || way.budget.left_for_walks() * 2 < way.budget.limits().walk {
                break;
            }
            sleep(pause).await;
            match self.first_answer(way, at, &at.zone, RecordType::Soa).await {
                Ok(answered) => return Ok(answered),
                Err(again) => tried = again,
            }
        }
        Err(tried)
    }

    /// Whether a server that was of no use may be so for how much it was asked.
    fn may_bear_less(&self, way: Way<'_>, failure: &Useless) -> bool {
        let server = SocketAddr::new(failure.server.address, self.config.authority_port);
        let has_turned_away = matches!(failure.why, Why::Got(Got::Reply(_) | Got::Short(_)));
        way.exchange.is_paced(server) || (has_turned_away && way.exchange.was_heard(server))
    }

    /// Asks the first server, and if that gives nothing usable, all others at
    /// once.
    ///
    /// # Errors
    /// What each of them gave instead.
    async fn first_answer(
        &self,
        way: Way<'_>,
        at: &Cut,
        name: &str,
        rtype: RecordType,
    ) -> Result<(Authority, Reply), Vec<Useless>> {
        let servers = shuffled(&at.servers);
        let Some((first, others)) = servers.split_first() else { return Err(Vec::new()) };
        let failure = match self.usable(way, &at.zone, first, name, rtype).await {
            Ok(reply) => return Ok(((*first).clone(), reply)),
            Err(failure) => failure,
        };

        let answered = self.any_answer(way, &at.zone, others, name, rtype).await;
        answered.map_err(|mut failures| {
            failures.push(failure);
            failures
        })
    }

    /// Asks servers all at once, and takes the first usable reply.
    ///
    /// # Errors
    /// What each of them gave instead.
    async fn any_answer(
        &self,
        way: Way<'_>,
        zone: &DnsName,
        servers: &[&Authority],
        name: &str,
        rtype: RecordType,
    ) -> Result<(Authority, Reply), Vec<Useless>> {
        let mut asking: FuturesUnordered<_> = servers
            .iter()
            .copied()
            .map(|server| async move { (server, self.usable(way, zone, server, name, rtype).await) })
            .collect();

        let mut tried = Vec::new();
        while let Some((server, answered)) = asking.next().await {
            match answered {
                Ok(reply) => return Ok((server.clone(), reply)),
                Err(failure) => tried.push(failure),
            }
        }
        Err(tried)
    }

    /// The reply of one server, if it is of use.
    ///
    /// # Errors
    /// [`Useless`] says what came instead.
    async fn usable(
        &self,
        way: Way<'_>,
        zone: &DnsName,
        server: &Authority,
        name: &str,
        rtype: RecordType,
    ) -> Result<Reply, Useless> {
        let useless = |why| Useless { server: server.clone(), why };
        if !self.config.egress.admits(server.address) {
            return Err(useless(Why::Guarded));
        }
        way.budget.question(zone).map_err(|spent| useless(Why::Unasked(spent)))?;

        let server_at = SocketAddr::new(server.address, self.config.authority_port);
        let asked = Ask { lower: way.lower, ..Ask::new(server_at, name, rtype, Mode::Authority) };
        match way.exchange.ask(&asked, way.budget).await.0 {
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

        let listed = set.into_iter().filter_map(name_server).collect();
        let mut found = Servers::default();
        self.gather(way, listed, &reply.additional, &mut found).await;

        let longest = if found.faults.is_empty() { BELIEVE } else { BELIEVE_FAULTY };
        let expires = Instant::now() + Duration::from_secs(ttl.into()).min(longest);
        let delegation = Delegation { parent: zone.into(), servers: found.listed, faults: found.faults };
        let servers = found.addresses.into_iter().collect();
        Some(Cut { zone: owner, servers, delegation: Some(delegation), expires })
    }

    /// Adds the name servers of a zone with their addresses, all looked for at once, and no more
    /// than may be asked.
    async fn gather(
        &self,
        way: Way<'_>,
        mut listed: BTreeSet<DnsName>,
        glue: &[Record],
        found: &mut Servers,
    ) {
        let most = way.budget.limits().servers as usize;
        if let Some(surplus) = listed.iter().nth(most).cloned() {
            drop(listed.split_off(&surplus));
            found.leave_out(surplus);
        }

        let asked =
            listed.iter().map(|server| async move { (server, self.addresses(way, server, glue).await) });
        for (server, addresses) in join_all(asked).await {
            found.add(server, addresses);
        }
        found.listed.extend(listed);

        while found.addresses.len() > most {
            let Some(surplus) = found.addresses.pop_last() else { break };
            found.leave_out(surplus.name);
        }
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
            return Err(Fault::Unreadable { reason: format!("it lies behind more than {MAX_DEPTH} others") });
        }

        way.budget.look_for(server).map_err(|_| Fault::Unasked)?;
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
                Err(tried) => fault = Fault::Unreadable { reason: said(&tried).join("; ") },
            }
        }

        if found.is_empty() { Err(fault) } else { Ok(found) }
    }

    /// The walk ends here: names the apex, and adds the servers that the zone
    /// itself lists to those that its parent does.
    async fn arrive(&self, way: Way<'_>, name: &str, at: Cut, by: Authority, reply: &Reply) -> Located {
        let mut authority = reply.answers.iter().chain(&reply.authority);
        // A zone that the name is not in, or that lies above the one that was asked, is none of
        // theirs to speak of.
        let is_theirs = |owner: &DnsName| owner.is_within(&at.zone) && dns::is_within(name, owner);
        let soa = authority
            .find(|record| matches!(record.data, RecordData::Soa { .. }) && is_theirs(&record.owner));
        let apex = soa.map_or_else(|| at.zone.clone(), |record| record.owner.clone());

        let above = at.delegation.clone().filter(|_| at.zone == apex);
        let reached = at.zone.clone();
        let mut found = Servers { addresses: at.servers.iter().cloned().collect(), ..Servers::default() };

        let only = Cut { servers: vec![by.clone()], ..at };
        if way.seeking.is_empty()
            && let Ok((_, reply)) = self.first_answer(way, &only, &apex, RecordType::Ns).await
        {
            let own = reply.answers.iter().filter(|record| record.owner == apex);
            let listed: BTreeSet<_> = own.filter_map(name_server).collect();
            let is_known = |server: &DnsName| found.addresses.iter().any(|known| known.name == *server);
            let (known, others) = listed.into_iter().partition(is_known);

            self.gather(way, others, &reply.additional, &mut found).await;
            found.listed.extend::<BTreeSet<_>>(known);
        }
        let servers: Vec<_> = found.addresses.into_iter().collect();

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

/// The servers in an order that whoever would answer in their place cannot know.
fn shuffled(servers: &[Authority]) -> Vec<&Authority> {
    let mut servers: Vec<&Authority> = servers.iter().collect();
    servers.shuffle(&mut rand::rng());
    servers
}

/// What servers gave, each in a sentence.
fn said(tried: &[Useless]) -> Vec<String> {
    let mut said: Vec<_> = tried.iter().map(ToString::to_string).collect();
    said.sort();
    said
}

/// Whether a record delegates from `zone` towards `name`.
fn points_down(record: &Record, zone: &str, name: &str) -> bool {
    let is_below = record.owner != zone && record.owner.is_within(zone);
    is_below && dns::is_within(name, &record.owner) && matches!(record.data, RecordData::Ns(_))
}

/// The name server that a record lists.
fn name_server(record: &Record) -> Option<DnsName> {
    match &record.data {
        RecordData::Ns(server) => Some(server.clone()),
        _ => None,
    }
}

/// Lets go of what has run out before a map grows, and of anything once it is full.
fn make_room<V>(map: &mut HashMap<DnsName, V>, expires: impl Fn(&V) -> Instant) {
    if map.len() < map.capacity().min(MOST_REMEMBERED) {
        return;
    }
    let now = Instant::now();
    map.retain(|_, kept| expires(kept) > now);
    if map.len() >= MOST_REMEMBERED {
        map.clear();
    }
}

fn is_alias(reply: &Reply, name: &str) -> bool {
    reply.answers.iter().any(|r| r.owner == name && matches!(r.data, RecordData::Cname(_)))
}

/// Whether a reply has the start of a zone at `name` itself, beside whatever else stands there.
fn is_start(reply: &Reply, name: &str) -> bool {
    let mut records = reply.answers.iter().chain(&reply.authority);
    records.any(|record| record.owner == name && matches!(record.data, RecordData::Soa { .. }))
}

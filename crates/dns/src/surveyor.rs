//! All readings for one domain, and the few that tell whether many domains
//! have changed.

use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, SocketAddr};

use futures::future::join_all;
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::name::dns;
use nomenta_core::name::hostname::Hostname;
use nomenta_core::reading::answer::{Outcome, Rcode, Reading, Source};
use nomenta_core::reading::record::{Record, RecordData, RecordType};
use nomenta_core::reading::survey::{Authority, Delegation, Survey, ZoneView};
use nomenta_core::reading::target::{Depth, Question, Target};

use crate::DnsConfig;
use crate::ask::{Answered, Ask, Got};
use crate::engine::Settings;
use crate::exchange::Exchange;
use crate::secure::{Secure, SecureError};
use crate::vantage::{Transport, Vantage};
use crate::walk::{Located, Walker};
use crate::wire::{Mode, Reply};

/// Surveys domains; one for the whole service, which shares its cache of
/// delegations and its sockets.
pub struct Surveyor {
    config: DnsConfig,
    exchange: Exchange,
    secure: Option<Secure>,
    walker: Walker,
}

/// A domain to glance at: what it is about, and the zone it was last found in.
#[derive(Clone, Debug)]
pub struct Glance {
    /// What it is about.
    pub target: Target,
    /// The zone's apex.
    pub zone: String,
}

/// A question, who is to answer it, and how it is put; not at all where the
/// egress rule forbids it.
struct Planned<'a> {
    source: Source,
    question: &'a Question,
    may: bool,
    ask: Option<Ask>,
}

impl Surveyor {
    /// A surveyor that asks as `config` says.
    ///
    /// # Errors
    /// [`SecureError`] if there are encrypted vantages and no roots to trust.
    pub fn new(config: DnsConfig) -> Result<Self, SecureError> {
        let DnsConfig { timeout, tries, politeness, .. } = config;
        let exchange = Exchange::new(Settings { timeout, tries, politeness });
        let encrypted = config.vantages.iter().any(|v| !matches!(v.transport, Transport::Plain(_)));
        let secure = encrypted.then(|| Secure::new(&config.vantage_roots, timeout)).transpose()?;
        Ok(Self { walker: Walker::new(config.clone()), exchange, secure, config })
    }

    /// Reads what `target` needs, from every address of every authority server
    /// and from every vantage.
    ///
    /// Trouble on the way is part of the survey, never an error.
    pub async fn survey(&self, target: &Target, depth: Depth) -> Survey {
        let at = std::time::SystemTime::now().into();
        let host = &target.host;
        let zone = zone_view(host, self.walker.locate(&self.exchange, host.as_str()).await);
        let readings = match &zone {
            ZoneView::Found { apex, servers, .. } => {
                self.ask_all(&target.questions(apex, depth), apex, servers).await
            }
            _ => Vec::new(),
        };
        Survey { host: host.clone(), at, zone, readings, routed: target.routed.clone(), depth }
    }

    /// Quick surveys of many domains at once, at the servers that their zones
    /// are known to have; `None` where those are not known, or gave no answer
    /// to tell from.
    pub async fn glance(&self, glances: &[Glance]) -> Vec<Option<Survey>> {
        let zones = self.known_zones(glances).await;
        let lists: Vec<_> = glances.iter().map(|g| g.target.questions(&g.zone, Depth::Quick)).collect();
        let mut plans = Vec::new();
        for (index, (glance, list)) in glances.iter().zip(&lists).enumerate() {
            if let Some((_, servers, _)) = zones.get(&glance.zone) {
                plans.extend(self.plan(list, &glance.zone, servers).into_iter().map(|p| (index, p)));
            }
        }
        let at = std::time::SystemTime::now().into();
        let asks: Vec<Ask> = plans.iter_mut().filter_map(|(_, p)| p.ask.take()).collect();
        let mut answers = self.exchange.ask_all(asks).await.into_iter();
        let mut surveys: Vec<Option<Survey>> = glances
            .iter()
            .map(|glance| {
                let (apex, servers, delegation) = zones.get(&glance.zone)?.clone();
                let (host, routed) = (glance.target.host.clone(), glance.target.routed.clone());
                let zone = ZoneView::Found { apex, servers, delegation };
                let readings = Vec::with_capacity(6);
                Some(Survey { host, at, zone, readings, routed, depth: Depth::Quick })
            })
            .collect();
        for (index, planned) in plans {
            let answered = planned.may.then(|| answers.next()).flatten();
            if let Some(survey) = &mut surveys[index] {
                survey.readings.push(read(planned, answered));
            }
        }
        surveys
    }

    /// The zones of some domains with their servers; a walk finds those that
    /// are not remembered.
    async fn known_zones(
        &self,
        glances: &[Glance],
    ) -> HashMap<String, (String, Vec<Authority>, Option<Delegation>)> {
        let mut zones = HashMap::new();
        let mut unknown = BTreeMap::new();
        for glance in glances {
            if zones.contains_key(&glance.zone) {
                continue;
            }
            match self.walker.known(&glance.zone) {
                Some(known) => drop(zones.insert(glance.zone.clone(), known)),
                None => drop(unknown.insert(glance.zone.clone(), &glance.target.host)),
            }
        }
        let walks = unknown
            .into_values()
            .map(|host| async { zone_view(host, self.walker.locate(&self.exchange, host.as_str()).await) });
        for found in join_all(walks).await {
            if let ZoneView::Found { apex, servers, delegation } = found {
                zones.insert(apex.clone(), (apex, servers, delegation));
            }
        }
        zones
    }

    /// Reads the records that onboarding may touch, as the zone's first
    /// answering server has them; `None` where there is no zone to read.
    pub async fn baseline(&self, target: &Target) -> Option<Baseline> {
        let located = self.walker.locate(&self.exchange, target.host.as_str()).await;
        let ZoneView::Found { apex, .. } = zone_view(&target.host, located.clone()) else { return None };
        let Located::Zone { by: server, .. } = located else { return None };
        let list: Vec<_> = Baseline::questions(target, &apex)
            .into_iter()
            .map(|(name, rtype)| Question { name, rtype, vantages: false })
            .collect();
        let readings = self.put(self.plan(&list, &apex, std::slice::from_ref(&server))).await;
        let mut records: Vec<Record> = Vec::new();
        for reading in readings.iter().filter(|r| !r.is_lame()) {
            let own = reading.answer().unwrap_or_default().iter().filter(|r| r.owner == reading.name);
            for record in own {
                if !records.contains(record) {
                    records.push(record.clone());
                }
            }
        }
        let at = std::time::SystemTime::now().into();
        Some(Baseline { at, zone: apex, server: format!("{} ({})", server.name, server.address), records })
    }

    /// Addresses of a name as the first vantage that knows any gives them, IPv6
    /// first; for following redirects as a visitor would.
    pub async fn addresses(&self, name: String) -> Vec<IpAddr> {
        let question = |rtype| Question { name: name.clone(), rtype, vantages: true };
        let list = [question(RecordType::Aaaa), question(RecordType::A)];
        let asked: Vec<_> = list.iter().collect();
        for vantage in &self.config.vantages {
            let readings = self.read_vantage(vantage, &asked).await;
            let records = readings.iter().filter_map(Reading::answer).flatten();
            let found: Vec<IpAddr> = records
                .filter_map(|record| match record.data {
                    RecordData::Aaaa(address) => Some(address.into()),
                    RecordData::A(address) => Some(address.into()),
                    _ => None,
                })
                .collect();
            if !found.is_empty() {
                return found;
            }
        }
        Vec::new()
    }

    async fn read_vantage(&self, vantage: &Vantage, asked: &[&Question]) -> Vec<Reading> {
        let Transport::Plain(address) = vantage.transport else {
            return self.read_encrypted(vantage, asked).await;
        };
        let planned = |question: &&'_ Question| (vantage.source(), ask(address, question, Mode::Vantage));
        let plan = asked.iter().map(|question| {
            let (source, ask) = planned(question);
            Planned { source, question, may: true, ask: Some(ask) }
        });
        self.put(plan.collect()).await
    }

    async fn ask_all(&self, list: &[Question], apex: &str, servers: &[Authority]) -> Vec<Reading> {
        let asked: Vec<_> = list.iter().filter(|q| q.vantages).collect();
        let mut plan = self.plan(list, apex, servers);
        for vantage in &self.config.vantages {
            if let Transport::Plain(address) = vantage.transport {
                let planned = |q: &&'_ Question| (vantage.source(), ask(address, q, Mode::Vantage));
                let more = asked.iter().map(|q| (planned(q), *q));
                plan.extend(more.map(|((source, ask), question)| Planned {
                    source,
                    question,
                    may: true,
                    ask: Some(ask),
                }));
            }
        }
        let encrypted = self.config.vantages.iter().filter(|v| !matches!(v.transport, Transport::Plain(_)));
        let encrypted = join_all(encrypted.map(|v| self.read_encrypted(v, &asked)));
        let (readings, more) = tokio::join!(self.put(plan), encrypted);
        let mut readings = self.confirmed(list, apex, servers, readings).await;
        readings.extend(more.into_iter().flatten());
        readings
    }

    /// Where servers differ, the zone may have been edited between two
    /// questions; what they say when asked once more counts.
    async fn confirmed(
        &self,
        list: &[Question],
        apex: &str,
        servers: &[Authority],
        mut readings: Vec<Reading>,
    ) -> Vec<Reading> {
        let differ = |q: &&Question| {
            let of =
                readings.iter().filter(|r| r.source.is_authority() && r.name == q.name && r.rtype == q.rtype);
            let mut answers = of.filter_map(sorted);
            let first = answers.next();
            answers.any(|other| Some(other) != first)
        };
        let doubtful: Vec<Question> = list.iter().filter(differ).cloned().collect();
        for again in self.put(self.plan(&doubtful, apex, servers)).await {
            let same =
                |r: &&mut Reading| r.source == again.source && r.name == again.name && r.rtype == again.rtype;
            if let Some(reading) = readings.iter_mut().find(same) {
                *reading = again;
            }
        }
        readings
    }

    /// What is asked of each address of the authority servers.
    fn plan<'a>(&self, list: &'a [Question], apex: &str, servers: &[Authority]) -> Vec<Planned<'a>> {
        // One address may serve under several names; it is asked once.
        let by_address: BTreeMap<_, _> = servers.iter().map(|s| (s.address, s)).collect();
        // Above and beside the zone only a resolver can answer.
        let inside = list.iter().filter(|q| dns::is_within(&q.name, apex));
        let port = self.config.authority_port;
        let planned = |server: &Authority, question: &'a Question| {
            let Authority { name, address } = server.clone();
            let may = self.config.egress.admits(address);
            let ask = may.then(|| ask(SocketAddr::new(address, port), question, Mode::Authority));
            Planned { source: Source::Authority { server: name, address }, question, may, ask }
        };
        inside.flat_map(|q| by_address.values().map(move |s| (*s, q))).map(|(s, q)| planned(s, q)).collect()
    }

    /// Puts the questions. After SERVFAIL a vantage is asked the same with
    /// DNSSEC checking off, which tells a broken chain of trust from a broken
    /// server.
    async fn put(&self, plan: Vec<Planned<'_>>) -> Vec<Reading> {
        let asks = plan.iter().filter_map(|p| p.ask.clone()).collect();
        let mut answers = self.exchange.ask_all(asks).await.into_iter();
        let (mut readings, mut again) = (Vec::with_capacity(plan.len()), Vec::new());
        for planned in plan {
            let asked = planned.ask.clone();
            let answered = asked.is_some().then(|| answers.next()).flatten();
            let reading = read(planned, answered);
            if let (Some(ask), true) = (asked, has_failed(&reading)) {
                again.push((readings.len(), Ask { mode: Mode::Unchecked, ..ask }));
            }
            readings.push(reading);
        }
        let (places, asks): (Vec<_>, Vec<_>) = again.into_iter().unzip();
        for (place, (got, _)) in places.into_iter().zip(self.exchange.ask_all(asks).await) {
            readings[place].unchecked = unchecked(got);
        }
        readings
    }

    async fn read_encrypted(&self, vantage: &Vantage, asked: &[&Question]) -> Vec<Reading> {
        let source = vantage.source();
        let asks: Vec<_> = asked.iter().map(|q| ask(UNUSED, q, Mode::Vantage)).collect();
        let answers = self.encrypted(vantage, &asks).await;
        let planned = |question| Planned { source: source.clone(), question, may: true, ask: None };
        let read = asked.iter().zip(answers).map(|(q, answered)| read(planned(*q), Some(answered)));
        let mut readings: Vec<Reading> = read.collect();
        let failed: Vec<_> = (0..readings.len()).filter(|i| has_failed(&readings[*i])).collect();
        let again: Vec<_> =
            failed.iter().map(|i| Ask { mode: Mode::Unchecked, ..asks[*i].clone() }).collect();
        for (place, (got, _)) in failed.into_iter().zip(self.encrypted(vantage, &again).await) {
            readings[place].unchecked = unchecked(got);
        }
        readings
    }

    async fn encrypted(&self, vantage: &Vantage, asks: &[Ask]) -> Vec<Answered> {
        match (&self.secure, &vantage.transport) {
            _ if asks.is_empty() => Vec::new(),
            (Some(secure), Transport::Tls { address, name }) => secure.by_tls(*address, name, asks).await,
            (Some(secure), Transport::Https { url }) => secure.by_https(url, asks).await,
            _ => Vec::new(),
        }
    }
}

/// Stands where an encrypted vantage has no use for an address.
const UNUSED: SocketAddr = SocketAddr::V4(std::net::SocketAddrV4::new(std::net::Ipv4Addr::UNSPECIFIED, 0));

impl Vantage {
    fn source(&self) -> Source {
        Source::Vantage { name: self.name.clone() }
    }
}

/// The records of a usable answer, in an order of their own.
fn sorted(reading: &Reading) -> Option<Vec<(&str, &RecordData)>> {
    let mut records: Vec<_> = reading.answer()?.iter().map(|r| (r.owner.as_str(), &r.data)).collect();
    records.sort();
    Some(records)
}

fn has_failed(reading: &Reading) -> bool {
    let failed = matches!(reading.outcome, Outcome::Answer { rcode: Rcode::ServFail, .. });
    failed && !reading.source.is_authority()
}

fn unchecked(got: Got) -> Option<Rcode> {
    match got {
        Got::Reply(reply) => Some(reply.rcode),
        _ => None,
    }
}

fn ask(server: SocketAddr, question: &Question, mode: Mode) -> Ask {
    Ask { server, name: question.name.as_str().into(), rtype: question.rtype, mode }
}

fn read(planned: Planned<'_>, answered: Option<Answered>) -> Reading {
    let Planned { source, question: Question { name, rtype, .. }, .. } = planned;
    let reading = |outcome, rtt_ms| Reading::new(source, name.clone(), *rtype, outcome, rtt_ms);
    let Some((got, rtt)) = answered else { return reading(Outcome::Guarded, 0) };
    let rtt = u32::try_from(rtt.as_millis()).unwrap_or(u32::MAX);
    match got {
        Got::Silence => reading(Outcome::Silence, rtt),
        Got::NoRoute => reading(Outcome::NoRoute, rtt),
        Got::Garbled(reason) => reading(Outcome::Garbled { reason }, rtt),
        Got::Reply(reply) => {
            let negative_ttl = reply.negative_ttl(*rtype);
            let Reply { rcode, authoritative, answers: records, extended, .. } = reply;
            let answer = reading(Outcome::Answer { rcode, authoritative, records }, rtt);
            Reading { negative_ttl, extended, ..answer }
        }
    }
}

/// A zone above the registered domain means that nobody registered it.
fn zone_view(host: &Hostname, located: Located) -> ZoneView {
    match located {
        Located::Dead { zone, tried } => ZoneView::Unreachable { zone, tried },
        Located::Zone { apex, servers, by, delegation } => {
            let registered = host.registered();
            if apex != registered && dns::is_within(registered, &apex) {
                let server = format!("{} ({})", by.name, by.address);
                let registered = registered.to_owned();
                return ZoneView::Unregistered { registered, registry: apex, server };
            }
            ZoneView::Found { apex, servers, delegation }
        }
    }
}

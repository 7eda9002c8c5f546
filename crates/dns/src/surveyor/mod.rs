//! All readings for one domain: of every address of the zone's own servers, and
//! through every vantage.

mod again;

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, SystemTime};

use futures::future::join_all;
use nomenta_core::judge::baseline::Baseline;
use nomenta_core::name::dns::{self, DnsName};
use nomenta_core::name::hostname::Hostname;
use nomenta_core::reading::answer::{Outcome, Reading, Source};
use nomenta_core::reading::cut::Limit;
use nomenta_core::reading::record::{Record, RecordData, RecordType};
use nomenta_core::reading::survey::{Authority, Survey, ZoneView};
use nomenta_core::reading::target::{Depth, Question, Target};

use crate::DnsConfig;
use crate::ask::{Answered, Ask, Got};
use crate::budget::{Budget, Round, Spent};
use crate::engine::Settings;
use crate::exchange::Exchange;
use crate::secure::{Secure, SecureError};
use crate::signing::TrustRecord;
use crate::vantage::Transport;
use crate::walk::{Located, Walker};
use crate::wire::{Mode, Reply};

/// Surveys domains; one for the whole service, which shares its cache of
/// delegations and its sockets.
///
/// ```no_run
/// # async fn look(
/// #     config: nomenta_dns::DnsConfig,
/// #     target: nomenta_core::reading::target::Target,
/// # ) -> Result<(), nomenta_dns::SecureError> {
/// use nomenta_core::reading::target::Depth;
/// use nomenta_dns::Surveyor;
///
/// let surveyor = Surveyor::new(config)?;
/// let survey = surveyor.survey(&target, Depth::Full).await;
/// for reading in &survey.readings {
///     println!("{} says of {} {}: {:?}", reading.source, reading.name, reading.rtype, reading.answer());
/// }
/// # Ok(())
/// # }
/// ```
pub struct Surveyor {
    pub(crate) config: DnsConfig,
    pub(crate) exchange: Exchange,
    pub(crate) secure: Option<Secure>,
    pub(crate) walker: Walker,
}

/// A question for one address of an authoritative server; not put where the egress
/// rule forbids it.
pub(crate) struct Planned<'a> {
    source: Source,
    question: &'a Question,
    pub ask: Option<Ask>,
}

impl Surveyor {
    /// A surveyor that asks as `config` says.
    ///
    /// # Errors
    /// [`SecureError`] if there are encrypted vantages and no roots to trust:
    /// name a bundle that can be read.
    pub fn new(config: DnsConfig) -> Result<Self, SecureError> {
        let records = config.limits.records as usize;
        let settings =
            Settings { timeout: config.timeout, tries: config.tries, politeness: config.politeness, records };
        let exchange = Exchange::new(settings);

        let is_encrypted = config.vantages.iter().any(|v| !matches!(v.transport, Transport::Plain(_)));
        let secure = if is_encrypted {
            Some(Secure::new(&config.vantage_roots, config.timeout, records)?)
        } else {
            None
        };
        Ok(Self { walker: Walker::new(config.clone()), exchange, secure, config })
    }

    /// What one look may cost.
    fn budget(&self) -> Budget {
        Budget::new(self.config.limits)
    }

    /// Reads what `target` needs, from every address of every authoritative server
    /// and from every vantage.
    ///
    /// Trouble on the way is part of the survey, never an error.
    pub async fn survey(&self, target: &Target, depth: Depth) -> Survey {
        let at = SystemTime::now().into();
        let host = &target.host;
        let budget = self.budget();
        let zone = zone_view(host, self.walker.locate(&self.exchange, &budget, host.as_str()).await);

        let mut survey = Survey {
            host: host.clone(),
            at,
            zone,
            readings: Vec::new(),
            samples: Vec::new(),
            recent: Default::default(),
            followed: Vec::new(),
            trust: None,
            signed: None,
            cuts: Vec::new(),
            routed: target.routed.clone(),
            depth,
        };

        let round = budget.round();
        // Whether resolvers still know what stood there tells a dead zone from a
        // network of ours that is cut off.
        if let ZoneView::Unreachable { zone, .. } = &survey.zone {
            survey.readings = self.ask_all(target, depth, zone, &[], round).await;
        }

        if let ZoneView::Found { apex, servers, .. } = survey.zone.clone() {
            survey.readings = self.ask_all(target, depth, &apex, &servers, round).await;
            if depth == Depth::Full {
                self.follow_moved_servers(target, &mut survey, round).await;
                survey.samples = self.samples(target, &survey, round).await;
                survey.remember(None);
            }
            survey.followed = self.follow(target, &survey, round).await;
            if depth == Depth::Full {
                self.add_trust(target, &mut survey, round).await;
            }
        }

        // A delegation that is remembered has left out what it left out then.
        let left_out = survey.delegation().filter(|delegation| delegation.is_partial());
        if let Some(delegation) = left_out.filter(|_| budget.cuts().is_empty()) {
            budget.spent(Limit::Servers, survey.apex().unwrap_or(&delegation.parent));
        }
        survey.cuts = budget.cuts();
        survey
    }

    /// Reads the records that onboarding may touch, as the zone's first
    /// answering server has them; `None` where there is no zone to read.
    pub async fn baseline(&self, target: &Target) -> Option<Baseline> {
        let budget = self.budget();
        let located = self.walker.locate(&self.exchange, &budget, target.host.as_str()).await;
        let Located::Zone { by: server, .. } = &located else { return None };
        let server = server.clone();
        let ZoneView::Found { apex, .. } = zone_view(&target.host, located) else { return None };

        let asked = Baseline::questions(target, &apex).into_iter();
        let list: Vec<_> = asked.map(|(name, rtype)| Question { name, rtype, vantages: false }).collect();
        let round = budget.round();
        let readings = self.put(self.plan(&list, &apex, std::slice::from_ref(&server)), round).await;

        let mut records: Vec<Record> = Vec::new();
        for reading in readings.iter().filter(|r| !r.is_lame()) {
            let own = reading.answer().unwrap_or_default().iter().filter(|r| r.owner == reading.name);
            for record in own {
                if !records.contains(record) {
                    records.push(record.clone());
                }
            }
        }
        let server = format!("{} ({})", server.name, server.address);
        Some(Baseline { at: SystemTime::now().into(), zone: apex, server, records })
    }

    /// Addresses of a name as the first vantage that knows any gives them, IPv6
    /// first; for following redirects as a visitor would.
    pub async fn addresses(&self, name: String) -> Vec<IpAddr> {
        let name = DnsName::new(name);
        let list = [RecordType::Aaaa, RecordType::A].map(|rtype| Question {
            name: name.clone(),
            rtype,
            vantages: true,
        });
        let asked: Vec<_> = list.iter().collect();

        let budget = self.budget();
        let round = budget.round();
        for vantage in &self.config.vantages {
            let readings = self.read_vantage(vantage, &asked, round).await;
            let records = readings.iter().filter_map(Reading::answer).flatten();
            let found: Vec<IpAddr> = records.filter_map(|record| address(&record.data)).collect();
            if !found.is_empty() {
                return found;
            }
        }
        Vec::new()
    }

    /// The first of some names that is a zone of its own, as the first vantage says.
    pub async fn first_delegated(&self, names: Vec<DnsName>) -> Option<DnsName> {
        let question = |name| Question { name, rtype: RecordType::Ns, vantages: true };
        let questions: Vec<_> = names.into_iter().map(question).collect();
        let asked: Vec<_> = questions.iter().collect();
        let budget = self.budget();
        let round = budget.round();

        let vantage = self.config.vantages.first().filter(|_| !asked.is_empty())?;
        let readings = self.read_vantage(vantage, &asked, round).await;
        let is_zone = |reading: &&Reading| {
            let answer = reading.answer().unwrap_or_default();
            answer
                .iter()
                .any(|record| record.owner == reading.name && matches!(record.data, RecordData::Ns(_)))
        };
        readings.iter().find(is_zone).map(|reading| reading.name.clone())
    }

    /// Texts at a name as the first vantage that has any gives them, since one may remember for a
    /// while that there were none; `None` where none answers.
    pub async fn texts(&self, name: DnsName) -> Option<Vec<String>> {
        let question = Question { name, rtype: RecordType::Txt, vantages: true };
        let budget = self.budget();
        let round = budget.round();

        let mut found = None;
        for vantage in &self.config.vantages {
            let readings = self.read_vantage(vantage, &[&question], round).await;
            if let Some(records) = readings.iter().find_map(Reading::answer) {
                let texts: Vec<_> = records.iter().filter_map(text).collect();
                if !texts.is_empty() {
                    return Some(texts);
                }
                found = Some(texts);
            }
        }
        found
    }

    async fn ask_all(
        &self,
        target: &Target,
        depth: Depth,
        apex: &str,
        servers: &[Authority],
        round: Round<'_>,
    ) -> Vec<Reading> {
        let list = target.questions(apex, depth);
        let everywhere: Vec<_> = list.iter().filter(|q| q.vantages).collect();
        let through_vantages = self.read_vantages(&everywhere, round);

        let at_servers = async {
            let mut readings = self.put(self.plan(&list, apex, servers), round).await;
            self.ask_in_small_letters(target, &mut readings, round).await;
            readings.extend(self.ask_beside_again(target, apex, servers, &readings, round).await);
            self.confirmed(&list, apex, servers, readings, round).await
        };
        let (mut readings, mut seen) = tokio::join!(at_servers, through_vantages);
        if servers.iter().any(|server| self.exchange.is_paced(self.at(server))) {
            self.ask_vantages_slowly(&readings, &mut seen, round).await;
        }
        readings.extend(seen);
        readings
    }

    /// Where a server is asked.
    fn at(&self, server: &Authority) -> SocketAddr {
        SocketAddr::new(server.address, self.config.authority_port)
    }

    /// What is asked of each address of the authoritative servers.
    pub(crate) fn plan<'a>(
        &self,
        list: &'a [Question],
        apex: &str,
        servers: &[Authority],
    ) -> Vec<Planned<'a>> {
        self.plan_in(Mode::Authority, list, apex, servers)
    }

    /// The same, asked in another mode.
    pub(crate) fn plan_in<'a>(
        &self,
        mode: Mode,
        list: &'a [Question],
        apex: &str,
        servers: &[Authority],
    ) -> Vec<Planned<'a>> {
        // One address may serve under several names; it is asked once.
        let by_address: BTreeMap<_, _> = servers.iter().map(|s| (s.address, s)).collect();

        let mut plan = Vec::new();
        // Above and beside the zone only a resolver can answer.
        for question in list.iter().filter(|question| question.name.is_within(apex)) {
            for server in by_address.values() {
                plan.push(self.planned(mode, server, question));
            }
        }
        plan
    }

    fn planned<'a>(&self, mode: Mode, server: &Authority, question: &'a Question) -> Planned<'a> {
        let address = server.address;
        // With its signatures, the start of the zone shows whether all servers sign it.
        let mode = if question.rtype == RecordType::Soa { Mode::Signed } else { mode };
        let at = SocketAddr::new(address, self.config.authority_port);
        let may_ask = self.config.egress.admits(address);
        Planned {
            source: Source::Authority { server: server.name.clone(), address },
            question,
            ask: may_ask.then(|| ask(at, question, mode)),
        }
    }

    /// Puts the questions that may be put, to each server by itself: one that
    /// takes longer than there is time for keeps nobody else's answers back.
    pub(crate) async fn put(&self, plan: Vec<Planned<'_>>, round: Round<'_>) -> Vec<Reading> {
        let mut by_server: BTreeMap<SocketAddr, Vec<usize>> = BTreeMap::new();
        for (place, planned) in plan.iter().enumerate() {
            if let Some(ask) = &planned.ask {
                by_server.entry(ask.server).or_default().push(place);
            }
        }

        let rounds = by_server.into_values().map(|places| async {
            let asks = places.iter().filter_map(|place| plan[*place].ask.clone()).collect();
            let answers = self.exchange.ask_patiently(asks, round).await;
            (places, answers)
        });

        let mut answered: Vec<Option<Answered>> = vec![None; plan.len()];
        for (places, answers) in join_all(rounds).await {
            for (place, answer) in places.into_iter().zip(answers) {
                answered[place] = Some(answer);
            }
        }
        plan.into_iter()
            .zip(answered)
            .map(|(planned, answered)| planned.read(answered, round.budget))
            .collect()
    }
}

impl Planned<'_> {
    /// What came of it; without an answer, the guard let nothing out.
    pub(crate) fn read(self, answered: Option<Answered>, budget: &Budget) -> Reading {
        match answered {
            Some(answered) => read(self.source, self.question, answered, budget),
            None => {
                let Question { name, rtype, .. } = self.question;
                Reading::new(self.source, name.clone(), *rtype, Outcome::Guarded, 0)
            }
        }
    }
}

fn text(record: &Record) -> Option<String> {
    match &record.data {
        RecordData::Txt(text) => Some(text.to_text()),
        _ => None,
    }
}

pub(crate) fn address(data: &RecordData) -> Option<IpAddr> {
    match data {
        RecordData::A(address) => Some((*address).into()),
        RecordData::Aaaa(address) => Some((*address).into()),
        _ => None,
    }
}

pub(crate) fn ask(server: SocketAddr, question: &Question, mode: Mode) -> Ask {
    Ask::new(server, &question.name, question.rtype, mode)
}

pub(crate) fn read(source: Source, question: &Question, (got, rtt): Answered, budget: &Budget) -> Reading {
    let rtype = question.rtype;
    let rtt = milliseconds(rtt);
    // Of servers it is of no use: what they say is not held.
    let after_ms = if source.is_authority() { 0 } else { milliseconds(budget.begun.elapsed()) };
    let mut negative_ttl = None;
    let mut extended = Vec::new();
    let mut without_edns = false;
    let mut authentic = false;
    let mut signatures = Vec::new();

    let outcome = match got {
        Got::Silence => Outcome::Silence,
        Got::NoRoute => Outcome::NoRoute,
        Got::Late => Outcome::Late,
        Got::Short(reason) => Outcome::Short { reason },
        Got::Garbled(reason) => Outcome::Garbled { reason },
        Got::Unread(limit) => Outcome::Unread { limit },
        Got::Reply(reply) if let Err(Spent(limit)) = budget.octets(&question.name, reply.octets) => {
            Outcome::Unread { limit }
        }
        Got::Reply(reply) => {
            if reply.is_partial {
                budget.spent(Limit::Records, &question.name);
            }
            negative_ttl = reply.negative_ttl(rtype);
            without_edns = reply.without_edns;
            authentic = reply.authentic && !source.is_authority();
            signatures = reply.trust.iter().filter_map(TrustRecord::signature).collect();
            let Reply { rcode, authoritative, answers: records, extended: errors, .. } = reply;
            extended = errors;
            Outcome::Answer { rcode, authoritative, records }
        }
    };
    let reading = Reading::new(source, question.name.clone(), rtype, outcome, rtt);
    Reading { after_ms, negative_ttl, extended, without_edns, authentic, signatures, ..reading }
}

fn milliseconds(time: Duration) -> u32 {
    u32::try_from(time.as_millis()).unwrap_or(u32::MAX)
}

/// A zone above the registered domain means that nobody registered it.
pub(crate) fn zone_view(host: &Hostname, located: Located) -> ZoneView {
    match located {
        Located::Dead { zone, tried, delegation } => ZoneView::Unreachable { zone, tried, delegation },
        Located::Zone { apex, servers, by, delegation } => {
            let registered = host.registered();
            if apex != registered && dns::is_within(registered, &apex) {
                let server = format!("{} ({})", by.name, by.address);
                return ZoneView::Unregistered { registered: registered.into(), registry: apex, server };
            }
            ZoneView::Found { apex, servers, delegation }
        }
    }
}

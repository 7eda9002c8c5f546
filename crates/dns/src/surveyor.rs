//! All readings for one domain.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use futures::future::join_all;
use nomenta_core::baseline::Baseline;
use nomenta_core::hostname::Hostname;
use nomenta_core::names;
use nomenta_core::reading::{Outcome, Rcode, Reading, Record, Source};
use nomenta_core::survey::{Authority, Depth, Question, Survey, Target, ZoneView};

use crate::exchange::{Ask, Exchange, Got};
use crate::walk::{Located, Walker};
use crate::wire::{Mode, Reply};
use crate::{DnsConfig, Egress, Vantage};

/// Surveys domains; one for the whole service, which shares its cache of
/// delegations.
pub struct Surveyor {
    config: DnsConfig,
    exchange: Exchange,
    walker: Walker,
}

impl Surveyor {
    /// A surveyor that asks as `config` says.
    pub fn new(config: DnsConfig) -> Self {
        let exchange = Exchange::new(config.timeout, config.tries);
        Self { walker: Walker::new(config.clone()), exchange, config }
    }

    /// The rule for outbound connections.
    pub fn egress(&self) -> Egress {
        self.config.egress
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

    /// Reads the records that onboarding may touch, as the zone's first
    /// answering server has them; `None` where there is no zone to read.
    pub async fn baseline(&self, target: &Target) -> Option<Baseline> {
        let located = self.walker.locate(&self.exchange, target.host.as_str()).await;
        let ZoneView::Found { apex, .. } = zone_view(&target.host, located.clone()) else { return None };
        let Located::Zone { by: server, .. } = located else { return None };
        let asked = Baseline::questions(target, &apex).into_iter().map(|(name, rtype)| {
            let question = Question { name, rtype, vantages: false };
            let server = &server;
            async move { self.ask_authority(server, &question).await }
        });
        let readings = join_all(asked).await;
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

    async fn ask_all(&self, list: &[Question], apex: &str, servers: &[Authority]) -> Vec<Reading> {
        // One address may serve under several names; it is asked once.
        let by_address: BTreeMap<_, _> = servers.iter().map(|s| (s.address, s)).collect();
        // Above and beside the zone only a resolver can answer.
        let inside = |q: &&Question| names::is_within(&q.name, apex);
        let authority = list
            .iter()
            .filter(inside)
            .flat_map(|q| by_address.values().map(move |s| self.ask_authority(s, q)));
        let authority = join_all(authority);
        let asked = list.iter().filter(|q| q.vantages);
        let vantages = asked.flat_map(|q| self.config.vantages.iter().map(move |v| self.ask_vantage(v, q)));
        let (mut readings, more) = tokio::join!(authority, join_all(vantages));
        readings.extend(more);
        readings
    }

    async fn ask_authority(&self, server: &Authority, question: &Question) -> Reading {
        let source = Source::Authority { server: server.name.clone(), address: server.address };
        if !self.config.egress.permits(server.address) {
            return Reading::new(source, question.name.clone(), question.rtype, Outcome::Guarded, 0);
        }
        let server = SocketAddr::new(server.address, self.config.authority_port);
        self.read(source, question, ask(server, question, Mode::Authority)).await
    }

    /// After SERVFAIL the same is asked with DNSSEC checking off, which tells a
    /// broken chain of trust from a broken server.
    async fn ask_vantage(&self, vantage: &Vantage, question: &Question) -> Reading {
        let source = Source::Vantage { name: vantage.name.clone() };
        let asked = ask(vantage.address, question, Mode::Vantage);
        let mut reading = self.read(source, question, asked).await;
        if matches!(reading.outcome, Outcome::Answer { rcode: Rcode::ServFail, .. }) {
            let unchecked = ask(vantage.address, question, Mode::Unchecked);
            if let Got::Reply(reply) = self.exchange.ask(&unchecked).await.0 {
                reading.unchecked = Some(reply.rcode);
            }
        }
        reading
    }

    async fn read(&self, source: Source, question: &Question, ask: Ask) -> Reading {
        let (got, rtt) = self.exchange.ask(&ask).await;
        let rtt = u32::try_from(rtt.as_millis()).unwrap_or(u32::MAX);
        let (name, rtype) = (question.name.clone(), question.rtype);
        let reading = |outcome| Reading::new(source, name, rtype, outcome, rtt);
        match got {
            Got::Silence => reading(Outcome::Silence),
            Got::NoRoute => reading(Outcome::NoRoute),
            Got::Garbled(reason) => reading(Outcome::Garbled { reason }),
            Got::Reply(reply) => {
                let negative_ttl = reply.negative_ttl(rtype);
                let Reply { rcode, authoritative, answers: records, extended, .. } = reply;
                let answer = reading(Outcome::Answer { rcode, authoritative, records });
                Reading { negative_ttl, extended, ..answer }
            }
        }
    }
}

fn ask(server: SocketAddr, question: &Question, mode: Mode) -> Ask {
    Ask { server, name: question.name.clone(), rtype: question.rtype, mode }
}

/// A zone above the registered domain means that nobody registered it.
fn zone_view(host: &Hostname, located: Located) -> ZoneView {
    match located {
        Located::Dead { zone, tried } => ZoneView::Unreachable { zone, tried },
        Located::Zone { apex, servers, by, delegation } => {
            let registered = host.registered();
            if apex != registered && names::is_within(registered, &apex) {
                let server = format!("{} ({})", by.name, by.address);
                let registered = registered.to_owned();
                return ZoneView::Unregistered { registered, registry: apex, server };
            }
            ZoneView::Found { apex, servers, delegation }
        }
    }
}

//! All readings for one domain.

use std::collections::BTreeMap;
use std::net::SocketAddr;

use futures::future::join_all;
use nomenta_core::hostname::Hostname;
use nomenta_core::names;
use nomenta_core::reading::{Outcome, Reading, Source};
use nomenta_core::survey::{Authority, Question, Survey, ZoneView, questions};

use crate::exchange::{self, Exchange};
use crate::walk::{Located, Walker};
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

    /// Reads everything that `host` needs, its token expected at `challenge`.
    ///
    /// Trouble on the way is part of the survey, never an error.
    pub async fn survey(&self, host: &Hostname, challenge: &str) -> Survey {
        let at = std::time::SystemTime::now().into();
        let zone = zone_view(host, self.walker.locate(&self.exchange, host.as_str()).await);
        let readings = match &zone {
            ZoneView::Found { apex, servers } => {
                self.ask_all(&questions(host, challenge, apex), apex, servers).await
            }
            _ => Vec::new(),
        };
        Survey { host: host.clone(), at, zone, readings }
    }

    async fn ask_all(&self, list: &[Question], apex: &str, servers: &[Authority]) -> Vec<Reading> {
        // One address may serve under several names; it is asked once.
        let by_address: BTreeMap<_, _> = servers.iter().map(|s| (s.address, s)).collect();
        // CAA is climbed above the apex, where only a resolver can answer.
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
            return reading(source, question, Outcome::Guarded, 0);
        }
        let socket = SocketAddr::new(server.address, self.config.authority_port);
        let (got, rtt) = self.exchange.ask(socket, &question.name, question.rtype, false).await;
        reading(source, question, exchange::outcome(got), rtt.as_millis())
    }

    async fn ask_vantage(&self, vantage: &Vantage, question: &Question) -> Reading {
        let (got, rtt) = self.exchange.ask(vantage.address, &question.name, question.rtype, true).await;
        let source = Source::Vantage { name: vantage.name.clone() };
        reading(source, question, exchange::outcome(got), rtt.as_millis())
    }
}

fn reading(source: Source, question: &Question, outcome: Outcome, rtt: u128) -> Reading {
    let Question { name, rtype, .. } = question.clone();
    Reading { source, name, rtype, outcome, rtt_ms: u32::try_from(rtt).unwrap_or(u32::MAX) }
}

/// A zone above the registered domain means that nobody registered it.
fn zone_view(host: &Hostname, located: Located) -> ZoneView {
    match located {
        Located::Dead { zone, tried } => ZoneView::Unreachable { zone, tried },
        Located::Zone { apex, servers, by, .. } => {
            let registered = host.registered();
            if apex != registered && names::is_within(registered, &apex) {
                let server = format!("{} ({})", by.name, by.address);
                let registered = registered.to_owned();
                return ZoneView::Unregistered { registered, registry: apex, server };
            }
            ZoneView::Found { apex, servers }
        }
    }
}

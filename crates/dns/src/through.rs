//! Reading through the vantages, however each is reached.

use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4};
use std::time::Duration;

use futures::future::join_all;
use nomenta_core::reading::answer::{Outcome, Rcode, Reading, Source};
use nomenta_core::reading::target::Question;
use tokio::time::timeout_at;

use crate::Surveyor;
use crate::ask::{Answered, Ask, Got};
use crate::budget::{Budget, Round};
use crate::surveyor::{ask, read};
use crate::vantage::{Transport, Vantage};
use crate::wire::Mode;

/// Stands where a vantage over HTTPS has no use for an address.
const UNUSED: SocketAddr = SocketAddr::V4(SocketAddrV4::new(Ipv4Addr::UNSPECIFIED, 0));

impl Surveyor {
    /// Asks every vantage the same.
    pub(crate) async fn read_vantages(&self, asked: &[&Question], round: Round<'_>) -> Vec<Reading> {
        let vantages = self.config.vantages.iter().map(|vantage| self.read_vantage(vantage, asked, round));
        join_all(vantages).await.into_iter().flatten().collect()
    }

    /// Asks one vantage. After SERVFAIL it is asked the same with DNSSEC
    /// checking off, which tells a broken chain of trust from a broken server;
    /// and where that is answered once more as before, since a server that was
    /// merely slow, or had enough of questions, is no broken chain either.
    pub(crate) async fn read_vantage(
        &self,
        vantage: &Vantage,
        asked: &[&Question],
        round: Round<'_>,
    ) -> Vec<Reading> {
        let at = vantage.address();
        let asks: Vec<_> = asked.iter().map(|question| ask(at, question, Mode::Vantage)).collect();
        let answers = self.ask_vantage(vantage, &asks, round).await;

        let source = Source::Vantage { name: vantage.name.clone() };
        let mut readings = Vec::with_capacity(asked.len());
        for (question, answered) in asked.iter().zip(answers) {
            readings.push(read(source.clone(), question, answered, round.budget));
        }

        let failed: Vec<_> = (0..readings.len()).filter(|place| has_failed(&readings[*place])).collect();
        let again = failed.iter().map(|place| Ask { mode: Mode::Unchecked, ..asks[*place].clone() });
        let again: Vec<_> = again.collect();
        for (place, (got, _)) in failed.into_iter().zip(self.ask_vantage(vantage, &again, round).await) {
            readings[place].unchecked = rcode(got);
        }

        let refused: Vec<_> =
            (0..readings.len()).filter(|place| readings[*place].is_refused_for_its_signatures()).collect();
        let again: Vec<_> = refused.iter().map(|place| asks[*place].clone()).collect();
        for (place, answered) in refused.into_iter().zip(self.ask_vantage(vantage, &again, round).await) {
            let once_more = read(source.clone(), asked[place], answered, round.budget);
            if once_more.answer().is_some() {
                readings[place] = once_more;
            }
        }
        readings
    }

    /// Puts questions to a vantage, however it is reached.
    async fn ask_vantage(&self, vantage: &Vantage, asks: &[Ask], round: Round<'_>) -> Vec<Answered> {
        let asked = timeout_at(round.deadline, self.put_to_vantage(vantage, asks, round.budget)).await;
        asked.unwrap_or_else(|_| vec![(Got::Late, Duration::ZERO); asks.len()])
    }

    async fn put_to_vantage(&self, vantage: &Vantage, asks: &[Ask], budget: &Budget) -> Vec<Answered> {
        if asks.is_empty() {
            return Vec::new();
        }
        match (&vantage.transport, &self.secure) {
            (Transport::Plain(_), _) => self.exchange.ask_all(asks.to_vec(), budget).await,
            (Transport::Tls { address, name }, Some(secure)) => secure.by_tls(*address, name, asks).await,
            (Transport::Https { url }, Some(secure)) => secure.by_https(url, asks).await,
            // There is a client for them wherever there is such a vantage.
            (Transport::Tls { .. } | Transport::Https { .. }, None) => Vec::new(),
        }
    }
}

impl Vantage {
    fn address(&self) -> SocketAddr {
        match &self.transport {
            Transport::Plain(address) | Transport::Tls { address, .. } => *address,
            Transport::Https { .. } => UNUSED,
        }
    }
}

fn has_failed(reading: &Reading) -> bool {
    matches!(reading.outcome, Outcome::Answer { rcode: Rcode::ServFail, .. })
}

fn rcode(got: Got) -> Option<Rcode> {
    match got {
        Got::Reply(reply) => Some(reply.rcode),
        _ => None,
    }
}

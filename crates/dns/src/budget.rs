//! What one look may cost, whatever strangers publish.

use std::collections::{BTreeSet, HashMap};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use nomenta_core::name::dns::DnsName;
use nomenta_core::name::hostname::Hostname;
use nomenta_core::reading::cut::{Cut, Limit};
use thiserror::Error;

use crate::SurveyLimits;

/// Zones that are told of, of those at which something ran out.
const MOST_TOLD: usize = 8;

/// What is left for one look: for its walks and for its readings.
pub(crate) struct Budget {
    limits: SurveyLimits,
    /// When the look began.
    pub begun: Instant,
    /// When walks are over.
    deadline: Instant,
    left: Mutex<Left>,
}

/// A round of readings: what it may cost, and until when it is waited for.
#[derive(Clone, Copy)]
pub(crate) struct Round<'a> {
    pub budget: &'a Budget,
    pub deadline: tokio::time::Instant,
    /// The same for a server that has to be asked slowly.
    pub patience: tokio::time::Instant,
}

struct Left {
    questions: u32,
    octets: u32,
    connections: u32,
    /// Name servers that were looked for, by the domain that they are in.
    looked_for: HashMap<String, u32>,
    cuts: BTreeSet<Cut>,
}

/// It ran out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("the look had used up its {0}")]
pub(crate) struct Spent(pub Limit);

impl Budget {
    pub(crate) fn new(limits: SurveyLimits) -> Self {
        let SurveyLimits { questions, octets, connections, .. } = limits;
        let left = Left { questions, octets, connections, looked_for: HashMap::new(), cuts: BTreeSet::new() };
        let begun = Instant::now();
        Self { limits, begun, deadline: begun + limits.walk, left: Mutex::new(left) }
    }

    /// The budget of a round of quick looks: no walk may take longer than the round.
    pub(crate) fn quick(limits: SurveyLimits) -> Self {
        Self::new(SurveyLimits { walk: limits.quick.min(limits.walk), ..limits })
    }

    /// A round that begins now.
    pub(crate) fn round(&self) -> Round<'_> {
        let now = tokio::time::Instant::now();
        let patience = self.limits.patience.max(self.limits.readings);
        Round { budget: self, deadline: now + self.limits.readings, patience: now + patience }
    }

    /// The same limits as it began with.
    pub(crate) fn limits(&self) -> &SurveyLimits {
        &self.limits
    }

    /// How long walks may still take.
    pub(crate) fn left_for_walks(&self) -> std::time::Duration {
        self.deadline.saturating_duration_since(Instant::now())
    }

    /// Takes one question of a walk out of it; `zone` is the one whose servers are asked.
    ///
    /// # Errors
    /// [`Spent`] once nothing is left.
    pub(crate) fn question(&self, zone: &DnsName) -> Result<(), Spent> {
        if Instant::now() >= self.deadline {
            return Err(self.spent(Limit::Time, zone));
        }

        let taken = take(&mut self.left().questions, 1);
        if taken { Ok(()) } else { Err(self.spent(Limit::Questions, zone)) }
    }

    /// Takes the address of a name server out of it that has to be looked for.
    ///
    /// # Errors
    /// [`Spent`] where as many were in the same domain.
    pub(crate) fn look_for(&self, server: &str) -> Result<(), Spent> {
        let registered = Hostname::kept(server).registered().to_owned();
        let mut left = self.left();
        let count = left.looked_for.entry(registered.clone()).or_default();
        *count += 1;
        if *count <= self.limits.lookups {
            return Ok(());
        }
        drop(left);
        Err(self.spent(Limit::Lookups, &DnsName::new(registered)))
    }

    /// Takes a connection by TCP out of it that is about to be made; `name` is the first one asked for.
    ///
    /// # Errors
    /// [`Spent`] once nothing is left.
    pub(crate) fn connection(&self, name: &str) -> Result<(), Spent> {
        let taken = take(&mut self.left().connections, 1);
        if taken { Ok(()) } else { Err(self.spent(Limit::Connections, &DnsName::new(name))) }
    }

    /// Takes the octets of an answer out of it.
    ///
    /// # Errors
    /// [`Spent`] once nothing is left.
    pub(crate) fn octets(&self, name: &DnsName, octets: usize) -> Result<(), Spent> {
        let octets = u32::try_from(octets).unwrap_or(u32::MAX);
        let taken = take(&mut self.left().octets, octets);
        if taken { Ok(()) } else { Err(self.spent(Limit::Octets, name)) }
    }

    /// Writes down that something was left out, and says so.
    pub(crate) fn spent(&self, limit: Limit, at: &DnsName) -> Spent {
        let limits = &self.limits;
        let most = match limit {
            Limit::Time => u32::try_from(limits.walk.as_secs()).unwrap_or(u32::MAX),
            Limit::Questions => limits.questions,
            Limit::Servers => limits.servers,
            Limit::Lookups => limits.lookups,
            Limit::Records => limits.records,
            Limit::Octets => limits.octets,
            Limit::Connections => limits.connections,
            Limit::Aliases => limits.aliases,
        };

        let cuts = &mut self.left().cuts;
        if !cuts.iter().any(|cut| cut.limit == limit) {
            metrics::counter!("nomenta_surveys_cut_short_total", "for_want_of" => limit.as_str())
                .increment(1);
        }
        if cuts.len() < MOST_TOLD {
            cuts.insert(Cut { limit, at: at.clone(), most });
        }
        Spent(limit)
    }

    /// What was left out.
    pub(crate) fn cuts(&self) -> Vec<Cut> {
        self.left().cuts.iter().cloned().collect()
    }

    fn left(&self) -> MutexGuard<'_, Left> {
        self.left.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Takes some of what is left; `false` if there is not as much.
fn take(left: &mut u32, count: u32) -> bool {
    let rest = left.checked_sub(count);
    *left = rest.unwrap_or(0);
    rest.is_some()
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn questions_and_time_run_out_and_are_told_once() {
        let zone = DnsName::new("onswick.example");
        let limits = SurveyLimits { questions: 2, ..SurveyLimits::default() };
        let budget = Budget::new(limits);
        assert_eq!([budget.question(&zone), budget.question(&zone)], [Ok(()), Ok(())]);
        assert_eq!(budget.question(&zone), Err(Spent(Limit::Questions)));
        assert_eq!(budget.question(&zone), Err(Spent(Limit::Questions)));
        assert_eq!(budget.cuts(), [Cut { limit: Limit::Questions, at: zone.clone(), most: 2 }]);

        let budget = Budget::new(SurveyLimits { walk: Duration::ZERO, ..limits });
        assert_eq!(budget.question(&zone), Err(Spent(Limit::Time)));
    }

    #[test]
    fn name_servers_are_looked_for_by_the_domain_that_they_are_in() {
        let budget = Budget::new(SurveyLimits { lookups: 2, ..SurveyLimits::default() });
        let looked = ["ns1.harrowdns.example", "ns2.eu.harrowdns.example", "ns1.tidewell.test"];
        assert!(looked.iter().all(|server| budget.look_for(server).is_ok()));
        assert_eq!(budget.look_for("ns3.harrowdns.example"), Err(Spent(Limit::Lookups)));
        assert_eq!(budget.cuts()[0].at, "harrowdns.example");
    }

    #[test]
    fn an_answer_that_is_too_large_leaves_nothing() {
        let budget = Budget::new(SurveyLimits { octets: 100, ..SurveyLimits::default() });
        let name = DnsName::new("onswick.example");
        assert_eq!(budget.octets(&name, 60), Ok(()));
        assert_eq!(budget.octets(&name, 60), Err(Spent(Limit::Octets)));
        assert_eq!(budget.octets(&name, 1), Err(Spent(Limit::Octets)));
    }
}

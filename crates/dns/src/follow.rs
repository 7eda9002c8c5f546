//! Following aliases out of a zone, as resolvers do.

use std::collections::BTreeSet;

use futures::future::join_all;
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::cut::Limit;
use nomenta_core::reading::record::RecordType;
use nomenta_core::reading::survey::{Followed, Survey};
use nomenta_core::reading::target::{Question, Target};
use tokio::time::Instant;

use crate::Surveyor;
use crate::budget::Round;
use crate::walk::Located;

/// Ways that aliases part into at once: more come of servers that differ.
const MOST_ENDS: usize = 4;
/// Servers of a zone on the way that are asked about one step.
const ASKED_ON_THE_WAY: usize = 3;

impl Surveyor {
    /// Follows the aliases that lead out of the zone, each step at the servers
    /// of its own zone, as resolvers do: what another server adds about it is
    /// believed by nobody (RFC 2181, section 5.4.1).
    pub(crate) async fn follow(&self, target: &Target, survey: &Survey, round: Round<'_>) -> Vec<Followed> {
        let mut followed = Vec::new();
        let asked: [(&DnsName, &[RecordType]); 2] =
            [(&target.challenge, &[RecordType::Txt]), (&target.routed, &[RecordType::A, RecordType::Aaaa])];

        for (name, types) in asked {
            let mut seen = BTreeSet::from([target.canonical.clone()]);
            let mut ends = survey.ends_outside(name);
            for step in 0.. {
                ends.retain(|end| seen.insert(end.clone()));
                if ends.is_empty() || Instant::now() >= round.deadline {
                    break;
                }
                // Resolvers give up at about as many.
                if step >= round.budget.limits().aliases || ends.len() > MOST_ENDS {
                    round.budget.spent(Limit::Aliases, name);
                    break;
                }

                let steps = ends.iter().map(|end| self.step(end, types, round));
                let steps = join_all(steps).await;
                ends = steps.iter().flat_map(Followed::ends_outside).collect();
                followed.extend(steps);
            }
        }

        followed
    }

    /// What the zone of `name` has there.
    async fn step(&self, name: &DnsName, types: &[RecordType], round: Round<'_>) -> Followed {
        let (apex, mut servers) = match self.walker.locate(&self.exchange, round.budget, name).await {
            Located::Zone { apex, servers, .. } => (apex, servers),
            Located::Dead { zone, tried, .. } => {
                let failure = Some(format!("no name server of {zone} answers: {}", tried.join("; ")));
                return Followed { name: name.clone(), zone, readings: Vec::new(), failure };
            }
        };
        servers.truncate(ASKED_ON_THE_WAY);

        let list: Vec<_> = types
            .iter()
            .map(|rtype| Question { name: name.clone(), rtype: *rtype, vantages: false })
            .collect();
        let mut readings = self.put(self.plan(&list, &apex, &servers), round).await;
        readings.retain(|reading| reading.answer().is_some() && !reading.is_lame());

        let failure = readings.is_empty().then(|| format!("no name server of {apex} answers for it"));
        Followed { name: name.clone(), zone: apex, readings, failure }
    }
}

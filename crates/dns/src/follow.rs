//! Following aliases out of a zone, as resolvers do.

use std::collections::BTreeSet;

use futures::future::join_all;
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::record::RecordType;
use nomenta_core::reading::survey::{Followed, Survey};
use nomenta_core::reading::target::{Question, Target};
use tokio::time::Instant;

use crate::Surveyor;
use crate::walk::Located;

/// Aliases followed in a row; resolvers give up at about as many.
const MOST_STEPS: usize = 12;
/// Servers of a zone on the way that are asked about one step.
const ASKED_ON_THE_WAY: usize = 3;

impl Surveyor {
    /// Follows the aliases that lead out of the zone, each step at the servers
    /// of its own zone, as resolvers do: what another server adds about it is
    /// believed by nobody (RFC 2181, section 5.4.1).
    pub(crate) async fn follow(&self, target: &Target, survey: &Survey, deadline: Instant) -> Vec<Followed> {
        let mut followed = Vec::new();
        let asked: [(&DnsName, &[RecordType]); 2] =
            [(&target.challenge, &[RecordType::Txt]), (&target.routed, &[RecordType::A, RecordType::Aaaa])];

        for (name, types) in asked {
            let mut seen = BTreeSet::from([target.canonical.clone()]);
            let mut ends = survey.ends_outside(name);
            for _ in 0..MOST_STEPS {
                ends.retain(|end| seen.insert(end.clone()));
                if ends.is_empty() || Instant::now() >= deadline {
                    break;
                }

                let steps = ends.iter().map(|end| self.step(end, types, deadline));
                let steps = join_all(steps).await;
                ends = steps.iter().flat_map(Followed::ends_outside).collect();
                followed.extend(steps);
            }
        }

        followed
    }

    /// What the zone of `name` has there.
    async fn step(&self, name: &DnsName, types: &[RecordType], deadline: Instant) -> Followed {
        let (apex, mut servers) = match self.walker.locate(&self.exchange, name).await {
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
        let mut readings = self.put(self.plan(&list, &apex, &servers), deadline).await;
        readings.retain(|reading| reading.answer().is_some() && !reading.is_lame());

        let failure = readings.is_empty().then(|| format!("no name server of {apex} answers for it"));
        Followed { name: name.clone(), zone: apex, readings, failure }
    }
}

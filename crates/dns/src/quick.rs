//! Quick looks at many domains at once: the few readings that tell whether
//! anything has changed.

use std::collections::{BTreeMap, HashMap};
use std::time::SystemTime;

use futures::future::join_all;
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::answer::{Outcome, Reading};
use nomenta_core::reading::survey::{Survey, ZoneView};
use nomenta_core::reading::target::{Depth, Target};

use crate::Surveyor;
use crate::ask::Ask;
use crate::budget::Budget;
use crate::surveyor::zone_view;
use crate::walk::Known;

/// A domain to look at quickly: what it is about, and the zone it was last
/// found in.
#[derive(Clone, Debug)]
pub struct QuickLook {
    /// What it is about.
    pub target: Target,
    /// The zone's apex.
    pub zone: DnsName,
}

impl Surveyor {
    /// Quick surveys of many domains at once, at the servers that their zones
    /// are known to have; `None` where those are not known, or gave no answer
    /// to tell from.
    pub async fn look_quickly(&self, looks: &[QuickLook]) -> Vec<Option<Survey>> {
        let zones = self.known_zones(looks).await;
        let lists: Vec<_> =
            looks.iter().map(|look| look.target.questions(&look.zone, Depth::Quick)).collect();

        let mut plans = Vec::new();
        for (index, (look, list)) in looks.iter().zip(&lists).enumerate() {
            if let Some(known) = zones.get(&look.zone) {
                let plan = self.plan(list, &look.zone, &known.servers).into_iter();
                plans.extend(plan.map(|planned| (index, planned)));
            }
        }
        let asks: Vec<Ask> = plans.iter().filter_map(|(_, planned)| planned.ask.clone()).collect();
        let mut answers = self.exchange.ask_briefly(asks).await.into_iter();

        let at = SystemTime::now().into();
        let mut surveys: Vec<Option<Survey>> = Vec::with_capacity(looks.len());
        for look in looks {
            surveys.push(zones.get(&look.zone).map(|known| Survey {
                host: look.target.host.clone(),
                at,
                zone: known.view(&look.zone),
                readings: Vec::with_capacity(6),
                samples: Vec::new(),
                recent: Default::default(),
                followed: Vec::new(),
                cuts: Vec::new(),
                trust: None,
                signed: None,
                routed: look.target.routed.clone(),
                depth: Depth::Quick,
            }));
        }

        let budgets: Vec<_> = looks.iter().map(|_| Budget::quick(self.config.limits)).collect();
        for (index, planned) in plans {
            let answered = if planned.ask.is_some() { answers.next() } else { None };
            if let Some(survey) = &mut surveys[index] {
                survey.readings.push(planned.read(answered, &budgets[index]));
            }
        }
        for (survey, budget) in surveys.iter_mut().zip(&budgets) {
            // What does not fit in here is for a full look.
            survey.take_if(|survey| !budget.cuts().is_empty() || survey.readings.iter().any(is_unread));
        }
        surveys
    }

    /// The zones of some domains with their servers; a walk finds those that
    /// are not remembered.
    async fn known_zones(&self, looks: &[QuickLook]) -> HashMap<DnsName, Known> {
        let mut zones = HashMap::new();
        let mut unknown = BTreeMap::new();
        for look in looks {
            if zones.contains_key(&look.zone) {
                continue;
            }
            match self.walker.known(&look.zone) {
                Some(known) => drop(zones.insert(look.zone.clone(), known)),
                None => drop(unknown.insert(&look.zone, &look.target.host)),
            }
        }

        let walks = unknown.into_values().map(|host| async {
            let budget = Budget::quick(self.config.limits);
            let located = self.walker.locate(&self.exchange, &budget, host.as_str()).await;
            zone_view(host, located)
        });
        for found in join_all(walks).await {
            if let ZoneView::Found { apex, .. } = found
                && let Some(known) = self.walker.known(&apex)
            {
                zones.insert(apex, known);
            }
        }
        zones
    }
}

fn is_unread(reading: &Reading) -> bool {
    matches!(reading.outcome, Outcome::Unread { .. })
}

impl Known {
    fn view(&self, apex: &DnsName) -> ZoneView {
        ZoneView::Found {
            apex: apex.clone(),
            servers: self.servers.clone(),
            delegation: self.delegation.clone(),
        }
    }
}

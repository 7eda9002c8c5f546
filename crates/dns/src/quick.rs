//! Quick looks at many domains at once: the few readings that tell whether
//! anything has changed.

use std::collections::{BTreeMap, HashMap};
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, SystemTime};

use futures::future::join_all;
use nomenta_core::name::dns::DnsName;
use nomenta_core::reading::answer::{Outcome, Reading, Source};
use nomenta_core::reading::survey::{Survey, ZoneView};
use nomenta_core::reading::target::{Depth, Target};

use crate::Surveyor;
use crate::ask::Ask;
use crate::budget::Budget;
use crate::surveyor::{Planned, zone_view};
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

/// How a quick look went.
#[derive(Clone, Debug)]
pub struct QuickView {
    /// What was read; `None` where the zone's servers are not known, or gave no answer to tell from.
    pub survey: Option<Survey>,
    /// How long asking its servers takes, at the pace that they bear, with all that was asked of
    /// them together.
    pub strain: Duration,
    /// Whether nothing was asked, since its servers have enough to do with the others.
    pub is_put_off: bool,
}

/// Longest that one server is kept busy by the quick looks that are done together: none of them is
/// done before all are, and other sweeps come behind them.
const LONGEST_STRAIN: Duration = Duration::from_millis(500);

impl Surveyor {
    /// Quick surveys of many domains at once, at the servers that their zones
    /// are known to have; those that come first are put off last.
    pub async fn look_quickly(&self, looks: &[QuickLook]) -> Vec<QuickView> {
        let zones = self.known_zones(looks).await;
        let lists: Vec<_> =
            looks.iter().map(|look| look.target.questions(&look.zone, Depth::Quick)).collect();

        let mut busy = Busy::default();
        let mut views = Vec::with_capacity(looks.len());
        let mut plans = Vec::new();
        for (index, (look, list)) in looks.iter().zip(&lists).enumerate() {
            let known = zones.get(&look.zone);
            let plan = known.map(|known| self.plan(list, &look.zone, &known.servers)).unwrap_or_default();
            let Turn { waits, strain } = busy.turn(&plan, |server| self.exchange.gap(server));
            let is_put_off = waits > Duration::ZERO && strain > LONGEST_STRAIN;
            views.push(QuickView { survey: None, strain, is_put_off });
            if !is_put_off {
                plans.extend(plan.into_iter().map(|planned| (index, planned)));
            }
        }
        let asks: Vec<Ask> = plans.iter().filter_map(|(_, planned)| planned.ask.clone()).collect();
        let mut answers = self.exchange.ask_briefly(asks).await.into_iter();

        let at = SystemTime::now().into();
        for (look, view) in looks.iter().zip(&mut views).filter(|(_, view)| !view.is_put_off) {
            view.survey = zones.get(&look.zone).map(|known| Survey {
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
            });
        }

        let budgets: Vec<_> = looks.iter().map(|_| Budget::quick(self.config.limits)).collect();
        for (index, planned) in plans {
            let answered = if planned.ask.is_some() { answers.next() } else { None };
            if let Some(survey) = &mut views[index].survey {
                survey.readings.push(planned.read(answered, &budgets[index]));
            }
        }
        for (view, budget) in views.iter_mut().zip(&budgets) {
            // What does not fit in here is for a full look.
            view.survey.take_if(|survey| !budget.cuts().is_empty() || survey.readings.iter().any(is_unread));
        }
        views
    }

    /// How long what a survey asked of the zone's servers takes at the pace that they bear.
    pub fn strain(&self, survey: &Survey) -> Duration {
        let mut asked: BTreeMap<IpAddr, u32> = BTreeMap::new();
        for reading in &survey.readings {
            if let Source::Authority { address, .. } = reading.source {
                *asked.entry(address).or_default() += 1;
            }
        }
        let strains = asked.into_iter().map(|(address, questions)| {
            self.exchange.gap(SocketAddr::new(address, self.config.authority_port)) * questions
        });
        strains.max().unwrap_or_default()
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

/// How long each server is kept busy by what is asked of it.
#[derive(Default)]
struct Busy(HashMap<SocketAddr, Duration>);

/// When the questions of one look come to their turn.
#[derive(Default)]
struct Turn {
    /// How long the others before them take, at the busiest of their servers.
    waits: Duration,
    /// How long they take with those.
    strain: Duration,
}

impl Busy {
    /// The turn of some questions, which come after all those before.
    fn turn(&mut self, plan: &[Planned<'_>], gap: impl Fn(SocketAddr) -> Duration) -> Turn {
        let mut added: BTreeMap<SocketAddr, Duration> = BTreeMap::new();
        for ask in plan.iter().filter_map(|planned| planned.ask.as_ref()) {
            *added.entry(ask.server).or_default() += gap(ask.server);
        }

        let mut turn = Turn::default();
        for (server, more) in added {
            let busy = self.0.entry(server).or_default();
            turn.waits = turn.waits.max(*busy);
            *busy += more;
            turn.strain = turn.strain.max(*busy);
        }
        turn
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

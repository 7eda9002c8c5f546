//! Servers and resolvers that fall silent for a while under domains that are live.

use std::time::{Duration, Instant};

use chrono::Utc;
use futures::StreamExt;
use futures::stream;
use nomenta_core::judge::gate::{GateName, Gates};
use nomenta_core::judge::step::{Outcome, step};
use nomenta_core::reading::target::Depth;
use nomenta_dns::Surveyor;
use nomenta_world::others::{self, Others};

use super::states::At;
use super::{Evidence, SETTLING, domain, listed, platform, policy, zone_text};
use crate::stage::heavy;

/// How long they say nothing.
const OUTAGE: Duration = Duration::from_secs(20);
/// Looks under way at once.
const AT_ONCE: usize = 25;

/// Who says nothing.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Silent {
    Vantages,
    Servers,
    Both,
}

impl Silent {
    async fn hold(self, world: &Others, is_held: bool) {
        if self != Self::Servers {
            world.hold_resolvers(is_held).await.expect("held");
        }
        if self != Self::Vantages {
            world.hold_authorities(is_held).await.expect("held");
        }
    }
}

/// Zones of domains that are live.
pub(super) fn zones() -> Vec<others::Zone> {
    let apexes = (0..heavy(100, 8)).map(|n| format!("live{n:03}.example"));
    // Resolvers hold it for longer than the silence lasts.
    let lines = ["$TTL 300", "_quaymark-challenge.www TXT TOKEN", "www CNAME CANONICAL"];
    let zones = apexes.map(|apex| {
        let text = zone_text(&apex, At::Operator, &lines);
        others::Zone { apex, text, listed: listed(At::Operator) }
    });
    zones.collect()
}

/// One domain, and where its gates stand.
struct Live {
    zone: String,
    gates: Gates,
}

impl Live {
    /// Looks at it, from where the last look left it.
    async fn look(&mut self, surveyor: &Surveyor) -> Outcome {
        let mut domain = domain(&format!("www.{}", self.zone), &self.zone);
        domain.gates = self.gates.clone();
        let survey = surveyor.survey(&domain.target(&platform()), Depth::Full).await;

        let evidence = Evidence { survey: Some(survey), ..Evidence::default() };
        let outcome = step(&domain, &platform(), &evidence, &policy(), Utc::now());
        self.gates = outcome.gates.clone();
        outcome
    }

    fn is_there(&self) -> bool {
        self.gates.passed(GateName::Ownership) && self.gates.passed(GateName::Routing)
    }
}

/// The zones that are not live, and why.
fn not_there(live: &[Live]) -> String {
    let told = live.iter().filter(|one| !one.is_there()).map(|one| {
        let reasons: Vec<_> = one.gates.0[..2].iter().map(|gate| gate.reason.as_str()).collect();
        format!("\n{}: {}", one.zone, reasons.join(" "))
    });
    told.collect()
}

/// Looks at every one; what was judged of each.
async fn look_at_all(surveyor: &Surveyor, live: &mut [Live]) -> Vec<Outcome> {
    let mut looks = Vec::new();
    for one in live {
        looks.push(one.look(surveyor));
    }
    stream::iter(looks).buffer_unordered(AT_ONCE).collect().await
}

/// Silence of 20 s takes no gate from any domain, and every reason is true.
pub(super) async fn live_through(surveyor: &Surveyor, world: &Others) {
    let zones = zones().into_iter().map(|zone| zone.apex);
    let mut live: Vec<_> = zones.map(|zone| Live { zone, gates: Gates::new(Utc::now()) }).collect();
    // A look that a busy machine was too slow for is made again, as it is by the service;
    // resolvers go on for a while to tell of what they could not find out.
    let begun = Instant::now();
    while !not_there(&live).is_empty() && begun.elapsed() < SETTLING {
        look_at_all(surveyor, &mut live).await;
    }
    let missing = not_there(&live);
    assert!(missing.is_empty(), "all of them are live before, but:{missing}");

    for silent in [Silent::Vantages, Silent::Servers, Silent::Both] {
        silent.hold(world, true).await;
        let begun = Instant::now();
        let mut judged = Vec::new();
        while begun.elapsed() < OUTAGE {
            judged.extend(look_at_all(surveyor, &mut live).await);
        }
        silent.hold(world, false).await;

        for outcome in &judged {
            told_truly(silent, outcome);
        }
        let missing = not_there(&live);
        assert!(missing.is_empty(), "{silent:?}, after {} looks:{missing}", judged.len());

        look_at_all(surveyor, &mut live).await;
        let missing = not_there(&live);
        assert!(missing.is_empty(), "{silent:?}, afterwards:{missing}");
    }
}

fn told_truly(silent: Silent, outcome: &Outcome) {
    let reasons = outcome.gates.0[..2].iter().map(|gate| gate.reason.as_str());
    let reasons: Vec<_> = reasons.collect();
    let said = reasons.join(" ");

    assert!(!said.contains("older answer"), "nobody holds one: {said}");
    let (told, codes): (&str, usize) = match silent {
        Silent::Vantages => ("centre and east are silent", 0),
        Silent::Servers => ("No name server of live", outcome.findings.len().min(1)),
        Silent::Both => ("it may be the platform's own network", 0),
    };
    assert!(said.contains(told), "{silent:?}: {said}");
    assert_eq!(outcome.findings.len(), codes, "{silent:?}: {:?}", outcome.findings);
}

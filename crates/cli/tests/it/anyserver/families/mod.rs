//! The diagnosis against families of servers with their features switched on, below a signed root:
//! what is judged, and that it stays so from check to check.

mod random;
mod states;

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use chrono::Utc;
use futures::StreamExt;
use futures::stream;
use nomenta_core::judge::certificate::{CertificateFacts, Held, Origin};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::evidence::{Evidence, Probe, ProbeResult};
use nomenta_core::judge::gate::Stage;
use nomenta_core::judge::step::{Outcome, step};
use nomenta_core::reading::survey::Survey;
use nomenta_core::reading::target::Depth;
use nomenta_dns::Surveyor;
use nomenta_world::Layout;
use nomenta_world::families::{self, Families, Zone};

use self::states::State;
use super::{codes, domain, filled, platform, policy, surveyor};
use crate::stage::{BASE_PORT, heavy, run, state_folder};
use crate::turns;

const PORT: u16 = BASE_PORT + 360;
/// How long it may take until what is seen is known for what it is: resolvers hold answers for five
/// seconds, and a server that limits rates is found out.
const SETTLING: Duration = Duration::from_secs(120);
/// States that are looked at at once.
const AT_ONCE: usize = 12;

/// One domain, from check to check.
struct Checked<'a> {
    state: &'a State,
    domain: nomenta_core::judge::domain::Domain,
    before: Option<Survey>,
}

impl<'a> Checked<'a> {
    fn new(state: &'a State) -> Self {
        let apex = &state.zone.apex;
        let host = if state.host == "@" { apex.clone() } else { format!("{}.{apex}", state.host) };
        Self { state, domain: domain(&host, apex), before: None }
    }

    async fn check(&mut self, surveyor: &Surveyor) -> Outcome {
        let mut survey = surveyor.survey(&self.domain.target(&platform()), Depth::Full).await;
        survey.remember(self.before.as_ref());
        self.before = Some(survey.clone());

        let evidence = Evidence { survey: Some(survey), ..self.served() };
        let outcome = step(&self.domain, &platform(), &evidence, &policy(), Utc::now());
        self.domain.gates = outcome.gates.clone();
        outcome
    }

    /// A certificate that is held and served: what DNS says is all that may keep a gate from passing.
    fn served(&self) -> Evidence {
        let facts = CertificateFacts {
            serial: "5e71a1".into(),
            issuer: "CN=Stampworks".into(),
            names: vec![self.domain.routed().to_string()],
            not_before: Utc::now(),
            not_after: Utc::now() + chrono::Duration::days(90),
        };
        let results = self.domain.ingress.addresses().into_iter().map(|address| ProbeResult {
            address,
            served: Some(facts.clone()),
            tls_failure: None,
            redirect_failure: None,
            pair_failure: None,
        });
        Evidence {
            probe: Some(Probe { results: results.collect(), default_host: None }),
            certificate: Some(Held { facts, origin: Origin::Ordered, renew_at: None }),
            ..Evidence::default()
        }
    }

    fn is_right(&self, outcome: &Outcome) -> bool {
        let want: BTreeSet<Code> = self.state.want.iter().copied().collect();
        let passed = outcome.gates.stage() == Stage::Live;
        codes(outcome) == want && passed == self.state.passes
    }
}

fn told(state: &State, check: usize, outcome: &Outcome) -> String {
    let found: Vec<_> = outcome.findings.iter().map(|f| format!("{}: {}", f.code, f.remedy)).collect();
    let gates: Vec<_> =
        outcome.gates.0.iter().map(|gate| format!("{}: {}", gate.state, gate.reason)).collect();
    format!(
        "{} ({}, check {check}): wanted {:?}, passing {}\n    {}\n    {}",
        state.name,
        state.zone.apex,
        state.want,
        state.passes,
        found.join("\n    "),
        gates.join("\n    ")
    )
}

/// Looks until the state is judged as by hand, and then so many times more; what was judged
/// otherwise.
async fn judged(surveyor: &Surveyor, state: &State, checks: usize) -> Option<String> {
    let mut checked = Checked::new(state);
    let begun = Instant::now();
    let mut outcome = checked.check(surveyor).await;
    while !checked.is_right(&outcome) {
        if begun.elapsed() > SETTLING {
            return Some(told(state, 0, &outcome));
        }
        outcome = checked.check(surveyor).await;
    }

    for check in 1..checks {
        let outcome = checked.check(surveyor).await;
        if !checked.is_right(&outcome) {
            return Some(told(state, check, &outcome));
        }
    }
    None
}

#[test]
fn signed_varying_failing_and_limiting_servers_are_judged_rightly_check_after_check() {
    let _turn = turns::to_fill_the_machine();
    run(async {
        let layout = Layout::new(&state_folder("families"), PORT).expect("a layout");
        let seed: u64 = rand::random();
        let states = [states::all(), random::zones(seed, heavy(300, 24))].concat();
        let zones: Vec<Zone> = states.iter().flat_map(State::zones).collect();
        let world = Families::start(&layout, &zones).await.expect("the world of families starts");
        let surveyor = surveyor(families::ROOT, world.port(), world.resolvers());

        let checks = heavy(60, 6);
        let mut looks = Vec::new();
        for state in &states {
            looks.push(judged(&surveyor, state, checks));
        }
        let wrong: Vec<Option<String>> = stream::iter(looks).buffer_unordered(AT_ONCE).collect().await;
        let wrong: Vec<String> = wrong.into_iter().flatten().collect();
        assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), states.len(), wrong.join("\n"));
    });
}

/// The lines of a zone with what its words stand for.
fn filled_zone(zone: Zone) -> Zone {
    let lines = zone.lines.iter().map(|line| filled(line, &zone.apex)).collect();
    Zone { lines, ..zone }
}

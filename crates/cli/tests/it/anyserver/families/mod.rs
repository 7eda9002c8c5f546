//! The diagnosis against families of servers with their features switched on, below a signed root:
//! what is judged, and that it stays so from check to check.

mod followed;
mod random;
mod states;

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use chrono::Utc;
use futures::StreamExt;
use futures::stream;
use nomenta_core::judge::behind::{Behind, Visit};
use nomenta_core::judge::case::Case;
use nomenta_core::judge::certificate::{CertificateFacts, Held, Origin};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::edit::{self, Edit, EditKind};
use nomenta_core::judge::evidence::{Evidence, Probe, ProbeResult};
use nomenta_core::judge::gate::Stage;
use nomenta_core::judge::step::{Outcome, step};
use nomenta_core::judge::todo;
use nomenta_core::reading::survey::Survey;
use nomenta_core::reading::target::Depth;
use nomenta_dns::Surveyor;
use nomenta_world::Layout;
use nomenta_world::families::{self, Families, Zone};

use self::states::{Mended, State};
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

    /// The customer's list, by the latest check.
    fn list(&self, outcome: &Outcome) -> Vec<Edit> {
        let Some(survey) = &self.before else { return Vec::new() };
        let (platform, policy, evidence) = (platform(), policy(), self.served());
        let case = Case::new(&self.domain, &platform, survey, &evidence, &policy, Utc::now());
        todo::list(&case, &outcome.findings)
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
            behind: Behind::Visited(Visit::default()),
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

/// A state, and what its list comes to.
struct Listed<'a> {
    state: &'a State,
    list: Vec<Edit>,
    /// What the list was for.
    cures: BTreeSet<Code>,
}

/// Looks until the state is judged as by hand, and then so many times more; what the list says at the
/// end.
///
/// # Errors
/// With what was judged otherwise.
async fn judged<'a>(surveyor: &Surveyor, state: &'a State, checks: usize) -> Result<Listed<'a>, String> {
    let mut checked = Checked::new(state);
    let begun = Instant::now();
    let mut outcome = checked.check(surveyor).await;
    while !checked.is_right(&outcome) {
        if begun.elapsed() > SETTLING {
            return Err(told(state, 0, &outcome));
        }
        outcome = checked.check(surveyor).await;
    }

    for check in 1..checks {
        outcome = checked.check(surveyor).await;
        if !checked.is_right(&outcome) {
            return Err(told(state, check, &outcome));
        }
    }

    let mut list = checked.list(&outcome);
    list.retain(|edit| edit.kind != EditKind::Keep);
    let cures = outcome.findings.iter().filter(|finding| !finding.edits.is_empty());
    Ok(Listed { state, list, cures: cures.map(|finding| finding.code).collect() })
}

/// Looks until a state whose list was followed is as the list had promised; what is otherwise.
async fn cured(surveyor: &Surveyor, listed: &Listed<'_>) -> Option<String> {
    let mut checked = Checked::new(listed.state);
    let begun = Instant::now();
    loop {
        let outcome = checked.check(surveyor).await;
        let left = codes(&outcome);
        let before: BTreeSet<Code> = listed.state.want.iter().copied().collect();
        let is_right = left.is_disjoint(&listed.cures) && left.is_subset(&before);
        let passes = !left.is_empty() || outcome.gates.stage() == Stage::Live;
        if is_right && passes {
            return None;
        }
        if begun.elapsed() > SETTLING {
            let list = edit::sentences(&listed.list);
            return Some(format!("{}\n    after: {list}", told(listed.state, 0, &outcome)));
        }
    }
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
        let judged: Vec<_> = stream::iter(looks).buffer_unordered(AT_ONCE).collect().await;
        let (mut listed, mut wrong) = (Vec::new(), Vec::new());
        for one in judged {
            match one {
                Ok(one) => listed.push(one),
                Err(told) => wrong.push(told),
            }
        }
        assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), states.len(), wrong.join("\n"));
        world.stop().await;

        follow_all(&layout, &states, listed).await;
    });
}

/// Has every list followed to the letter, and looks again: what it was for is gone, and nothing new
/// has come.
async fn follow_all(layout: &Layout, states: &[State], mut listed: Vec<Listed<'_>>) {
    for one in listed.iter().filter(|one| one.state.want.is_empty()) {
        assert!(one.list.is_empty(), "{}: {}", one.state.name, edit::sentences(&one.list));
    }
    listed.retain(|one| !one.list.is_empty() && one.state.mended == Mended::ByList);
    assert!(listed.len() > 10, "{} lists", listed.len());

    let followed = |zone: Zone| match listed.iter().find(|one| one.state.zone.apex == zone.apex) {
        Some(one) => followed::followed(&one.state.zone, &one.list),
        None => zone,
    };
    let zones: Vec<Zone> = states.iter().flat_map(State::zones).map(followed).collect();
    let world = Families::start(layout, &zones).await.expect("the world starts again");
    let surveyor = surveyor(families::ROOT, world.port(), world.resolvers());
    let looks = listed.iter().map(|one| cured(&surveyor, one)).collect::<Vec<_>>();
    let wrong: Vec<Option<String>> = stream::iter(looks).buffer_unordered(AT_ONCE).collect().await;
    let wrong: Vec<String> = wrong.into_iter().flatten().collect();
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), listed.len(), wrong.join("\n"));
}

/// The lines of a zone with what its words stand for.
fn filled_zone(zone: Zone) -> Zone {
    let lines = zone.lines.iter().map(|line| filled(line, &zone.apex)).collect();
    Zone { lines, ..zone }
}

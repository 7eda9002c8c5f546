//! The diagnosis against servers of every kind: the same states of zones, judged
//! by hand first, in worlds of different servers.

mod families;
mod outage;
mod states;

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::time::Instant;

use chrono::{Duration, Utc};
use futures::StreamExt;
use futures::stream;
use nomenta_core::judge::behind::{Behind, Forward, Visit};
use nomenta_core::judge::case::Case;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::domain::{Domain, Ties};
use nomenta_core::judge::edit::{self, Edit, EditKind};
use nomenta_core::judge::evidence::Evidence;
use nomenta_core::judge::findings;
use nomenta_core::judge::gate::{GateName, Gates};
use nomenta_core::judge::policy::Policy;
use nomenta_core::judge::step::{Outcome, step};
use nomenta_core::judge::todo;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::hostname::Hostname;
use nomenta_core::name::platform::Platform;
use nomenta_core::name::token::Token;
use nomenta_core::reading::record::{Record, RecordData};
use nomenta_core::reading::target::Depth;
use nomenta_core::rehearsal;
use nomenta_core::sheet::ingress::{CanonicalHost, Ingress};
use nomenta_dns::{DnsConfig, Egress, Politeness, SurveyLimits, Surveyor, Transport, Vantage};
use nomenta_world::layout::{HARROW, PRIMARY, ROOT};
use nomenta_world::others::{self, Others};
use nomenta_world::stub::{self, Habit};
use nomenta_world::zones::{NewZone, servers};
use nomenta_world::{Layout, World};

use self::states::{At, Known, State};
use crate::stage::{BASE_PORT, run, stage, state_folder};
use crate::turns;

const CANONICAL: &str = "onswick.edge.quaymark.example";
/// First port of the other world's.
const OTHERS_PORT: u16 = BASE_PORT + 300;
/// How long resolvers may hold what stood there before.
const SETTLING: std::time::Duration = std::time::Duration::from_secs(240);
/// Most looks at what one has judged otherwise than by hand.
const AGAIN: usize = 3;
/// Surveys under way at once.
const AT_ONCE: usize = 12;

fn token() -> Token {
    Token::from_random([0xa7; 20])
}

fn former_token() -> Token {
    Token::from_random([0x5c; 20])
}

fn platform() -> Platform {
    Platform {
        zone: "quaymark.example".into(),
        brand: "quaymark".into(),
        proof_zone: Some("proof.quaymark.example".into()),
        acme_zone: None,
        dns_for_all: false,
        special_use: vec!["example".into(), "test".into()],
        reserved: Vec::new(),
    }
}

fn policy() -> Policy {
    Policy { ca_identities: vec!["stampworks-ca.example".into()], ..Policy::default() }
}

fn domain(host: &str, zone: &str) -> Domain {
    let now = Utc::now();
    Domain {
        host: Hostname::parse(host).expect("a host"),
        site: "onswick".into(),
        ingress: Ingress {
            name: "harbour".into(),
            revision: 1,
            ipv4: [[127, 77, 0, 10].into(), [127, 77, 0, 11].into()].into(),
            ipv6: ["::1".parse().expect("an address")].into(),
            canonical: CanonicalHost::parse("{site}.edge.quaymark.example").expect("a pattern"),
            name_servers: ["ns1.quaymark.example".into(), "ns2.quaymark.example".into()].into(),
            subdomain_addresses: true,
        },
        wildcard: false,
        token: token(),
        token_expires_at: now + Duration::days(30),
        superseded: vec![former_token()],
        mail_before: Vec::new(),
        moved_at: now,
        gates: Gates::new(now),
        zone: zone.into(),
        fingerprint: None,
        enrolled_at: now,
        pair: None,
        ties: Ties::default(),
    }
}

/// The name servers that a state's zone lists, with the addresses of those that
/// have any of their own.
fn listed(at: At) -> Vec<(String, Option<Ipv4Addr>)> {
    let own: Vec<_> = servers(HARROW).into_iter().map(|(name, ip)| (name, Some(ip))).collect();
    let first = own[..1].to_vec();
    let stub = |habit: Habit| (format!("{habit}.habits.test"), None);
    match at {
        At::Operator => own,
        At::Stub(habit) => vec![stub(habit)],
        At::Beside(habit) => [first, vec![stub(habit)]].concat(),
        At::Named(name) => vec![(name.to_owned(), None)],
        At::AlsoNamed(name) => [first, vec![(name.to_owned(), None)]].concat(),
    }
}

fn zone_text(zone: &str, at: At, lines: &[&str]) -> String {
    let mut text = format!(
        "$ORIGIN {zone}.\n$TTL 5\n@ SOA a.registry.example. hostmaster.registry.example. 1 3600 600 86400 2\n"
    );
    for (server, _) in listed(at) {
        text.push_str(&format!("@ NS {server}.\n"));
    }
    for line in lines {
        text.push_str(&filled(line, zone));
        text.push('\n');
    }
    text
}

/// What a server is given for a zone: one that holds an alias beside other records
/// has it as a text, since it could not be loaded.
fn served(at: At, text: &str) -> String {
    if !matches!(at, At::Stub(Habit::AliasBeside)) {
        return text.to_owned();
    }

    let stands_alone = |alias: &str, owner: &str| {
        let owner = format!("{owner} ");
        !text.lines().any(|line| line != alias && line.starts_with(&owner))
    };
    let lines = text.lines().map(|line| match line.split_once(" CNAME ") {
        Some(("@", target)) => format!("_alias TXT \"{target}\""),
        Some((owner, target)) if !stands_alone(line, owner) => format!("_alias.{owner} TXT \"{target}\""),
        _ => line.to_owned(),
    });
    lines.collect::<Vec<_>>().join("\n") + "\n"
}

/// A line with what its words stand for.
fn filled(line: &str, zone: &str) -> String {
    if let Some(owner) = line.strip_prefix("MANY ") {
        let texts = (0..20).map(|n| format!("{owner} TXT \"{n:0200}\"\n"));
        return texts.collect();
    }

    if let Some(owner) = line.strip_prefix("LOTS ") {
        return (1..29).map(|n| format!("{owner} A 192.0.2.{n}\n")).collect();
    }

    let token = token();
    line.replace("TOKEN", &token.txt_value())
        // Some master files take no other than letters as they are.
        .replace("NAMED", &format!("token\\061{}", token.as_str()))
        .replace("UPPER", &token.txt_value().to_uppercase())
        .replace("BARE", token.as_str())
        .replace("OLD", &former_token().txt_value())
        .replace("CANONICAL", &format!("{CANONICAL}."))
        .replace("ZONE", zone)
}

fn surveyor(roots: Ipv4Addr, port: u16, vantages: Vec<(String, SocketAddr)>) -> Surveyor {
    let vantages = vantages.into_iter();
    Surveyor::new(DnsConfig {
        roots: vec![IpAddr::V4(roots)],
        authority_port: port,
        vantages: vantages.map(|(name, at)| Vantage { name, transport: Transport::Plain(at) }).collect(),
        vantage_roots: "/nonexistent".into(),
        timeout: std::time::Duration::from_millis(1500),
        tries: 2,
        politeness: Politeness::default(),
        limits: SurveyLimits::default(),
        egress: Egress::loopback(),
    })
    .expect("nothing to trust")
}

/// The domain of a state, and what is known of it beside the zone.
fn known(state: &State, zone: &str) -> (Domain, Evidence) {
    let mut domain = domain(&host_of(state, zone), zone);
    let mut evidence = Evidence::default();
    match state.known {
        Known::Nothing => {}
        Known::Mail => {
            let data = RecordData::Mx { preference: 10, exchange: format!("mx.{zone}").into() };
            domain.mail_before = vec![Record { owner: zone.into(), ttl: 5, data }];
        }
        Known::Forwarding => {
            let location = "https://sites.formerhost.example/".to_owned();
            let forwards = vec![Forward { address: [192, 0, 2, 7].into(), location }];
            evidence.behind = Behind::Visited(Visit { forwards, ..Visit::default() });
        }
    }
    (domain, evidence)
}

/// Looks at a state, and says what is found.
async fn found(surveyor: &Surveyor, state: &State, zone: &str) -> Outcome {
    let (domain, evidence) = known(state, zone);
    let survey = surveyor.survey(&domain.target(&platform()), Depth::Full).await;
    let evidence = Evidence { survey: Some(survey), ..evidence };
    step(&domain, &platform(), &evidence, &policy(), Utc::now())
}

fn codes(outcome: &Outcome) -> BTreeSet<Code> {
    outcome.findings.iter().map(|finding| finding.code).collect()
}

/// The world that the states stand in.
enum Served<'a> {
    Knot(&'a World),
    Others(&'a Others),
}

impl Served<'_> {
    /// Gives zones other texts.
    async fn replace(&self, zones: &[(String, String)]) {
        match self {
            Self::Others(world) => world.replace(zones).expect("written"),
            Self::Knot(world) => {
                for (zone, text) in zones {
                    world.zones.replace(zone, text).await.expect("reloaded");
                }
            }
        }
    }
}

/// What is left to be said once edits were followed to the letter.
struct Followed {
    state: &'static State,
    zone: String,
    edits: Vec<Edit>,
    text: String,
    found: BTreeSet<Code>,
}

/// Follows what each finding says, and then what the whole list says, as a machine
/// would that has never heard of DNS.
async fn follow_all(surveyor: &Surveyor, served: &Served<'_>) {
    let mut by_finding = Vec::new();
    let mut by_list = Vec::new();
    for (index, state) in states::all().enumerate().filter(|(_, state)| !state.want.is_empty()) {
        let zone = zone_of(index);
        let outcome = found(surveyor, state, &zone).await;
        let mut edits: Vec<_> = outcome.findings.iter().flat_map(|f| f.edits.clone()).collect();
        edits.retain(|edit| edit.kind != EditKind::Keep);
        if edits.is_empty() {
            continue;
        }

        let list = list(surveyor, state, &zone).await;
        by_finding.push(followed(state, &zone, edits, &outcome, 2));
        by_list.push(followed(state, &zone, list, &outcome, 3));
    }

    served.replace(&texts(&by_finding)).await;
    let mut wrong =
        settled(surveyor, &by_finding, |outcome, edited| codes(outcome).is_disjoint(&edited.found)).await;

    served.replace(&texts(&by_list)).await;
    let pass = |outcome: &Outcome, _: &Followed| {
        outcome.gates.passed(GateName::Ownership) && outcome.gates.passed(GateName::Routing)
    };
    wrong.extend(settled(surveyor, &by_list, pass).await);
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), by_list.len() * 2, wrong.join("\n"));
}

fn texts(edited: &[Followed]) -> Vec<(String, String)> {
    edited.iter().map(|one| (one.zone.clone(), served(one.state.at, &one.text))).collect()
}

fn followed(state: &'static State, zone: &str, edits: Vec<Edit>, outcome: &Outcome, serial: u32) -> Followed {
    let host = host_of(state, zone);
    let before = zone_text(zone, state.at, state.zone);
    let text = rehearsal::apply(&before, &zone.into(), &edits, &host).expect(state.name);
    let text = text.replacen(" 1 3600 ", &format!(" {serial} 3600 "), 1);
    Followed { state, zone: zone.to_owned(), edits, text, found: codes(outcome) }
}

/// The customer's whole list.
async fn list(surveyor: &Surveyor, state: &State, zone: &str) -> Vec<Edit> {
    let (domain, evidence) = known(state, zone);
    let survey = surveyor.survey(&domain.target(&platform()), Depth::Full).await;
    let policy = policy();
    let platform = platform();
    let case = Case::new(&domain, &platform, &survey, &evidence, &policy, Utc::now());
    let findings = findings::diagnose(&case);
    todo::list(&case, &findings)
}

/// Looks until what is wanted holds for each; what does not come to hold.
async fn settled(
    surveyor: &Surveyor,
    edited: &[Followed],
    holds: impl Fn(&Outcome, &Followed) -> bool,
) -> Vec<String> {
    let mut left: Vec<&Followed> = edited.iter().collect();
    let mut said = Vec::new();
    let deadline = Instant::now() + SETTLING;

    while !left.is_empty() && Instant::now() < deadline {
        said.clear();
        let mut still = Vec::new();
        for one in left {
            let outcome = found(surveyor, one.state, &one.zone).await;
            if !holds(&outcome, one) {
                let gates: Vec<_> = outcome.gates.0[..2].iter().map(|gate| gate.reason.clone()).collect();
                let edits = edit::sentences(&one.edits);
                said.push(format!(
                    "{}: {:?}, {gates:?}\n    after: {edits}",
                    one.state.name,
                    codes(&outcome)
                ));
                still.push(one);
            }
        }
        left = still;
    }
    if left.is_empty() { Vec::new() } else { said }
}

fn host_of(state: &State, zone: &str) -> String {
    if state.host == "@" { zone.to_owned() } else { format!("{}.{zone}", state.host) }
}

async fn look(surveyor: &Surveyor, state: &'static State, zone: String) -> (&'static State, String, Outcome) {
    let outcome = found(surveyor, state, &zone).await;
    (state, zone, outcome)
}

/// The zone of the state at one place of the list.
fn zone_of(index: usize) -> String {
    format!("any{index:03}.example")
}

/// Judges every state, and fails with what was judged otherwise than by hand.
async fn judge_all(surveyor: &Surveyor, want: fn(&State) -> &'static [Code]) {
    let mut looks = Vec::new();
    for (index, state) in states::all().enumerate() {
        looks.push(look(surveyor, state, zone_of(index)));
    }
    let all = looks.len();
    let outcomes: Vec<_> = stream::iter(looks).buffer_unordered(AT_ONCE).collect().await;

    let mut wrong = Vec::new();
    for (state, zone, mut outcome) in outcomes {
        let want: BTreeSet<Code> = want(state).iter().copied().collect();
        // A server that thinks for long may seem silent while all are asked at once: as in the
        // product, one look alone proves nothing.
        let mut again = 0..AGAIN;
        while codes(&outcome) != want && again.next().is_some() {
            outcome = found(surveyor, state, &zone).await;
        }
        let got = codes(&outcome);
        if got != want {
            let said: Vec<_> = outcome.findings.iter().map(|f| format!("{}: {}", f.code, f.remedy)).collect();
            wrong.push(format!("{}: wanted {want:?}, got {got:?}\n    {}", state.name, said.join("\n    ")));
        }
    }
    assert!(wrong.is_empty(), "{} of {all} states:\n{}", wrong.len(), wrong.join("\n"));
}

/// What stands elsewhere, that states lead to; `address` tells where a server with
/// a habit answers.
fn elsewhere(address: fn(Habit) -> Ipv4Addr) -> [(&'static str, String); 2] {
    let mut habits = String::from(
        "none TXT \"no address\"\nalias CNAME ns1.harrowdns.example.\nhere CNAME CANONICAL\n\
         there CNAME pass.onward.test.\nround CNAME about\nabout CNAME round\n\
         _quaymark-challenge.www.good TXT TOKEN\nwww.good CNAME CANONICAL\n",
    );
    for habit in Habit::ALL {
        habits.push_str(&format!("{habit} A {}\n", address(*habit)));
    }
    [("habits.test", habits), ("onward.test", "pass CNAME CANONICAL\n".into())]
}

#[test]
fn knot_and_unbound() {
    let world = &stage().world;
    run(async {
        let port = world.layout.dns_port();
        let _stubs = stub::start(53, port, SocketAddr::from((PRIMARY, port))).await.expect("stubs");

        for (zone, text) in elsewhere(|habit| habit.address(53)) {
            let lines: Vec<_> = text.lines().collect();
            let text = zone_text(zone, At::Operator, &lines);
            world.zones.load(zone, &text, None).await.expect("a zone");
            world.zones.delegate(zone, &servers(HARROW)).await.expect("a delegation");
        }

        let mut zones = Vec::new();
        for (index, state) in states::all().enumerate() {
            let apex = zone_of(index);
            let text = served(state.at, &zone_text(&apex, state.at, state.zone));
            let servers = listed(state.at).into_iter().map(|(name, _)| DnsName::new(name)).collect();
            zones.push(NewZone { apex, text, servers });
        }
        world.zones.load_all(&zones).await.expect("every zone");

        let surveyor = surveyor(ROOT, port, world.layout.vantages());
        judge_all(&surveyor, |state| state.want).await;
        follow_all(&surveyor, &Served::Knot(world)).await;
    });
}

#[test]
fn bind_nsd_and_powerdns() {
    let _turn = turns::to_fill_the_machine();
    run(async {
        let layout = Layout::new(&state_folder("others"), OTHERS_PORT).expect("a layout");

        let mut zones = Vec::new();
        for (apex, text) in elsewhere(Others::address) {
            let lines: Vec<_> = text.lines().collect();
            let text = zone_text(apex, At::Operator, &lines);
            zones.push(others::Zone { apex: apex.into(), text, listed: listed(At::Operator) });
        }

        for (index, state) in states::all().enumerate() {
            let apex = zone_of(index);
            let text = served(state.at, &zone_text(&apex, state.at, state.zone));
            zones.push(others::Zone { apex, text, listed: listed(state.at) });
        }

        zones.extend(outage::zones());

        let world = Others::start(&layout, &zones).await.expect("the other world starts");
        let surveyor = surveyor(others::ROOT, world.port(), world.resolvers());
        judge_all(&surveyor, |state| state.strict).await;
        outage::live_through(&surveyor, &world).await;
        follow_all(&surveyor, &Served::Others(&world)).await;
    });
}

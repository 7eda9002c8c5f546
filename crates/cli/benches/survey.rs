//! How fast domains are surveyed, measured beside dnsperf in one run: against
//! one Knot with many names, dnsperf, then the engine with every reading
//! compared, turn about; then whole quick sweeps of a running service, queue
//! and results in PostgreSQL included. `cargo xtask bench survey` runs it.

use std::fmt::Write as _;
use std::fs;
use std::net::{IpAddr, Ipv4Addr};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use chrono::Utc;
use futures::future::join_all;
use nomenta_core::claim::rules::Rules;
use nomenta_core::name::platform::Platform;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_core::reading::answer::{Outcome, Reading};
use nomenta_core::reading::record::RecordData;
use nomenta_core::reading::target::{Depth, Target};
use nomenta_dns::{DnsConfig, Egress, Politeness, QuickLook, SurveyLimits, Surveyor};
use nomenta_store::{Enrolment, NewDomain, Store};
use nomenta_world::layout::{HARROW, ROOT};
use nomenta_world::service::ServiceSetup;
use nomenta_world::zones::servers;
use nomenta_world::{Layout, World, wait_for};
use serde_json::json;

/// As in the program itself.
#[global_allocator]
static ALLOCATOR: tikv_jemallocator::Jemalloc = tikv_jemallocator::Jemalloc;

const ZONE: &str = "fleet.example";
const CANONICAL: &str = "onswick.edge.quaymark.example";
const BASE_PORT: u16 = 21_630;
/// Domains in one batch of the engine; several batches are under way at once.
const BATCH: usize = 1000;
const BATCHES: usize = 4;
/// Questions on the way to the one server; dnsperf gets the same.
const WINDOW: usize = 100;
const ROUNDS: usize = 5;
/// Parts of a round that are asked turn about: whatever else the machine does falls on both.
const TURNS: usize = 6;
/// Full looks that are counted on the way of a sweep.
const MOST_COUNTED: i64 = 100;

fn main() -> anyhow::Result<()> {
    let words: Vec<String> = std::env::args().skip(1).filter(|w| w != "--bench").collect();
    let count = match words.as_slice() {
        [] => 100_000,
        [count] => count.parse().with_context(|| format!("{count} is not a number of domains"))?,
        _ => anyhow::bail!("One word at most: the number of domains"),
    };
    let runtime = tokio::runtime::Runtime::new()?;
    runtime.block_on(async { tokio::spawn(bench(count)).await? })
}

async fn bench(count: usize) -> anyhow::Result<()> {
    let layout = Layout::new(Path::new("/var/tmp/nomenta-bench"), BASE_PORT)?;
    layout.wipe()?;
    let world = World::start(layout, Arc::new(|what| eprintln!("{what} …"))).await?;
    eprintln!("Loading a zone of {count} names …");
    world.zones.load(ZONE, &zone(count), None).await?;
    // One server, so that dnsperf and Nomenta ask the same one.
    world.zones.serve_at(ZONE, &servers(HARROW)[..1]).await?;

    let mut rates = [Vec::new(), Vec::new()];
    for round in 1..=ROUNDS {
        let [dnsperf, engine] = turn_about(&world.layout, count).await?;
        rates[0].push(dnsperf);
        rates[1].push(engine);
        eprintln!("Round {round}: dnsperf {dnsperf:.0}/s, engine {engine:.0}/s");
    }
    let sweeps = sweeps(&world, count).await?;
    let [dnsperf, engine] = rates.map(median);
    let table = table(count, dnsperf, engine, &sweeps);
    println!("{table}");
    world.stop().await;
    Ok(())
}

/// How many questions a second dnsperf and the engine get answered, over the same names.
async fn turn_about(layout: &Layout, count: usize) -> anyhow::Result<[f64; 2]> {
    let names: Vec<usize> = (0..count).collect();
    let (mut asked, mut took) = (0.0, [0.0, 0.0]);
    for part in names.chunks(count.div_ceil(TURNS).max(1)) {
        let questions = (part.len() * 3) as f64;
        took[0] += questions / dnsperf(layout, &questions_of(layout, part)?)?;
        took[1] += questions / engine(layout, part).await?;
        asked += questions;
    }
    Ok(took.map(|seconds| asked / seconds))
}

fn median(mut rates: Vec<f64>) -> f64 {
    rates.sort_by(f64::total_cmp);
    rates[rates.len() / 2]
}

fn label(index: usize) -> String {
    format!("s{index:06}")
}

/// Every name has the right CNAME and no token yet: a customer half-way.
fn zone(count: usize) -> String {
    let mut text = format!(
        "$ORIGIN {ZONE}.\n$TTL 300\n@ SOA ns1.{0}. hostmaster 1 3600 600 86400 60\n@ NS ns1.{0}.\n",
        HARROW.zone
    );
    for index in 0..count {
        // Writing to a string cannot fail.
        let _ = writeln!(text, "{} CNAME {CANONICAL}.", label(index));
    }
    text
}

fn platform() -> Platform {
    let (zone, brand) = ("quaymark.example".into(), "quaymark".into());
    Platform {
        zone,
        brand,
        proof_zone: None,
        acme_zone: None,
        dns_for_all: false,
        special_use: Vec::new(),
        reserved: Vec::new(),
    }
}

fn target(index: usize) -> anyhow::Result<Target> {
    let subject = Subject::parse(&format!("{}.{ZONE}", label(index)))?;
    Ok(Target::new(&subject, &platform(), CANONICAL.into()))
}

/// The questions of a quick survey, in dnsperf's format.
fn questions_of(layout: &Layout, names: &[usize]) -> anyhow::Result<PathBuf> {
    let mut text = String::new();
    for index in names {
        for question in target(*index)?.questions(ZONE, Depth::Quick) {
            let _ = writeln!(text, "{} {}", question.name, question.rtype);
        }
    }
    let path = layout.state.join("questions");
    fs::write(&path, text)?;
    Ok(path)
}

/// Answered questions in a second, by dnsperf's own word.
fn dnsperf(layout: &Layout, questions: &Path) -> anyhow::Result<f64> {
    let output = Command::new("dnsperf")
        .args(["-s", &HARROW.servers[0].to_string(), "-p", &layout.dns_port().to_string()])
        .args(["-n", "1", "-c", "8", "-T", "1", "-q", &WINDOW.to_string(), "-d"])
        .arg(questions)
        .output()
        .context("Cannot run dnsperf. It comes with the Debian package dnsperf.")?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let number = |name: &str| {
        let line = text.lines().find(|l| l.trim_start().starts_with(name))?;
        line.split_whitespace().find_map(|w| w.parse::<f64>().ok())
    };
    let lost = number("Queries lost:").unwrap_or(0.0);
    ensure!(lost < 1000.0, "dnsperf lost {lost} questions");
    number("Queries per second:").with_context(|| format!("dnsperf says:\n{text}"))
}

/// Answered and compared readings in a second.
async fn engine(layout: &Layout, names: &[usize]) -> anyhow::Result<f64> {
    let surveyor = Surveyor::new(DnsConfig {
        roots: vec![ROOT.into()],
        authority_port: layout.dns_port(),
        vantages: Vec::new(),
        vantage_roots: layout.vantage_roots(),
        timeout: Duration::from_millis(1500),
        tries: 3,
        politeness: Politeness { in_flight: WINDOW, per_second: 0 },
        limits: SurveyLimits::default(),
        egress: Egress::loopback(),
    })?;
    let looks: Vec<QuickLook> = names
        .iter()
        .map(|index| Ok(QuickLook { target: target(*index)?, zone: ZONE.into() }))
        .collect::<anyhow::Result<_>>()?;
    // The walk to the zone is not what is measured.
    surveyor.look_quickly(&looks[..1]).await;
    let start = Instant::now();
    let (surveyor, batches) = (&surveyor, &looks.chunks(BATCH).collect::<Vec<_>>());
    let worker = |first: usize| async move {
        let (mut answered, mut wrong) = (0, 0);
        for batch in batches.iter().skip(first).step_by(BATCHES) {
            let (more, bad) = compared(surveyor, batch).await;
            (answered, wrong) = (answered + more, wrong + bad);
        }
        (answered, wrong)
    };
    let done = join_all((0..BATCHES).map(worker)).await;
    let took = start.elapsed().as_secs_f64();
    let (answered, wrong) = done.into_iter().fold((0, 0), |(a, w), (more, bad)| (a + more, w + bad));
    ensure!(wrong == 0, "{wrong} of {answered} readings are not what the zone holds");
    ensure!(answered == names.len() * 3, "{answered} of {} questions were answered", names.len() * 3);
    Ok(answered as f64 / took)
}

/// How many readings of a batch were answered, and how many of those differ
/// from what must be there.
async fn compared(surveyor: &Surveyor, batch: &[QuickLook]) -> (usize, usize) {
    let views = surveyor.look_quickly(batch).await;
    let (mut answered, mut wrong) = (0, 0);
    for (look, view) in batch.iter().zip(&views) {
        for reading in view.survey.iter().flat_map(|s| &s.readings) {
            answered += usize::from(matches!(reading.outcome, Outcome::Answer { .. }));
            wrong += usize::from(!is_right(reading, &look.target));
        }
    }
    (answered, wrong)
}

fn is_right(reading: &Reading, target: &Target) -> bool {
    let Some(records) = reading.answer() else { return false };
    if reading.name == target.challenge {
        return reading.is_nxdomain();
    }
    matches!(records, [r] if r.owner == target.routed && r.data == RecordData::Cname(target.canonical.clone()))
}

/// What sweeps of a running service came to.
struct Sweeps {
    /// Full looks in a second, when the domains were new.
    first: f64,
    /// Answered questions in a second, of each quick sweep.
    quick: Vec<f64>,
    /// Peak resident memory in MiB.
    memory: u64,
}

async fn sweeps(world: &World, count: usize) -> anyhow::Result<Sweeps> {
    let layout = &world.layout;
    let database = world.database("bench").await?;
    let store = Store::open(&database, Rules::default()).await?;
    // Nothing is due but when it is made to be.
    let options = [
        "--look-first=7200",
        "--look-most=7200",
        "--young-for=7200",
        "--server-window=100",
        "--server-rate=0",
        "--quick-looks=100",
    ];
    let setup = ServiceSetup::measured(layout.service(), database, &options);
    let program = Path::new(env!("CARGO_BIN_EXE_nomenta"));
    let service = setup.start(layout, program, &layout.state.join("service.log")).await?;
    enrol(&setup, &store, count).await?;
    // What PostgreSQL does by itself within a minute.
    world.statement("bench", "ANALYZE").await?;
    eprintln!("First full looks at {count} domains …");
    let start = Instant::now();
    let begun = Utc::now();
    let (_, looked) = until_done(&store, begun, start).await?;
    let first = count as f64 / looked;
    let mut quick = Vec::new();
    for round in 1..=ROUNDS {
        // The queue is filled first; the sweep begins when the moment comes.
        let due = Utc::now() + chrono::Duration::seconds(10);
        store.all_due_at(due).await?;
        let before = answered(&setup).await?;
        tokio::time::sleep((due - Utc::now()).to_std().unwrap_or_default()).await;
        let (full, took) = until_done(&store, due, Instant::now()).await?;
        ensure!(full == 0, "{full} domains were taken for changed");
        let rate = (answered(&setup).await? - before) / took;
        eprintln!("Sweep {round}: {count} domains in {took:.1} s, {rate:.0} answers/s");
        quick.push(rate);
    }
    let memory = service.memory()?.most / 1024;
    service.stop().await;
    Ok(Sweeps { first, quick, memory })
}

async fn enrol(setup: &ServiceSetup, store: &Store, count: usize) -> anyhow::Result<()> {
    let client = reqwest::Client::new();
    let addresses: Vec<IpAddr> = vec![Ipv4Addr::new(127, 77, 0, 10).into()];
    for (path, body) in [
        ("ingresses", json!({ "name": "harbour", "ipv4": addresses, "ipv6": [], "canonical": CANONICAL })),
        ("accounts", json!({ "name": "onswick" })),
        ("sites", json!({ "name": "onswick", "account": "onswick", "ingress": "harbour" })),
    ] {
        let request = client.post(format!("{}/api/v1/{path}", setup.url())).bearer_auth(&setup.admin_key);
        request.json(&body).send().await?.error_for_status()?;
    }
    let until = Utc::now() + chrono::Duration::days(30);
    for first in (0..count).step_by(BATCH) {
        let mut domains = Vec::with_capacity(BATCH);
        for index in first..count.min(first + BATCH) {
            let subject = Subject::parse(&format!("{}.{ZONE}", label(index)))?;
            domains.push(NewDomain { subject, token: Token::from_random(rand_bits(index)) });
        }
        let new = Enrolment::new("onswick", &domains, until);
        store.enrol(&new).await?;
    }
    Ok(())
}

/// Tokens need only differ here.
fn rand_bits(index: usize) -> [u8; 20] {
    let mut bits = [7; 20];
    bits[..8].copy_from_slice(&index.to_be_bytes());
    bits
}

/// Waits until nothing is due by `moment`; returns how many full looks came
/// up on the way, and the seconds since `start`.
async fn until_done(
    store: &Store,
    moment: chrono::DateTime<Utc>,
    start: Instant,
) -> anyhow::Result<(i64, f64)> {
    let full = std::sync::Mutex::new(0);
    wait_for("the sweep being done", Duration::from_secs(1800), || async {
        let (quick, whole) = store.due_by(moment, MOST_COUNTED).await.unwrap_or((true, 0));
        if let Ok(mut most) = full.lock() {
            *most = whole.max(*most);
        }
        !quick && whole == 0
    })
    .await?;
    Ok((full.into_inner().unwrap_or(0), start.elapsed().as_secs_f64()))
}

/// Answered questions, as the service counts them.
async fn answered(setup: &ServiceSetup) -> anyhow::Result<f64> {
    let page = reqwest::Client::new()
        .get(format!("{}/metrics", setup.url()))
        .bearer_auth(&setup.admin_key)
        .send()
        .await?
        .text()
        .await?;
    let line = page.lines().find(|l| l.starts_with("nomenta_dns_questions_total{result=\"answered\"}"));
    let count = line.and_then(|l| l.rsplit(' ').next()?.parse().ok());
    count.context("The service does not count its questions")
}

fn table(count: usize, dnsperf: f64, engine: f64, sweeps: &Sweeps) -> String {
    let sweep = median(sweeps.quick.clone());
    let mut text = format!(
        "One Knot with {count} names; {} questions a pass; medians of {ROUNDS} rounds, {TURNS} turns in each.\n\n",
        count * 3
    );
    text.push_str("| what | answers in a second | of dnsperf | wanted |\n| --- | ---: | ---: | ---: |\n");
    for (what, rate, wanted) in [
        ("dnsperf", dnsperf, "".to_owned()),
        ("engine, every reading compared", engine, "0.8".into()),
        ("quick sweep, queue and results in PostgreSQL", sweep, "0.5".into()),
    ] {
        let _ = writeln!(text, "| {what} | {rate:.0} | {:.2} | {wanted} |", rate / dnsperf);
    }
    let _ = write!(
        text,
        "\nThe first, full looks: {:.0} domains in a second. Peak memory of the service: {} MiB. No domain was taken for \
         changed in {ROUNDS} sweeps.",
        sweeps.first, sweeps.memory
    );
    text
}

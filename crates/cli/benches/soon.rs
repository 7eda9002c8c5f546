//! How soon a gate moves once the customer has mended what was wrong: ten mistakes, each made and
//! mended in zones of their own, while many other domains wait that nobody has published anything
//! for. `cargo xtask bench soon` runs it.

mod platform;

use std::fmt::Write as _;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use anyhow::{Context, ensure};
use chrono::{DateTime, TimeDelta, Utc};
use futures::future::try_join_all;
use nomenta_api::domain::{DomainDetail, SheetView, SurveyView};
use nomenta_api::event::{CloudEvent, Event};
use nomenta_core::claim::rules::Rules;
use nomenta_core::judge::gate::{GateName, GateState};
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_store::{Enrolment, NewDomain, Store};
use nomenta_world::customer::{self, Mistake};
use nomenta_world::layout::{HARROW, Operator, TIDEWELL};
use nomenta_world::service::ServiceSetup;
use nomenta_world::{Layout, World, wait_for};
use rand::Rng as _;
use reqwest::Method;
use serde_json::{Value, json};
use tokio::time::sleep;

use self::platform::Platform;

/// As in the program itself.
#[global_allocator]
static ALLOCATOR: tikv_jemallocator::Jemalloc = tikv_jemallocator::Jemalloc;

const BASE_PORT: u16 = 23_630;
/// Where the domains stand that wait: half of them at each operator.
const WAITING: [(&str, Operator); 2] = [("fleet.example", HARROW), ("fleet.test", TIDEWELL)];
/// Where the mistakes stand that are mended.
const MENDED: &str = "onswick";
const BATCH: usize = 1000;
const MISTAKES: [Mistake; 10] = [
    Mistake::HostDoubled,
    Mistake::ValueDoubled,
    Mistake::TokenAltered,
    Mistake::TokenMisplaced,
    Mistake::WrongType,
    Mistake::AddressForeign,
    Mistake::AddressPartial,
    Mistake::Ipv6Stray,
    Mistake::CnameForeign,
    Mistake::ServersDisagree,
];
/// The gates that the customer has in hand.
const FIRST_TWO: [GateName; 2] = [GateName::Ownership, GateName::Routing];
/// Domains with each of them.
const EACH: usize = 6;
/// Seconds between the mistake and its mending, at least and at most.
const MENDED_AFTER: (u64, u64) = (60, 300);
/// Seconds for which resolvers hold what the customers publish.
const TTL: i64 = 5;
/// Options while the waiting domains are enrolled: each is looked at once, no faster than the name
/// servers here answer every question.
const FILLING: [&str; 3] = ["--server-rate=5000", "--look-first=7200", "--look-most=7200"];
/// How long a mended domain is waited for.
const TIME_LIMIT: Duration = Duration::from_secs(900);

fn main() -> anyhow::Result<()> {
    let words: Vec<String> = std::env::args().skip(1).filter(|w| w != "--bench").collect();
    let counts = match words.as_slice() {
        [] => vec![1_000, 100_000],
        [count] => vec![count.parse().with_context(|| format!("{count} is not a number of domains"))?],
        _ => anyhow::bail!("One word at most: the number of domains that wait"),
    };
    let runtime = tokio::runtime::Runtime::new()?;
    for count in counts {
        runtime.block_on(async { tokio::spawn(bench(count)).await? })?;
    }
    Ok(())
}

async fn bench(count: usize) -> anyhow::Result<()> {
    let layout = Layout::new(Path::new("/var/tmp/nomenta-bench-soon"), BASE_PORT)?;
    layout.wipe()?;
    let world = World::start(layout, Arc::new(|what| eprintln!("{what} …"))).await?;
    let platform = Platform::start(&world, &FILLING).await?;

    eprintln!("First looks at {count} domains that wait …");
    fill(&platform, &world, count).await?;
    let platform = in_earnest(platform, &world).await?;

    let zones: Vec<_> = (0..MISTAKES.len() * EACH)
        .map(|number| (MISTAKES[number % MISTAKES.len()], format!("{MENDED}-{number}.example")))
        .collect();
    eprintln!("{} mistakes are made, and mended {:?} s later …", zones.len(), MENDED_AFTER);
    let waits = try_join_all(zones.iter().map(|(mistake, zone)| mended(&platform, &world, *mistake, zone)));
    let waits = waits.await?;

    println!("\n{}", table(count, &waits));
    platform.process.stop().await;
    world.stop().await;
    Ok(())
}

/// How long it took from when a domain could pass to when it did.
struct Took {
    mistake: Mistake,
    seconds: f64,
}

/// Takes in domains for which nothing is published, and waits until each has been looked at;
/// then it is as if one had come after the other for a month.
async fn fill(platform: &Platform, world: &World, count: usize) -> anyhow::Result<()> {
    let store = Store::open(&platform.setup.database, Rules::default()).await?;
    let until = Utc::now() + TimeDelta::days(60);
    for (zone, operator) in WAITING {
        world.zones.load(zone, &empty(operator), None).await?;
        world.zones.serve_at(zone, &nomenta_world::zones::servers(operator)).await?;
        for first in (0..count / 2).step_by(BATCH) {
            let mut domains = Vec::with_capacity(BATCH);
            for index in first..(first + BATCH).min(count / 2) {
                let subject = Subject::parse(&format!("s{index:06}.{zone}"))?;
                domains.push(NewDomain { subject, token: Token::from_random(rand::random()) });
            }
            store.enrol(&Enrolment::new("onswick", &domains, until)).await?;
        }
    }

    let seen = || async { store.due_by(Utc::now(), 1).await.is_ok_and(|(_, full)| full == 0) };
    wait_for("every domain being looked at", Duration::from_secs(3600), seen).await
}

/// Starts the service anew as it runs in earnest, with what waits spread over the last month.
async fn in_earnest(platform: Platform, world: &World) -> anyhow::Result<Platform> {
    platform.process.stop().await;
    world.statement("bench", AGED).await?;
    world.statement("bench", "ANALYZE").await?;

    let setup = ServiceSetup { alone: false, options: Vec::new(), ..platform.setup };
    Platform::run(world, setup).await
}

/// Makes a mistake, mends it after a while, and waits until the domain is found to be right.
async fn mended(platform: &Platform, world: &World, mistake: Mistake, zone: &str) -> anyhow::Result<Took> {
    let host = match mistake {
        Mistake::AddressForeign | Mistake::AddressPartial | Mistake::Ipv6Stray => zone.to_owned(),
        _ => format!("timetable.{zone}"),
    };
    world.zones.register(zone).await?;
    let new = json!({ "host": host, "site": "onswick" });
    let SheetView { sheet, .. } = platform.call(Method::POST, "domains", &new).await?;
    customer::publish(&world.zones, &sheet, Some(mistake)).await?;

    let (least, most) = MENDED_AFTER;
    let wait = rand::rng().random_range(least..most);
    sleep(Duration::from_secs(wait)).await;
    customer::publish(&world.zones, &sheet, None).await?;
    let published = Utc::now();

    // Resolvers may hold what the last full look has made them ask for.
    let latest: SurveyView =
        platform.call(Method::GET, &format!("domains/{host}/survey"), &Value::Null).await?;
    let read_at = latest.survey.map_or(published, |survey| survey.at);
    let possible = published.max(read_at + TimeDelta::seconds(TTL + 1));

    let passed = passed(platform, &host, published).await?;
    Ok(Took { mistake, seconds: (passed - possible).as_seconds_f64().max(0.0) })
}

/// When the first two gates of a domain have passed, once both have.
async fn passed(platform: &Platform, host: &str, since: DateTime<Utc>) -> anyhow::Result<DateTime<Utc>> {
    let path = format!("domains/{host}");
    let right = || async {
        let detail: Option<DomainDetail> = platform.call(Method::GET, &path, &Value::Null).await.ok();
        detail.is_some_and(|detail| FIRST_TWO.iter().all(|gate| detail.gates.passed(*gate)))
    };
    wait_for(&format!("{host} being right"), TIME_LIMIT, right).await?;

    let story: Vec<CloudEvent> =
        platform.call(Method::GET, &format!("domains/{host}/events"), &Value::Null).await?;
    let passed = story.iter().filter(|event| is_of_first_two(&event.event)).map(|event| event.time);
    let last = passed.max().context("No gate is told to have passed")?;
    ensure!(last > since, "{host} was right before it was mended");
    Ok(last)
}

fn is_of_first_two(event: &Event) -> bool {
    matches!(event, Event::GateChanged { gate, to: GateState::Passed, .. } if FIRST_TWO.contains(gate))
}

/// One domain has come after the other for thirty days, and each was left as it was: it is somewhere
/// in the wait that its age gives it.
const AGED: &str = "
    WITH aged AS (SELECT id, random() * 2592000 AS age FROM domains)
    UPDATE domains d SET moved_at = now() - make_interval(secs => a.age), enrolled_at = now() - make_interval(secs => a.age)
    FROM aged a WHERE a.id = d.id;
    UPDATE tasks t SET due = now() + make_interval(secs => random() * least(1800, greatest(5,
        extract(epoch FROM now() - d.moved_at) / 720)))
    FROM domains d WHERE d.id = t.domain_id AND t.kind = 'look'";

/// A zone in which nothing is published yet.
fn empty(operator: Operator) -> String {
    format!("$TTL 300\n@ SOA ns1.{0}. hostmaster 1 3600 600 86400 60\n@ NS ns1.{0}.\n", operator.zone)
}

fn table(count: usize, waits: &[Took]) -> String {
    let mut text = format!(
        "{count} domains wait; {EACH} of each mistake, mended after {} to {} s. Seconds from possible to passed.\n\n\
         | mistake | median | nine of ten within |\n| --- | ---: | ---: |\n",
        MENDED_AFTER.0, MENDED_AFTER.1
    );
    for mistake in MISTAKES {
        let own = waits.iter().filter(|took| took.mistake == mistake).map(|took| took.seconds).collect();
        line(&mut text, mistake.as_str(), own);
    }
    line(&mut text, "all", waits.iter().map(|took| took.seconds).collect());
    text
}

fn line(text: &mut String, what: &str, mut seconds: Vec<f64>) {
    seconds.sort_by(f64::total_cmp);
    let of = |share: f64| seconds.get(((seconds.len() as f64 * share).ceil() as usize).max(1) - 1).copied();
    let [median, most] = [0.5, 0.9].map(|share| of(share).unwrap_or_default());
    // Writing to a string cannot fail.
    let _ = writeln!(text, "| {what} | {median:.1} | {most:.1} |");
}

//! How long listings, counts and looks take in a large fleet, read through the API, beside
//! a lookup by primary key through the same API in the same run, and beside a small fleet.
//! `cargo xtask bench fleet [DOMAINS]` runs it.

use std::fmt::Write as _;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use nomenta_world::service::ServiceSetup;
use nomenta_world::{Daemon, Layout, World};
use reqwest::Client;
use serde::de::IgnoredAny;

mod looks;
mod seed;

const BASE_PORT: u16 = 23_630;
/// Domains in the fleet that the large one is compared with.
const SMALL: usize = 10_000;
/// Readings of each listing.
const READINGS: usize = 100;
/// Pages read to be deep in a listing.
const DEEP: usize = 40;
/// Wait between two readings of the session.
const PAUSE: Duration = Duration::from_millis(10);
/// Measures the fleets of the run before.
const AGAIN: &str = "again";
/// Clients that ask for the overview's counts all the time.
const WATCHERS: usize = 24;

fn main() -> anyhow::Result<()> {
    let words: Vec<String> = std::env::args().skip(1).filter(|w| w != "--bench").collect();
    let runtime = tokio::runtime::Runtime::new()?;
    let count = match words.as_slice() {
        [word, url] if word == looks::WORD => return runtime.block_on(looks::write(url)),
        [] => 1_000_000,
        [count, ..] => count.parse().with_context(|| format!("{count} is not a number of domains"))?,
    };
    let is_again = words.get(1).is_some_and(|word| word == AGAIN);
    runtime.block_on(async { tokio::spawn(bench(count, is_again)).await? })
}

/// A fleet and the service that has it.
struct Fleet {
    client: Client,
    setup: ServiceSetup,
    accounts: usize,
    _service: Daemon,
}

async fn bench(count: usize, is_again: bool) -> anyhow::Result<()> {
    let layout = Layout::new(Path::new("/var/tmp/nomenta-bench-fleet"), BASE_PORT)?;
    if !is_again {
        layout.wipe()?;
    }
    let world = World::start(layout, Arc::new(|what| eprintln!("{what} …"))).await?;
    let small = Fleet::start(&world, "small", SMALL, 0, is_again).await?;
    let large = Fleet::start(&world, "large", count, 1, is_again).await?;

    let mut lines = Vec::new();
    for listing in LISTINGS {
        lines.push(listing.measure(&small, &large).await?);
        eprintln!("{}", lines.last().map(Line::told).unwrap_or_default());
    }
    let watched = watched(&large).await?;
    let rates = looks::rates(&world).await?;

    println!("\n{}", table(count, &lines, &watched, &rates));
    world.stop().await;
    Ok(())
}

impl Fleet {
    async fn start(
        world: &World,
        name: &str,
        count: usize,
        place: u16,
        is_filled: bool,
    ) -> anyhow::Result<Self> {
        let listen = ([127, 0, 0, 1], BASE_PORT + 20 + place).into();
        let setup = ServiceSetup::measured(listen, world.database(name).await?, &[]);
        let program = Path::new(env!("CARGO_BIN_EXE_nomenta"));
        let log = world.layout.state.join(format!("{name}.log"));

        // The first start makes the schema.
        setup.start(&world.layout, program, &log).await?.stop().await;
        if !is_filled {
            seed::fill(world, name, count).await?;
        }
        let service = setup.start(&world.layout, program, &log).await?;
        Ok(Self { client: Client::new(), setup, accounts: seed::accounts(count), _service: service })
    }

    /// One reading.
    async fn read(&self, path: &str) -> anyhow::Result<Reading> {
        let request = self.client.get(format!("{}/api/v1/{path}", self.setup.url()));
        let start = Instant::now();
        let answer = request.bearer_auth(&self.setup.admin_key).send().await?;
        let status = answer.status();
        let link = answer.headers().get("link").and_then(|link| link.to_str().ok());
        let next = link.and_then(|link| link.strip_prefix("</api/v1/")?.strip_suffix(">; rel=\"next\""));
        let next = next.map(str::to_owned);
        let octets = answer.bytes().await?;
        let took = start.elapsed().as_secs_f64() * 1000.0;
        ensure!(status.is_success(), "{path}: {status} {}", String::from_utf8_lossy(&octets));
        // What is no listing has no lines.
        let lines = serde_json::from_slice::<Vec<IgnoredAny>>(&octets).map_or(0, |lines| lines.len());
        Ok(Reading { took, next, lines })
    }

    /// The lookup that listings are held beside: one account by its name.
    async fn look_up(&self, turn: usize) -> anyhow::Result<f64> {
        Ok(self.read(&format!("accounts/a{}", turn * 7919 % self.accounts)).await?.took)
    }

    /// A page deep in a listing, or the last one that has as many lines as the first.
    async fn deep(&self, path: &str) -> anyhow::Result<String> {
        let mut deep = path.to_owned();
        let Reading { mut next, lines, .. } = self.read(path).await?;
        for _ in 0..DEEP {
            let Some(at) = next else { break };
            let page = self.read(&at).await?;
            if page.lines == lines {
                deep = at;
            }
            next = page.next;
        }
        Ok(deep)
    }
}

/// A page as it was read.
struct Reading {
    /// Milliseconds.
    took: f64,
    /// Where the next one is.
    next: Option<String>,
    lines: usize,
}

struct Listing {
    what: &'static str,
    path: &'static str,
}

const fn listing(what: &'static str, path: &'static str) -> Listing {
    Listing { what, path }
}

const LISTINGS: [Listing; 31] = [
    listing("roster by name", "domains"),
    listing("from the end", "domains?descending=true"),
    listing("by stage", "domains?sort=stage"),
    listing("by enrolment", "domains?sort=enrolled"),
    listing("by last move", "domains?sort=moved&descending=true"),
    listing("one stage", "domains?stage=ownership"),
    listing("one stage, by enrolment", "domains?stage=live&sort=enrolled"),
    listing("one account", "domains?account=a17"),
    listing("a large account", "domains?account=a0"),
    listing("a large account, by last move", "domains?account=a0&sort=moved&descending=true"),
    listing("one site", "domains?site=a17-1"),
    listing("one ingress", "domains?ingress=quay"),
    listing("one ingress, by stage", "domains?ingress=quay&sort=stage"),
    listing("one DNS operator", "domains?operator=op3.example"),
    listing("one operator, by enrolment", "domains?operator=op3.example&sort=enrolled"),
    listing("one finding", "domains?finding=address-foreign"),
    listing("one finding, by last move", "domains?finding=address-foreign&sort=moved"),
    listing("older than a year", "domains?older_than=365&sort=enrolled"),
    listing("younger than a week", "domains?younger_than=7&sort=enrolled&descending=true&limit=20"),
    listing("text in every name", "domains?text=example"),
    listing("text in one of 300", "domains?text=fjord&limit=20"),
    listing("text in one of 5,000", "domains?text=f%C3%A4hre&limit=2"),
    listing("text in one name", "domains?text=w1234-"),
    listing("text, by last move", "domains?text=fjord&sort=moved&limit=20"),
    listing("certificates by end", "certificates"),
    listing("certificates of an account", "certificates?account=a0"),
    listing("certificates of an issuer", "certificates?issuer=CN%3DStampworks%20R2"),
    listing("accounts", "accounts"),
    listing("accounts by text", "accounts?text=ferries%2017&limit=10"),
    listing("sites by text", "sites?text=a17-"),
    listing("counts of the overview", "counts"),
];

/// What was measured of a listing, in milliseconds.
struct Line {
    what: &'static str,
    first: Times,
    deep: Times,
    small: Times,
    lookup: Times,
}

#[derive(Clone, Copy)]
struct Times {
    median: f64,
    late: f64,
}

impl Times {
    fn of(mut times: Vec<f64>) -> Self {
        times.sort_by(f64::total_cmp);
        Self { median: times[times.len() / 2], late: times[(times.len() * 99).div_ceil(100) - 1] }
    }
}

impl Listing {
    /// Turn about, so that whatever else the machine does falls on all of them.
    async fn measure(&self, small: &Fleet, large: &Fleet) -> anyhow::Result<Line> {
        let (deep_small, deep) = (small.deep(self.path).await?, large.deep(self.path).await?);
        let [mut first, mut later, mut few, mut lookup] = [const { Vec::new() }; 4];
        for turn in 0..READINGS {
            lookup.push(large.look_up(turn).await?);
            first.push(large.read(self.path).await?.took);
            later.push(large.read(&deep).await?.took);
            few.push(small.read(if turn % 2 == 0 { self.path } else { &deep_small }).await?.took);
        }
        Ok(Line {
            what: self.what,
            first: Times::of(first),
            deep: Times::of(later),
            small: Times::of(few),
            lookup: Times::of(lookup),
        })
    }
}

impl Line {
    /// How much longer the 99th percentile takes than that of the lookup.
    fn of_lookup(&self) -> f64 {
        self.first.late.max(self.deep.late) / self.lookup.late
    }

    fn growth(&self) -> f64 {
        (self.first.median + self.deep.median) / 2.0 / self.small.median
    }

    fn told(&self) -> String {
        format!(
            "| {} | {:.2} | {:.2} | {:.2} | {:.2} | {:.1} | {:.2} |",
            self.what,
            self.first.median,
            self.first.late,
            self.deep.median,
            self.deep.late,
            self.of_lookup(),
            self.growth()
        )
    }
}

/// The session's time alone, and beside clients that ask for counts all the time.
struct Watched {
    alone: Times,
    beside: Times,
}

async fn watched(fleet: &Fleet) -> anyhow::Result<Watched> {
    let mut alone = Vec::new();
    for _ in 0..READINGS {
        alone.push(fleet.read("session").await?.took);
        tokio::time::sleep(PAUSE).await;
    }

    let watching: Vec<_> = (0..WATCHERS)
        .map(|_| {
            let (url, key) = (fleet.setup.url(), fleet.setup.admin_key.clone());
            tokio::spawn(async move {
                let client = Client::new();
                loop {
                    let asked = client.get(format!("{url}/api/v1/counts")).bearer_auth(&key).send().await;
                    if let Ok(answer) = asked {
                        let _ = answer.bytes().await;
                    }
                    // As often as a page reloads at most.
                    tokio::time::sleep(Duration::from_secs(2)).await;
                }
            })
        })
        .collect();

    let mut beside = Vec::new();
    for _ in 0..READINGS * 10 {
        beside.push(fleet.read("session").await?.took);
        tokio::time::sleep(PAUSE).await;
    }
    watching.iter().for_each(tokio::task::JoinHandle::abort);
    Ok(Watched { alone: Times::of(alone), beside: Times::of(beside) })
}

fn table(count: usize, lines: &[Line], watched: &Watched, rates: &[f64]) -> String {
    let lookup = lines.first().map_or(0.0, |line| line.lookup.median);
    let mut text = format!(
        "{count} domains of {} accounts, read through the API, pages of 100 lines, {READINGS} readings each; a lookup of \
         one account by its name takes {lookup:.2} ms in the middle. Milliseconds.\n\n",
        seed::accounts(count)
    );
    text.push_str("| listing | first page | p99 | deep | p99 | of a lookup, p99 (wanted 5) | beside 10,000 domains (wanted 1.3) |\n");
    text.push_str("| --- | ---: | ---: | ---: | ---: | ---: | ---: |\n");
    for line in lines {
        let _ = writeln!(text, "{}", line.told());
    }
    let _ = write!(
        text,
        "\n`/session` alone: {:.2} ms, p99 {:.2}; beside {WATCHERS} clients of the overview's counts: {:.2} ms, p99 {:.2}: \
         {:.2} times (wanted 2).",
        watched.alone.median,
        watched.alone.late,
        watched.beside.median,
        watched.beside.late,
        watched.beside.median / watched.alone.median
    );
    let rates: Vec<_> = rates.iter().map(|rate| format!("{rate:.0}")).collect();
    let _ = write!(
        text,
        "\n\nLooks written in a second, each with an event, by one, two and three processes: {} (wanted: growing).",
        rates.join(", ")
    );
    text
}

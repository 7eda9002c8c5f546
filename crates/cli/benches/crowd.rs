//! How long a call takes while others take what they can get of the service: requests and bodies
//! without an end, idle connections, streams that nobody reads, links that wait, large bodies of
//! nobody's, the metrics, slow connections and a flood at the challenge zone. Each is measured turn
//! about with calls alone, and the memory that the service keeps afterwards. `cargo xtask bench crowd`
//! runs it.

use std::fmt::Write as _;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use futures::future::join_all;
use hickory_proto::op::{Message, Query};
use hickory_proto::rr::{Name, RecordType};
use nix::sys::resource::{Resource, getrlimit, setrlimit};
use nomenta_world::layout::CHALLENGES;
use nomenta_world::service::ServiceSetup;
use nomenta_world::{Daemon, Layout, World, wait_for};
use reqwest::Client;
use serde_json::{Value, json};
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpSocket, TcpStream, UdpSocket};
use tokio::task::JoinSet;
use tokio::time::{interval, sleep};

const BASE_PORT: u16 = 24_630;
const HALF_OPEN: usize = 500;
const IDLE: usize = 2_000;
const STREAMS: usize = 2_000;
/// Bodies of sign-ins that do not end.
const SIGN_INS: usize = 4_096;
/// Links that wait for news.
const POLLS: usize = 2_000;
/// Bodies that nobody's key comes with, and how large each would be, in octets.
const BODIES: usize = 120;
const LARGE: usize = 32 << 20;
/// Slow connections at the challenge zone.
const SLOW: usize = 128;
/// Whoever asks for the metrics without a key, one call after the other.
const CURIOUS: usize = 4;
/// Questions in a second that flood the challenge zone. Faster, whoever sends them takes the very
/// cores that everything here shares.
const FLOOD: u32 = 20_000;
/// Of them at once, at so many moments in a second.
const BURSTS: u32 = 100;
/// Calls of one reading, by so many callers at once.
const CALLS: usize = 1_600;
const CALLERS: usize = 4;
/// Readings with and without, turn about. Their median counts, since a shared machine stalls now and
/// then.
const ROUNDS: usize = 5;
/// How long the service may take to see that connections are gone, and to give back what they took.
const GONE_WITHIN: Duration = Duration::from_secs(60);
/// Most memory that the service may keep of what they took, in MiB.
const KEPT: f64 = 32.0;

fn main() -> anyhow::Result<()> {
    let (_, most) = getrlimit(Resource::RLIMIT_NOFILE)?;
    setrlimit(Resource::RLIMIT_NOFILE, most, most)?;
    let runtime = tokio::runtime::Runtime::new()?;
    runtime.block_on(async { tokio::spawn(bench()).await? })
}

async fn bench() -> anyhow::Result<()> {
    let layout = Layout::new(Path::new("/var/tmp/nomenta-bench-crowd"), BASE_PORT)?;
    layout.wipe()?;
    let world = World::start(layout, Arc::new(|what| eprintln!("{what} …"))).await?;
    let database = world.database("bench").await?;
    let rarely = ["--look-first=7200", "--look-most=7200"];
    let setup = ServiceSetup::measured(world.layout.service(), database, &rarely);
    let setup = ServiceSetup { challenges: Some(0), ..setup };
    let program = Path::new(env!("CARGO_BIN_EXE_nomenta"));
    let service = setup.start(&world.layout, program, &world.layout.state.join("service.log")).await?;
    let link = fill(&setup).await?;

    let challenges = SocketAddr::from((CHALLENGES[0].1, world.layout.dns_port()));
    let mut lines = Vec::new();
    for burden in Burden::ALL {
        let mut readings = [Vec::new(), Vec::new()];
        let before = service.memory()?.now;
        for round in 1..=ROUNDS {
            readings[0].push(quantiles(called(&setup).await?));
            let laid_on = burden.laid_on(&setup, challenges, &link).await?;
            readings[1].push(quantiles(called(&setup).await?));
            drop(laid_on);
            // What was laid on is gone when calls are as fast as before.
            sleep(Duration::from_secs(1)).await;
            eprintln!("{}: round {round}", burden.words());
        }
        wait_for("the connections being gone", GONE_WITHIN, || async { has_left(&setup).await }).await?;
        let is_given_back = || async { kept(&service, before).is_ok_and(|kept| kept < KEPT) };
        // Where it keeps more, the table says so.
        let _ = wait_for("memory being given back", GONE_WITHIN, is_given_back).await;
        lines.push(Line {
            words: burden.words(),
            took: readings.map(|each| medians(&each)),
            kept: kept(&service, before)?,
        });
    }

    println!("\n{}", table(&lines));
    service.stop().await;
    world.stop().await;
    Ok(())
}

/// Memory that the service has more than `before`, which is in KiB; in MiB.
fn kept(service: &Daemon, before: u64) -> anyhow::Result<f64> {
    Ok((service.memory()?.now as f64 - before as f64) / 1024.0)
}

/// What one burden came to.
struct Line {
    words: String,
    /// Alone and beside it: the middle, and what 99 of 100 stay under.
    took: [[f64; 2]; 2],
    /// Memory that the service has more than before, in MiB.
    kept: f64,
}

/// Whether no connection is left but the one that asks.
async fn has_left(setup: &ServiceSetup) -> bool {
    let asked = Client::new().get(format!("{}/metrics", setup.url())).bearer_auth(&setup.admin_key);
    let Ok(answer) = asked.send().await else { return false };
    let Ok(text) = answer.text().await else { return false };
    let left = text.lines().find_map(|line| line.strip_prefix("nomenta_connections "));
    left.and_then(|left| left.parse::<f64>().ok()).is_some_and(|left| left <= CALLERS as f64 + 1.0)
}

/// What others do meanwhile.
#[derive(Clone, Copy)]
enum Burden {
    HalfOpen,
    Idle,
    Streams,
    SignIns,
    Polls,
    Bodies,
    Metrics,
    Slow,
    Flood,
}

impl Burden {
    const ALL: [Self; 9] = [
        Self::HalfOpen,
        Self::Idle,
        Self::Streams,
        Self::SignIns,
        Self::Polls,
        Self::Bodies,
        Self::Metrics,
        Self::Slow,
        Self::Flood,
    ];

    fn words(self) -> String {
        match self {
            Self::HalfOpen => format!("{HALF_OPEN} requests that do not end"),
            Self::Idle => format!("{IDLE} idle connections"),
            Self::Streams => format!("{STREAMS} streams that nobody reads"),
            Self::SignIns => format!("{SIGN_INS} sign-ins whose body does not end"),
            Self::Polls => format!("{POLLS} links that wait"),
            Self::Bodies => format!("{BODIES} bodies of 32 MiB with no key"),
            Self::Metrics => format!("{CURIOUS} who ask for the metrics without a key"),
            Self::Slow => format!("{SLOW} slow connections at the challenge zone"),
            Self::Flood => format!("{FLOOD} questions a second at the challenge zone"),
        }
    }

    /// Lays it on; it ends with what is returned.
    async fn laid_on(
        self,
        setup: &ServiceSetup,
        challenges: SocketAddr,
        link: &str,
    ) -> anyhow::Result<JoinSet<()>> {
        let mut burden = JoinSet::new();
        match self {
            Self::HalfOpen => {
                let head = b"GET /api/v1/session HTTP/1.1\r\nhost: a\r\nx-slow: ";
                connect(&mut burden, setup.listen, HALF_OPEN, head).await?;
            }
            Self::Idle => connect(&mut burden, setup.listen, IDLE, b"").await?,
            Self::Streams => {
                let head = format!(
                    "GET /api/v1/events HTTP/1.1\r\nhost: a\r\naccept: text/event-stream\r\nlast-event-id: 0\r\n\
                     authorization: Bearer {}\r\n\r\n",
                    setup.admin_key
                );
                connect(&mut burden, setup.listen, STREAMS, head.as_bytes()).await?;
            }
            Self::SignIns => {
                let head = "POST /api/v1/session HTTP/1.1\r\nhost: a\r\ncontent-type: application/json\r\n\
                            content-length: 30000\r\n\r\n{";
                connect(&mut burden, setup.listen, SIGN_INS, head.as_bytes()).await?;
            }
            Self::Polls => {
                let head = format!(
                    "GET /api/v1/handoff?wait=50 HTTP/1.1\r\nhost: a\r\naccept: application/json\r\n\
                     if-none-match: {}\r\nauthorization: Bearer {link}\r\n\r\n",
                    tag(setup, link).await?
                );
                connect(&mut burden, setup.listen, POLLS, head.as_bytes()).await?;
            }
            Self::Bodies => (0..BODIES).for_each(|_| drop(burden.spawn(pour(setup.listen)))),
            Self::Metrics => {
                let url = format!("{}/metrics", setup.url());
                (0..CURIOUS).for_each(|_| drop(burden.spawn(ask_without_a_key(url.clone()))));
            }
            Self::Slow => connect(&mut burden, challenges, SLOW, &[0]).await?,
            Self::Flood => {
                burden.spawn(flood(challenges));
                sleep(Duration::from_millis(300)).await;
            }
        }
        Ok(burden)
    }
}

/// Connections that say something, and then keep still; little of what they get is taken up.
async fn connect(burden: &mut JoinSet<()>, to: SocketAddr, count: usize, said: &[u8]) -> anyhow::Result<()> {
    let mut connections = Vec::with_capacity(count);
    for _ in 0..count {
        let socket = TcpSocket::new_v4()?;
        socket.set_recv_buffer_size(2_048)?;
        let mut stream: TcpStream = socket.connect(to).await.context("no connection is taken")?;
        stream.write_all(said).await?;
        connections.push(stream);
    }
    burden.spawn(async move {
        let _held = connections;
        std::future::pending::<()>().await;
    });
    Ok(())
}

/// What a link shows, by its tag.
async fn tag(setup: &ServiceSetup, link: &str) -> anyhow::Result<String> {
    let asked = Client::new().get(format!("{}/api/v1/handoff", setup.url())).bearer_auth(link);
    let answer = asked.send().await?.error_for_status()?;
    Ok(answer.headers().get("etag").context("no tag")?.to_str()?.to_owned())
}

/// Sends a large body that nobody's key comes with, for as long as it is taken, again and again.
async fn pour(to: SocketAddr) {
    let head = format!(
        "POST /api/v1/intake HTTP/1.1\r\nhost: a\r\nidempotency-key: bench\r\ncontent-type: text/csv\r\n\
         content-length: {LARGE}\r\n\r\n"
    );
    let octets = vec![b'x'; 64 << 10];
    loop {
        let Ok(mut stream) = TcpStream::connect(to).await else { return };
        let mut sent = stream.write_all(head.as_bytes()).await;
        for _ in 0..LARGE / octets.len() {
            if sent.is_err() {
                break;
            }
            sent = stream.write_all(&octets).await;
        }
        sleep(Duration::from_millis(50)).await;
    }
}

async fn ask_without_a_key(url: String) {
    let client = Client::new();
    loop {
        let _ = client.get(&url).send().await;
        sleep(Duration::from_millis(5)).await;
    }
}

/// Asks for names that are not there, and waits for no answers.
async fn flood(to: SocketAddr) {
    let Ok(socket) = UdpSocket::bind("127.0.0.1:0").await else { return };
    let mut moments = interval(Duration::from_secs(1) / BURSTS);
    let mut number = 0_u16;
    loop {
        moments.tick().await;
        for _ in 0..FLOOD / BURSTS {
            number = number.wrapping_add(1);
            let Ok(name) = Name::from_ascii(format!("x{number}.example.{}.", CHALLENGES[0].0)) else {
                return;
            };
            let mut query = Message::new();
            query.set_id(number).add_query(Query::query(name, RecordType::TXT));
            let Ok(bytes) = query.to_vec() else { return };
            let _ = socket.try_send_to(&bytes, to);
        }
    }
}

/// How long calls take, in milliseconds: pages of the roster, each on a connection that is kept.
async fn called(setup: &ServiceSetup) -> anyhow::Result<Vec<f64>> {
    let callers = (0..CALLERS).map(|_| async {
        let client = Client::new();
        let mut took = Vec::with_capacity(CALLS / CALLERS);
        for _ in 0..CALLS / CALLERS {
            let start = Instant::now();
            let asked = client.get(format!("{}/api/v1/domains?limit=50", setup.url()));
            let answer = asked.bearer_auth(&setup.admin_key).send().await?.error_for_status()?;
            ensure!(!answer.bytes().await?.is_empty(), "an empty answer");
            took.push(start.elapsed().as_secs_f64() * 1000.0);
            sleep(Duration::from_millis(5)).await;
        }
        Ok(took)
    });
    let took: anyhow::Result<Vec<Vec<f64>>> = join_all(callers).await.into_iter().collect();
    Ok(took?.into_iter().flatten().collect())
}

/// Takes domains in; returns the secret of a link to one.
async fn fill(setup: &ServiceSetup) -> anyhow::Result<String> {
    let client = Client::new();
    let mut calls = vec![
        (
            "ingresses",
            json!({ "name": "harbour", "ipv4": ["127.77.9.98"], "canonical": "edge.quaymark.example" }),
        ),
        ("accounts", json!({ "name": "onswick" })),
        ("sites", json!({ "name": "onswick", "account": "onswick", "ingress": "harbour" })),
    ];
    calls.extend(
        (0..200).map(|n| ("domains", json!({ "host": format!("n{n}.fleet.example"), "site": "onswick" }))),
    );
    for (path, body) in calls {
        let request = client.post(format!("{}/api/v1/{path}", setup.url())).bearer_auth(&setup.admin_key);
        request.json(&body).send().await?.error_for_status()?;
    }

    let made = client.post(format!("{}/api/v1/domains/n0.fleet.example/handoffs", setup.url()));
    let made = made.bearer_auth(&setup.admin_key).json(&json!({})).send().await?.error_for_status()?;
    let made: Value = made.json().await?;
    Ok(made["secret"].as_str().context("no secret")?.to_owned())
}

/// The middle, and what 99 of 100 stay under.
fn quantiles(mut took: Vec<f64>) -> [f64; 2] {
    took.sort_by(f64::total_cmp);
    [took[took.len() / 2], took[took.len() * 99 / 100]]
}

/// The median of several readings, of each of their figures.
fn medians(readings: &[[f64; 2]]) -> [f64; 2] {
    [0, 1].map(|figure| quantiles(readings.iter().map(|reading| reading[figure]).collect())[0])
}

fn table(lines: &[Line]) -> String {
    let mut text = format!(
        "A page of 50 domains, by {CALLERS} callers at once, {CALLS} calls a reading, {ROUNDS} rounds turn about, of which the median counts. Milliseconds.\n\n\
         | beside | alone | p99 | with it | p99 | times, p99 (wanted 2) | memory kept, MiB (wanted {KEPT}) |\n| --- | ---: | ---: | ---: | ---: | ---: | ---: |\n"
    );
    for Line { words, took: [alone, beside], kept } in lines {
        // Writing to a string cannot fail.
        let _ = writeln!(
            text,
            "| {words} | {:.2} | {:.2} | {:.2} | {:.2} | {:.2} | {kept:.1} |",
            alone[0],
            alone[1],
            beside[0],
            beside[1],
            beside[1] / alone[1]
        );
    }
    text
}

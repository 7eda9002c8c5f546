//! How long a call takes while others take what they can get of the service by connecting:
//! requests without an end, idle connections, streams that nobody reads, a flood at the challenge
//! zone. Each is measured turn about with calls alone. `cargo xtask bench crowd` runs it.

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
use nomenta_world::{Layout, World};
use reqwest::Client;
use serde_json::json;
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpSocket, TcpStream, UdpSocket};
use tokio::task::JoinSet;
use tokio::time::{interval, sleep};

const BASE_PORT: u16 = 24_630;
const HALF_OPEN: usize = 500;
const IDLE: usize = 2_000;
const STREAMS: usize = 2_000;
/// Questions in a second that flood the challenge zone. Faster, whoever sends them takes the very
/// cores that everything here shares.
const FLOOD: u32 = 20_000;
/// Of them at once, at so many moments in a second.
const BURSTS: u32 = 100;
/// Calls of one reading, by so many callers at once.
const CALLS: usize = 400;
const CALLERS: usize = 4;
/// Readings with and without, turn about.
const ROUNDS: usize = 3;

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
    let setup = ServiceSetup {
        listen: world.layout.service(),
        database: world.database("bench").await?,
        sealing_key: "5e".repeat(32),
        admin_key: "bench_admin_key_of_one_run".into(),
        edge_key: "bench_edge_key_of_one_run".into(),
        alone: true,
        challenges: Some(0),
        directory: None,
        egress: None,
        options: ["--look-first=7200", "--look-most=7200"].map(Into::into).into(),
    };
    let program = Path::new(env!("CARGO_BIN_EXE_nomenta"));
    let service = setup.start(&world.layout, program, &world.layout.state.join("service.log")).await?;
    fill(&setup).await?;

    let challenges = SocketAddr::from((CHALLENGES[0].1, world.layout.dns_port()));
    let mut lines = Vec::new();
    for burden in [Burden::HalfOpen, Burden::Idle, Burden::Streams, Burden::Flood] {
        let mut readings = [Vec::new(), Vec::new()];
        for round in 1..=ROUNDS {
            readings[0].extend(called(&setup).await?);
            let laid_on = burden.laid_on(&setup, challenges).await?;
            readings[1].extend(called(&setup).await?);
            drop(laid_on);
            // What was laid on is gone when calls are as fast as before.
            sleep(Duration::from_secs(1)).await;
            eprintln!("{}: round {round}", burden.words());
        }
        lines.push((burden.words(), readings.map(quantiles)));
    }

    println!("\n{}", table(&lines));
    service.stop().await;
    world.stop().await;
    Ok(())
}

/// What others do meanwhile.
#[derive(Clone, Copy)]
enum Burden {
    HalfOpen,
    Idle,
    Streams,
    Flood,
}

impl Burden {
    fn words(self) -> String {
        match self {
            Self::HalfOpen => format!("{HALF_OPEN} requests that do not end"),
            Self::Idle => format!("{IDLE} idle connections"),
            Self::Streams => format!("{STREAMS} streams that nobody reads"),
            Self::Flood => format!("{FLOOD} questions a second at the challenge zone"),
        }
    }

    /// Lays it on; it ends with what is returned.
    async fn laid_on(self, setup: &ServiceSetup, challenges: SocketAddr) -> anyhow::Result<JoinSet<()>> {
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

async fn fill(setup: &ServiceSetup) -> anyhow::Result<()> {
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
    Ok(())
}

/// The middle, and what 99 of 100 stay under.
fn quantiles(mut took: Vec<f64>) -> [f64; 2] {
    took.sort_by(f64::total_cmp);
    [took[took.len() / 2], took[took.len() * 99 / 100]]
}

fn table(lines: &[(String, [[f64; 2]; 2])]) -> String {
    let mut text = format!(
        "A page of 50 domains, by {CALLERS} callers at once, {CALLS} calls a reading, {ROUNDS} rounds turn about. Milliseconds.\n\n\
         | beside | alone | p99 | with it | p99 | times, p99 (wanted 2) |\n| --- | ---: | ---: | ---: | ---: | ---: |\n"
    );
    for (words, [alone, beside]) in lines {
        // Writing to a string cannot fail.
        let _ = writeln!(
            text,
            "| {words} | {:.2} | {:.2} | {:.2} | {:.2} | {:.2} |",
            alone[0],
            alone[1],
            beside[0],
            beside[1],
            beside[1] / alone[1]
        );
    }
    text
}

//! How soon a change reaches an edge server with many routes, measured two ways
//! in one run: by the stream of changes, and by reading the whole feed again
//! whenever it has changed. `cargo xtask bench edge` runs it.

use std::fmt::Write as _;
use std::net::{IpAddr, Ipv4Addr};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use nomenta_core::claim::rules::Rules;
use nomenta_core::name::subject::Subject;
use nomenta_core::name::token::Token;
use nomenta_store::{Enrolment, NewDomain, Store};
use nomenta_world::edge::{Edge, EdgeConfig};
use nomenta_world::service::ServiceSetup;
use nomenta_world::tls::Authority;
use nomenta_world::{Layout, World, wait_for};
use reqwest::Client;
use serde_json::{Value, json};

const BASE_PORT: u16 = 22_630;
const ZONE: &str = "fleet.example";
const EDGE: IpAddr = IpAddr::V4(Ipv4Addr::new(127, 77, 9, 99));
/// Changes measured for each way.
const CHANGES: usize = 60;
const TIME_LIMIT: Duration = Duration::from_secs(120);

fn main() -> anyhow::Result<()> {
    let words: Vec<String> = std::env::args().skip(1).filter(|w| w != "--bench").collect();
    let count = match words.as_slice() {
        [] => 5000,
        [count] => count.parse().with_context(|| format!("{count} is not a number of routes"))?,
        _ => anyhow::bail!("One word at most: the number of routes"),
    };
    let runtime = tokio::runtime::Runtime::new()?;
    runtime.block_on(async { tokio::spawn(bench(count)).await? })
}

async fn bench(count: usize) -> anyhow::Result<()> {
    ensure!(count > CHANGES * 2, "At least {} routes are needed", CHANGES * 2 + 1);
    let layout = Layout::new(Path::new("/var/tmp/nomenta-bench-edge"), BASE_PORT)?;
    layout.wipe()?;
    let world = World::start(layout, Arc::new(|what| eprintln!("{what} …"))).await?;
    let database = world.database("bench").await?;
    let rarely = ["--look-first=7200", "--look-most=7200"];
    let setup = ServiceSetup::measured(world.layout.service(), database, &rarely);
    let program = Path::new(env!("CARGO_BIN_EXE_nomenta"));
    let service = setup.start(&world.layout, program, &world.layout.state.join("service.log")).await?;
    eprintln!("Making {count} routes with certificates …");
    fill(&world, &setup, count).await?;
    let client = Client::new();

    let edge = Edge::start(EdgeConfig {
        addresses: vec![EDGE],
        http_port: world.layout.http_port(),
        https_port: world.layout.https_port(),
        service: setup.url(),
        key: setup.edge_key.clone(),
        own: None,
    })
    .await?;
    wait_for("the edge having every route", TIME_LIMIT, || async { edge.route_count() > count }).await?;
    eprintln!("Changes by the stream …");
    let mut streamed = Vec::new();
    for n in 1..=CHANGES {
        let host = format!("n{n}.{ZONE}");
        let mut position = edge.position();
        let start = Instant::now();
        release(&client, &setup, &host).await?;
        while edge.routes(&host) {
            position.changed().await?;
        }
        streamed.push(start.elapsed().as_secs_f64() * 1000.0);
    }
    drop(edge);
    eprintln!("Changes by reading the feed again …");
    let mut whole = Vec::new();
    for n in CHANGES + 1..=CHANGES * 2 {
        let host = format!("n{n}.{ZONE}");
        let (etag, _) = feed(&client, &setup, "").await?;
        let start = Instant::now();
        let (told, released) = tokio::join!(feed(&client, &setup, &etag), release(&client, &setup, &host));
        released?;
        let (_, feed) = told?;
        let gone = feed["routes"].as_array().is_some_and(|routes| routes.iter().all(|r| r["host"] != host));
        ensure!(gone, "the feed still has {host}");
        whole.push(start.elapsed().as_secs_f64() * 1000.0);
    }
    service.stop().await;
    world.stop().await;
    println!("\n{}", table(count, streamed, whole));
    Ok(())
}

/// The feed once it is another than that of `etag`.
async fn feed(client: &Client, setup: &ServiceSetup, etag: &str) -> anyhow::Result<(String, Value)> {
    let asked = client.get(format!("{}/api/v1/edge/feed?wait=50", setup.url())).bearer_auth(&setup.edge_key);
    let answer = asked.header("if-none-match", etag).send().await?.error_for_status()?;
    let etag = answer.headers()["etag"].to_str()?.to_owned();
    Ok((etag, answer.json().await?))
}

async fn release(client: &Client, setup: &ServiceSetup, host: &str) -> anyhow::Result<()> {
    let path = format!("{}/api/v1/domains/{host}", setup.url());
    client.delete(path).bearer_auth(&setup.admin_key).send().await?.error_for_status()?;
    Ok(())
}

/// Many domains as if their owners had proven them, all with a certificate.
async fn fill(world: &World, setup: &ServiceSetup, count: usize) -> anyhow::Result<()> {
    let client = Client::new();
    for (path, body) in [
        ("ingresses", json!({ "name": "harbour", "ipv4": [EDGE], "canonical": "edge.quaymark.example" })),
        ("accounts", json!({ "name": "onswick" })),
        ("sites", json!({ "name": "onswick", "account": "onswick", "ingress": "harbour" })),
    ] {
        let request = client.post(format!("{}/api/v1/{path}", setup.url())).bearer_auth(&setup.admin_key);
        request.json(&body).send().await?.error_for_status()?;
    }
    let store = Store::open(&setup.database, Rules::default()).await?;
    let until = chrono::Utc::now() + chrono::Duration::days(30);
    let mut domains = Vec::with_capacity(count);
    for number in 0..count {
        let subject = Subject::parse(&format!("n{number}.{ZONE}"))?;
        domains.push(NewDomain { subject, token: Token::from_random([7; 20]) });
    }
    let new = Enrolment::new("onswick", &domains, until);
    store.enrol(&new).await?;
    let first = format!("n0.{ZONE}");
    let pem = Authority::open(&world.layout)?.issue(std::slice::from_ref(&first), 60)?;
    let body = json!({ "chain_pem": pem.chain, "key_pem": pem.key });
    let path = format!("{}/api/v1/domains/{first}/certificate", setup.url());
    client.put(path).bearer_auth(&setup.admin_key).json(&body).send().await?.error_for_status()?;
    world
        .statement(
            "bench",
            "LOCK TABLE tasks IN EXCLUSIVE MODE; DELETE FROM tasks;
             UPDATE domains SET ownership = 'passed', held_since = now();
             INSERT INTO certificates
                 (id, domain_id, domain_ids, facts, chain_pem, sealed_key, not_after, issued_at, origin)
             SELECT gen_random_uuid(), d.id, ARRAY[d.id], c.facts, c.chain_pem, c.sealed_key, c.not_after,
                    c.issued_at, c.origin
             FROM domains d, certificates c WHERE d.id <> c.domain_id;
             INSERT INTO edge_changes (host) SELECT host FROM domains; ANALYZE",
        )
        .await?;
    Ok(())
}

/// The value that `share` of all are not above.
fn quantile(values: &mut [f64], share: f64) -> f64 {
    values.sort_by(f64::total_cmp);
    let last = values.len().saturating_sub(1);
    values[((last as f64) * share).round() as usize]
}

fn table(count: usize, mut streamed: Vec<f64>, mut whole: Vec<f64>) -> String {
    let [one, other] = [&mut streamed, &mut whole].map(|v| (quantile(v, 0.5), quantile(v, 0.95)));
    let mut text = format!(
        "{count} routes, each with a certificate; {CHANGES} changes each way, from the call that changes to the edge \
         knowing.\n\n| way | median, ms | 95 of 100 within, ms | of reading it whole |\n| --- | ---: | ---: | ---: |\n"
    );
    for (way, (median, most)) in [("stream of changes", one), ("reading the feed again", other)] {
        let _ = writeln!(text, "| {way} | {median:.1} | {most:.1} | {:.3} |", median / other.0);
    }
    text
}

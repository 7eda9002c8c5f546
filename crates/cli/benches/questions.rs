//! How many questions a look at a healthy domain costs: all that the service sends, and what comes
//! of it to each of the zone's servers and to each vantage. `cargo xtask bench questions` runs it.

mod platform;

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use nomenta_api::domain::{DomainDetail, SheetView, SurveyView};
use nomenta_core::judge::gate::GateName;
use nomenta_core::reading::answer::Source;
use nomenta_world::customer;
use nomenta_world::service::ServiceSetup;
use nomenta_world::{Layout, World, wait_for};
use reqwest::Method;
use serde_json::{Value, json};

use self::platform::Platform;

const BASE_PORT: u16 = 25_630;
/// Looks that are counted, after some that find out what servers bear and where zones begin.
const LOOKS: usize = 10;
const BEFORE: usize = 4;
const SERVERS: usize = 2;
const VANTAGES: usize = 3;
const TIME_LIMIT: Duration = Duration::from_secs(120);

fn main() -> anyhow::Result<()> {
    let runtime = tokio::runtime::Runtime::new()?;
    runtime.block_on(async { tokio::spawn(bench()).await? })
}

async fn bench() -> anyhow::Result<()> {
    let layout = Layout::new(Path::new("/var/tmp/nomenta-bench-questions"), BASE_PORT)?;
    layout.wipe()?;
    let world = World::start(layout, Arc::new(|what| eprintln!("{what} …"))).await?;
    // Looks come when they are asked for, and not by themselves.
    let options = ["--look-first=7200", "--look-most=7200", "--second-look=7200"];
    let platform = Platform::start(&world, &options).await?;
    platform.process.stop().await;
    let platform = Platform::run(&world, ServiceSetup { alone: false, ..platform.setup }).await?;

    println!(
        "| healthy domain | questions a look | to each of {SERVERS} servers | to each of {VANTAGES} vantages |"
    );
    println!("| --- | ---: | ---: | ---: |");
    for (what, host, is_signed) in [
        ("at the apex", "apex.example", false),
        ("an alias", "timetable.alias.example", false),
        ("an alias in a signed zone", "timetable.signed.example", true),
    ] {
        let [sent, servers, vantages] = counted(&platform, &world, host, is_signed).await?;
        println!("| {what} | {sent:.1} | {servers:.1} | {vantages:.1} |");
    }
    platform.process.stop().await;
    world.stop().await;
    Ok(())
}

/// Questions that were sent for one look, and the answers that it has of one server and of one
/// vantage.
async fn counted(
    platform: &Platform,
    world: &World,
    host: &str,
    is_signed: bool,
) -> anyhow::Result<[f64; 3]> {
    let zone = host.strip_prefix("timetable.").unwrap_or(host);
    world.zones.register(zone).await?;
    if is_signed {
        world.zones.sign(zone).await?;
    }
    let new = json!({ "host": host, "site": "onswick" });
    let SheetView { sheet, .. } = platform.call(Method::POST, "domains", &new).await?;
    customer::publish(&world.zones, &sheet, None).await?;

    let path = format!("domains/{host}");
    for _ in 0..BEFORE {
        look(platform, &path).await?;
    }
    // Resolvers may hold for a while that there was nothing.
    let is_healthy = || async {
        let _ = look(platform, &path).await;
        let detail: Option<DomainDetail> = platform.call(Method::GET, &path, &Value::Null).await.ok();
        detail.is_some_and(|detail| detail.gates.passed(GateName::Routing))
    };
    wait_for(&format!("{host} being healthy"), TIME_LIMIT, is_healthy).await?;

    let (mut sent, mut of_servers, mut of_vantages) = (0.0, 0, 0);
    for _ in 0..LOOKS {
        let before = questions(platform).await?;
        let view = look(platform, &path).await?;
        sent += questions(platform).await? - before;
        let survey = view.survey.context("A look has no survey")?;
        for reading in &survey.readings {
            match reading.source {
                Source::Authority { .. } => of_servers += 1,
                Source::Vantage { .. } => of_vantages += 1,
            }
        }
    }
    let each = |read: usize, sources: usize| read as f64 / (LOOKS * sources) as f64;
    Ok([sent / LOOKS as f64, each(of_servers, SERVERS), each(of_vantages, VANTAGES)])
}

/// Asks for a look, and waits for it.
async fn look(platform: &Platform, path: &str) -> anyhow::Result<SurveyView> {
    let survey = format!("{path}/survey");
    let before: SurveyView = platform.call(Method::GET, &survey, &Value::Null).await?;
    let asked = platform.request(Method::POST, &survey).send().await?;
    asked.error_for_status()?;

    let at = before.survey.map(|survey| survey.at);
    let looked = || async {
        let now: Option<SurveyView> = platform.call(Method::GET, &survey, &Value::Null).await.ok();
        now.and_then(|view| view.survey).is_some_and(|survey| Some(survey.at) != at)
    };
    wait_for("a look", TIME_LIMIT, looked).await?;
    platform.call(Method::GET, &survey, &Value::Null).await
}

/// Questions sent so far, as the service counts them.
async fn questions(platform: &Platform) -> anyhow::Result<f64> {
    let page = reqwest::Client::new().get(format!("{}/metrics", platform.setup.url()));
    let page = page.bearer_auth(&platform.setup.admin_key).send().await?.error_for_status()?.text().await?;
    let lines = page.lines().filter(|line| line.starts_with("nomenta_dns_questions_total{"));
    Ok(lines.filter_map(|line| line.rsplit(' ').next()?.parse::<f64>().ok()).sum())
}

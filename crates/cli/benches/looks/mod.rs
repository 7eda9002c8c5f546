//! How many looks are written in a second, each with an event, by one process and by
//! several on one database.

use std::process::Stdio;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use chrono::Utc;
use nomenta_core::claim::rules::Rules;
use nomenta_core::judge::gate::{GateName, GateState};
use nomenta_core::judge::schedule::NextLook;
use nomenta_core::judge::served::Served;
use nomenta_core::judge::step::Outcome;
use nomenta_core::reading::survey::{Survey, ZoneView};
use nomenta_core::reading::target::Depth;
use nomenta_store::{DomainRecord, Lane, Looked, Store};
use nomenta_world::World;
use tokio::process::Command;

/// The word by which this program becomes one that writes looks.
pub(crate) const WORD: &str = "write-looks";
/// Looks under way at once in one process: few, so that what they wait for is seen, and not
/// how fast the machine is.
const AT_ONCE: usize = 2;
const SECONDS: u64 = 8;
const DOMAINS: usize = 4000;

/// Looks written in a second by one, two and three processes.
pub(crate) async fn rates(world: &World) -> anyhow::Result<Vec<f64>> {
    // What a run before has left is worked off.
    world.statement("postgres", "DROP DATABASE IF EXISTS looks").await?;
    let url = world.database("looks").await?;
    Store::open(&url, Rules::default()).await?;
    super::seed::fill(world, "looks", DOMAINS).await?;
    world.statement("looks", "DELETE FROM tasks WHERE kind <> 'look'").await?;

    let mut rates = Vec::new();
    for processes in 1..=3 {
        world
            .statement(
                "looks",
                "UPDATE tasks SET due = now(), quick = NULL, lease = NULL, leased_until = NULL",
            )
            .await?;
        let children = (0..processes).map(|_| start(&url)).collect::<anyhow::Result<Vec<_>>>()?;
        let mut looks = 0;
        for child in children {
            let output = child.wait_with_output().await?;
            ensure!(output.status.success(), "A process that writes looks failed");
            looks += String::from_utf8_lossy(&output.stdout)
                .trim()
                .parse::<u64>()
                .context("No number of looks")?;
        }
        rates.push(looks as f64 / SECONDS as f64);
        eprintln!("{processes} processes write {:.0} looks in a second", rates[processes - 1]);
    }
    Ok(rates)
}

fn start(url: &str) -> anyhow::Result<tokio::process::Child> {
    let program = std::env::current_exe()?;
    Ok(Command::new(program).args([WORD, url]).stdout(Stdio::piped()).kill_on_drop(true).spawn()?)
}

/// Writes looks for some seconds, and prints how many.
pub(crate) async fn write(url: &str) -> anyhow::Result<()> {
    let store = Store::open(url, Rules::default()).await?;
    let end = Instant::now() + Duration::from_secs(SECONDS);
    let writers = (0..AT_ONCE).map(|_| {
        let store = store.clone();
        tokio::spawn(async move { write_until(&store, end).await })
    });

    let mut looks = 0;
    for writer in writers.collect::<Vec<_>>() {
        looks += writer.await??;
    }
    println!("{looks}");
    Ok(())
}

async fn write_until(store: &Store, end: Instant) -> anyhow::Result<u64> {
    let mut looks = 0;
    while Instant::now() < end {
        for lease in store.lease(Lane::Usual, 4).await? {
            let record = store.domain(lease.domain_id).await?;
            let (survey, outcome) = (silent(&record), moved(&record));
            let looked = Looked {
                survey: &survey,
                baseline: None,
                outcome: &outcome,
                operator: None,
                course: None,
                probe: None,
                visit: None,
                drifts: &[],
                order: None,
            };
            store.finish_look(&lease, &record, &looked, Utc::now()).await?;
            looks += 1;
        }
    }
    Ok(looks)
}

fn silent(record: &DomainRecord) -> Survey {
    Survey {
        host: record.domain.host.clone(),
        at: Utc::now(),
        zone: ZoneView::Unreachable { zone: record.domain.zone.clone(), tried: Vec::new(), delegation: None },
        readings: Vec::new(),
        samples: Vec::new(),
        recent: Default::default(),
        followed: Vec::new(),
        cuts: Vec::new(),
        trust: None,
        signed: None,
        routed: record.domain.routed(),
        depth: Depth::Full,
    }
}

/// A gate has moved since the look before, which is an event.
fn moved(record: &DomainRecord) -> Outcome {
    let now = Utc::now();
    let mut gates = record.domain.gates.clone();
    let serving = gates.0.iter_mut().find(|gate| gate.name == GateName::Serving);
    if let Some(gate) = serving {
        gate.state = if gate.state == GateState::Waiting { GateState::Blocked } else { GateState::Waiting };
        gate.since = now;
    }
    Outcome {
        gates,
        findings: Vec::new(),
        action: None,
        next_look: NextLook { due: now, soonest: now },
        zone: record.domain.zone.clone(),
        fingerprint: None,
        spread: None,
        waits: Vec::new(),
        served: Served::default(),
        moved_at: now,
        quick: None,
    }
}

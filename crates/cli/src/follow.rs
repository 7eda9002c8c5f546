//! Waiting for a domain to come to a stage, showing progress.

use std::time::Duration;

use anyhow::bail;
use futures::StreamExt;
use nomenta_core::judge::gate::Stage;
use nomenta_service::dto::{DomainDetail, Event};
use tokio::time::timeout;

use crate::Done;
use crate::args::Waiting;
use crate::client::Client;
use crate::render;

/// Waits as told; done at once if nothing is to be waited for. Progress goes
/// to standard error, so that standard output stays clean.
pub(crate) async fn wait(client: &Client, host: &str, waiting: &Waiting) -> anyhow::Result<Done> {
    let Some(stage) = waiting.until else { return Ok(Done::Yes) };
    match timeout(Duration::from_secs(waiting.within), follow(client, host, stage)).await {
        Ok(arrived) => arrived.map(|()| Done::Yes),
        Err(_) => {
            let detail: DomainDetail = client.get(&format!("domains/{host}")).await?;
            eprintln!("Not yet {stage} after {} s; {} is at {}.", waiting.within, detail.shown, detail.stage);
            for line in render::reasons(&detail) {
                eprintln!("{line}");
            }
            Ok(Done::NotYet)
        }
    }
}

async fn follow(client: &Client, host: &str, wanted: Stage) -> anyhow::Result<()> {
    // Listening comes before reading, so that nothing falls between the two.
    let mut events = client.events().await?;
    let detail: DomainDetail = client.get(&format!("domains/{host}")).await?;
    let host = detail.host.clone();
    eprintln!("{}", render::gates(&detail));
    let mut stage: Stage = detail.stage.parse().map_err(anyhow::Error::msg)?;
    let mut told = None;
    while !arrived(stage, wanted) {
        let Some(event) = events.next().await else { bail!("The service ended the connection. Try again.") };
        let event = event?;
        if event.subject.as_deref() != Some(&host) {
            continue;
        }
        eprintln!("{}", render::event(&event));
        told = Some(event.sequence);
        let detail: DomainDetail = client.get(&format!("domains/{host}")).await?;
        stage = detail.stage.parse().map_err(anyhow::Error::msg)?;
    }
    // What was committed along with the last event is part of the story.
    if let Some(told) = told {
        let rest: Vec<Event> = client.get(&format!("domains/{host}/events?after={told}")).await?;
        rest.iter().for_each(|event| eprintln!("{}", render::event(event)));
    }
    Ok(())
}

/// To be at a stage is to have passed every gate before it.
fn arrived(stage: Stage, wanted: Stage) -> bool {
    stage.rank() >= wanted.rank()
}

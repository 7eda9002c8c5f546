//! Waiting for a domain to come to a stage, showing progress.

use std::convert::Infallible;
use std::time::Duration;

use anyhow::bail;
use futures::StreamExt;
use nomenta_api::domain::DomainDetail;
use nomenta_api::event::CloudEvent;
use nomenta_core::judge::gate::Stage;
use reqwest::Method;
use tokio::time::{sleep, timeout};

use crate::Done;
use crate::args::Waiting;
use crate::client::Client;
use crate::render::{event_line, explain};

/// How often it is said that somebody waits.
const SAID_EVERY: Duration = Duration::from_secs(30);

/// Waits as told; done at once if nothing is to be waited for. Progress goes
/// to standard error, so that standard output stays clean.
pub(crate) async fn wait(client: &Client, host: &str, waiting: &Waiting) -> anyhow::Result<Done> {
    let Some(stage) = waiting.until else { return Ok(Done::Yes) };
    let arrived = async {
        tokio::select! {
            arrived = follow(client, host, stage) => arrived,
            never = keep_waiting(client, host) => match never {},
        }
    };
    match timeout(Duration::from_secs(waiting.within), arrived).await {
        Ok(arrived) => arrived.map(|()| Done::Yes),
        Err(_) => {
            let detail: DomainDetail = client.get(&format!("domains/{host}")).await?;
            eprintln!("Not yet {stage} after {} s; {} is at {}.", waiting.within, detail.shown, detail.stage);
            if let Some(hindrance) = explain::hindrance(&detail) {
                eprintln!("{hindrance}");
            }
            Ok(Done::NotYet)
        }
    }
}

/// Says again and again that somebody waits, so that looks come soon.
async fn keep_waiting(client: &Client, host: &str) -> Infallible {
    loop {
        // Looks come without it too, only later; what is wrong with the domain or the service is
        // told by whoever follows.
        let _ = client.ask(Method::POST, &format!("domains/{host}/waiting")).await;
        sleep(SAID_EVERY).await;
    }
}

async fn follow(client: &Client, host: &str, wanted: Stage) -> anyhow::Result<()> {
    // Listening comes before reading, so that nothing falls between the two.
    let mut events = client.events().await?;
    let detail: DomainDetail = client.get(&format!("domains/{host}")).await?;
    let host = detail.host.clone();

    eprintln!("{}", explain::gates(&detail));
    let mut stage = detail.stage;
    let mut told = None;

    while !arrived(stage, wanted) {
        let Some(event) = events.next().await else { bail!("The service ended the connection. Try again.") };
        let event = event?;
        if event.subject.as_deref() != Some(host.as_str()) {
            continue;
        }

        eprintln!("{}", event_line(&event));
        told = Some(event.sequence);
        let detail: DomainDetail = client.get(&format!("domains/{host}")).await?;
        stage = detail.stage;
    }

    // What was committed along with the last event is part of the story.
    if let Some(told) = told {
        let rest: Vec<CloudEvent> = client.get(&format!("domains/{host}/events?after={told}")).await?;
        rest.iter().for_each(|event| eprintln!("{}", event_line(event)));
    }

    Ok(())
}

/// To be at a stage is to have passed every gate before it.
fn arrived(stage: Stage, wanted: Stage) -> bool {
    stage.rank() >= wanted.rank()
}

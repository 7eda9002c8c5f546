//! `demo`: the world on loopback, and its customers.

use anyhow::Context;
use nomenta_core::name::hostname::Hostname;
use nomenta_service::dto::SheetView;
use nomenta_world::{Layout, Zones, customer, demo};

use super::serve::on_signal;
use crate::Done;
use crate::args::{DemoOptions, DemoVerb, Place};
use crate::client::Client;

/// Runs the demo, or plays one of its customers.
pub(crate) async fn run(client: &Client, options: DemoOptions) -> anyhow::Result<Done> {
    let DemoOptions { verb, place, fresh, ready_file } = options;
    if let Some(DemoVerb::Customer { host, take_back, mistake, place }) = verb {
        return play(client, &host, take_back, mistake, &place).await;
    }
    let program = std::env::current_exe().context("Cannot find the nomenta program")?;
    let Place { state, base_port } = place;
    let options = demo::DemoOptions { state, base_port, fresh, ready_file, program };
    demo::run(options, on_signal()?).await?;
    Ok(Done::Yes)
}

async fn play(
    client: &Client,
    host: &str,
    take_back: bool,
    mistake: Option<customer::Mistake>,
    place: &Place,
) -> anyhow::Result<Done> {
    let host = Hostname::parse(host)?;
    let view: SheetView = client.get(&format!("domains/{host}/sheet?reveal=true")).await?;
    let zones = Zones::new(Layout::new(&place.state, place.base_port)?);
    zones.register(host.registered()).await.context("Cannot register the zone. Does the demo run there?")?;
    if take_back {
        customer::take_back(&zones, &view.sheet).await?;
        println!("Took everything on the sheet of {host} back.");
        return Ok(Done::Yes);
    }
    customer::publish(&zones, &view.sheet, mistake).await?;
    match mistake {
        Some(mistake) => println!("Published the sheet of {host} with the mistake {mistake}."),
        None => println!("Published the sheet of {host}."),
    }
    Ok(Done::Yes)
}

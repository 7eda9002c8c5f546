//! The `nomenta-demo` command: the world on loopback, and its customers.

use std::path::PathBuf;
use std::process::ExitCode;

use anyhow::{Context, ensure};
use clap::{Args, Parser, Subcommand};
use nomenta_api::domain::SheetView;
use nomenta_core::name::hostname::Hostname;
use nomenta_world::customer::{self, Mistake};
use nomenta_world::{Layout, Zones, demo};
use reqwest::Client;
use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;

/// The whole world on loopback with made-up customers; or one of those customers.
#[derive(Parser)]
#[command(name = "nomenta-demo", version, subcommand_negates_reqs = true)]
struct Arguments {
    #[command(subcommand)]
    verb: Option<Verb>,
    #[command(flatten)]
    place: Place,
    /// Forget what earlier runs left.
    #[arg(long)]
    fresh: bool,
    /// Write how to reach the demo to this file, as JSON, once it serves.
    #[arg(long, value_name = "FILE")]
    ready_file: Option<PathBuf>,
}

/// Where a demo keeps its state and listens.
#[derive(Args)]
struct Place {
    /// State folder.
    #[arg(long, default_value = "/var/tmp/nomenta-demo")]
    state: PathBuf,
    /// First of its row of ports.
    #[arg(long, default_value_t = 8630, value_parser = clap::value_parser!(u16).range(1024..=60000))]
    base_port: u16,
}

#[derive(Subcommand)]
enum Verb {
    /// Play the customer of a domain in the running demo.
    Customer(CustomerOptions),
}

#[derive(Args)]
struct CustomerOptions {
    /// The domain; register a new one under .example or .test at will.
    host: String,
    /// Take back what was published.
    #[arg(long, conflicts_with = "mistake")]
    take_back: bool,
    /// Publish it wrongly in this way; rightly if left out.
    #[arg(long)]
    mistake: Option<Mistake>,
    /// Where the service answers.
    #[arg(long, env = "NOMENTA_URL", default_value = "http://127.0.0.1:8630")]
    url: String,
    /// An operator key.
    #[arg(long, env = "NOMENTA_KEY", hide_env_values = true)]
    key: String,
    #[command(flatten)]
    place: Place,
}

#[tokio::main]
async fn main() -> ExitCode {
    match run(Arguments::parse()).await {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("nomenta-demo: {error:#}");
            ExitCode::FAILURE
        }
    }
}

async fn run(arguments: Arguments) -> anyhow::Result<()> {
    if let Some(Verb::Customer(options)) = arguments.verb {
        return play(options).await;
    }

    let own = std::env::current_exe().context("Cannot find this program")?;
    let program = own.with_file_name("nomenta");
    ensure!(program.exists(), "There is no {}. Build it first: cargo build --workspace", program.display());

    let options = demo::DemoOptions {
        state: arguments.place.state,
        base_port: arguments.place.base_port,
        fresh: arguments.fresh,
        ready_file: arguments.ready_file,
        program,
    };

    demo::run(options, on_signal()?).await
}

/// Cancelled by Ctrl-C and SIGTERM.
fn on_signal() -> anyhow::Result<CancellationToken> {
    let stop = CancellationToken::new();
    for kind in [SignalKind::interrupt(), SignalKind::terminate()] {
        let mut signals = signal(kind)?;
        let stop = stop.clone();
        tokio::spawn(async move {
            signals.recv().await;
            stop.cancel();
        });
    }

    Ok(stop)
}

async fn play(options: CustomerOptions) -> anyhow::Result<()> {
    let host = Hostname::parse(&options.host)?;
    let sheet = sheet(&options, &host).await?.sheet;
    let zones = Zones::new(Layout::new(&options.place.state, options.place.base_port)?);
    zones.register(host.registered()).await.context("Cannot register the zone. Does the demo run there?")?;

    if options.take_back {
        customer::take_back(&zones, &sheet).await?;
        println!("Took everything on the sheet of {host} back.");
        return Ok(());
    }

    customer::publish(&zones, &sheet, options.mistake).await?;
    match options.mistake {
        Some(mistake) => println!("Published the sheet of {host} with the mistake {mistake}."),
        None => println!("Published the sheet of {host}."),
    }

    Ok(())
}

/// What the customer was given.
async fn sheet(options: &CustomerOptions, host: &Hostname) -> anyhow::Result<SheetView> {
    let url = format!("{}/api/v1/domains/{host}/sheet?reveal=true", options.url);
    let asked = Client::new().get(url).bearer_auth(&options.key).send().await;
    let response = asked.with_context(|| format!("{} does not answer. Does the demo run?", options.url))?;

    let status = response.status();
    let text = response.text().await?;
    ensure!(status.is_success(), "There is no sheet for {host}: {}", told(&text));
    Ok(serde_json::from_str(&text)?)
}

/// What a problem document says.
fn told(text: &str) -> String {
    let problem = serde_json::from_str::<nomenta_api::problem::Problem>(text);
    problem.map_or_else(|_| text.to_owned(), |problem| problem.detail)
}

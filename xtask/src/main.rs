//! Set-up, demo and tests of the repository: `cargo xtask demo` and
//! `cargo xtask test` are all that a newcomer needs.

mod advisories;
mod check;
mod console;
mod fuzz;
mod generate;
mod packages;
mod queries;
mod shots;
mod test;
mod tester;

use std::env;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context, ensure};
use clap::{Parser, Subcommand};

#[derive(Parser)]
#[command(about = "Set-up, demo and tests of the repository")]
struct Arguments {
    #[command(subcommand)]
    task: Task,
}

#[derive(Subcommand)]
enum Task {
    /// Install what is missing, build, and run the demo with these options.
    #[command(disable_help_flag = true)]
    Demo {
        /// Options of `nomenta-demo`.
        #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
        options: Vec<String>,
    },
    /// Check format, lints, types and docs; no test is run.
    Check,
    /// Install what is missing, check everything, and run every test.
    Test {
        /// Only the tests of this crate, or those whose name contains this; checks
        /// are skipped then.
        filter: Option<String>,
        /// Heavy cases in their full number.
        #[arg(long)]
        full: bool,
    },
    /// Write what is generated from the code and kept: query data, the OpenAPI
    /// document and the page of findings.
    Generate,
    /// Install what is missing, and measure.
    Bench {
        /// What to measure.
        what: Measure,
        /// How many domains, if not as many as usual.
        domains: Option<u32>,
        /// Measure the fleets that the run before has made.
        #[arg(long, requires = "domains")]
        again: bool,
    },
    /// Run each fuzz target for a while.
    Fuzz {
        /// Seconds for each.
        #[arg(default_value_t = 60)]
        seconds: u32,
    },
    /// Check licences, sources and versions of what is depended on.
    Dependencies,
    /// Take the pictures in docs/screenshots from a fresh demo.
    Shots,
}

/// The demo's program, once it is built.
const DEMO: &str = "target/debug/nomenta-demo";

/// What can be measured.
#[derive(Clone, Copy, clap::ValueEnum)]
enum Measure {
    /// DNS surveys, beside dnsperf.
    Survey,
    /// How soon a change reaches an edge server.
    Edge,
    /// Listings, counts and looks of a large fleet.
    Fleet,
    /// Calls beside others who take what they can get by connecting.
    Crowd,
    /// How soon a gate moves once the customer has mended what was wrong.
    Soon,
    /// How many questions a look at a healthy domain costs.
    Questions,
    /// Reading names and zone files, and judging.
    Core,
}

fn main() -> anyhow::Result<()> {
    let arguments = Arguments::parse();
    env::set_current_dir(root()).context("Cannot enter the repository")?;
    match arguments.task {
        Task::Demo { options } => demo(&options),
        Task::Check => check::run(),
        Task::Test { filter: None, full } => test::all(full),
        Task::Test { filter: Some(filter), full } => test::some(&filter, full),
        Task::Generate => generate::run(),
        Task::Bench { what, domains, again } => bench(what, domains, again),
        Task::Fuzz { seconds } => fuzz::each(fuzz::Effort::Seconds(seconds)),
        Task::Dependencies => check::dependencies(),
        Task::Shots => shots::run(),
    }
}

/// The repository's folder.
fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().map(Path::to_path_buf).unwrap_or_default()
}

/// Says what is being done.
fn say(what: &str) {
    println!("==> {what}");
}

/// Runs a command, its output shown, to its success.
fn run(program: &str, args: &[&str]) -> anyhow::Result<()> {
    run_in(Path::new("."), program, args)
}

fn run_in(folder: &Path, program: &str, args: &[&str]) -> anyhow::Result<()> {
    let status = Command::new(program)
        .args(args)
        .current_dir(folder)
        .status()
        .with_context(|| format!("Cannot run {program}. Is it installed?"))?;

    ensure!(status.success(), "{program} {} failed", args.join(" "));
    Ok(())
}

fn cargo(args: &[&str]) -> anyhow::Result<()> {
    let status = cargo_command().args(args).status()?;
    ensure!(status.success(), "cargo {} failed", args.join(" "));
    Ok(())
}

/// Cargo without what the Cargo around this process has set: some build
/// scripts look at it, and would build everything anew.
fn cargo_command() -> Command {
    let mut command = Command::new(env::var("CARGO").unwrap_or_else(|_| "cargo".into()));
    for (name, _) in env::vars() {
        if is_of_this_package(&name) {
            command.env_remove(name);
        }
    }
    command
}

fn is_of_this_package(variable: &str) -> bool {
    matches!(variable, "CARGO_MANIFEST_DIR" | "CARGO_MANIFEST_PATH") || variable.starts_with("CARGO_PKG_")
}

fn set_up() -> anyhow::Result<()> {
    packages::ensure()?;
    console::build()
}

fn demo(options: &[String]) -> anyhow::Result<()> {
    set_up()?;
    say("Compiling the service");
    cargo(&["build", "--workspace"])?;
    say("Starting the demo");
    // Taking this process's place, so that signals reach the demo itself.
    let error = Command::new(DEMO).args(options).exec();

    Err(error).with_context(|| format!("Cannot start {DEMO}"))
}

fn bench(what: Measure, domains: Option<u32>, again: bool) -> anyhow::Result<()> {
    set_up()?;
    let name = match what {
        Measure::Survey => {
            packages::ensure_one("dnsperf", "dnsperf")?;
            "survey"
        }
        Measure::Edge => "edge",
        Measure::Fleet => "fleet",
        Measure::Crowd => "crowd",
        Measure::Soon => "soon",
        Measure::Questions => "questions",
        // No server, and no number of domains.
        Measure::Core => return cargo(&["bench", "--package", "nomenta-core", "--bench", "core"]),
    };

    let domains = domains.map(|domains| domains.to_string());
    let words = ["bench", "--package", "nomenta-cli", "--bench", name, "--"];
    let again = again.then_some("again");
    cargo(&words.into_iter().chain(domains.as_deref()).chain(again).collect::<Vec<_>>())
}

//! Set-up, demo and tests of the repository: `cargo xtask demo` and
//! `cargo xtask test` are all that a newcomer needs.

mod console;
mod fuzz;
mod packages;
mod queries;

use std::env;
use std::fs;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::thread::sleep;
use std::time::Duration;

use anyhow::{Context, bail, ensure};
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
        /// Options of `nomenta demo`.
        #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
        options: Vec<String>,
    },
    /// Install what is missing, check everything, and run every test.
    Test {
        /// Only tests whose name contains this; checks are skipped then.
        filter: Option<String>,
    },
    /// Write what is generated from the code and kept: query data, the OpenAPI
    /// document and the page of findings.
    Generate,
    /// Install what is missing, and measure; `survey` is what there is.
    Bench {
        /// What to measure.
        what: Measure,
        /// How many domains; 100,000 if left out.
        domains: Option<u32>,
    },
    /// Run each fuzz target for a while.
    Fuzz {
        /// Seconds for each.
        #[arg(default_value_t = 60)]
        seconds: u32,
    },
    /// Take the pictures in docs/screenshots from a fresh demo.
    Shots,
}

/// What can be measured.
#[derive(Clone, Copy, clap::ValueEnum)]
enum Measure {
    /// DNS surveys, beside dnsperf.
    Survey,
    /// How soon a change reaches an edge server.
    Edge,
}

fn main() -> anyhow::Result<()> {
    let arguments = Arguments::parse();
    env::set_current_dir(root()).context("Cannot enter the repository")?;
    match arguments.task {
        Task::Demo { options } => demo(&options),
        Task::Test { filter } => test(filter.as_deref()),
        Task::Generate => generate(),
        Task::Bench { what, domains } => bench(what, domains),
        Task::Fuzz { seconds } => fuzz::run(seconds),
        Task::Shots => shots(),
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
    let ours = |name: &str| {
        name == "CARGO_MANIFEST_DIR" || name == "CARGO_MANIFEST_PATH" || name.starts_with("CARGO_PKG_")
    };
    for (name, _) in env::vars().filter(|(name, _)| ours(name)) {
        command.env_remove(name);
    }
    command
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
    let error = Command::new("target/debug/nomenta").arg("demo").args(options).exec();
    Err(error).context("Cannot start target/debug/nomenta")
}

fn test(filter: Option<&str>) -> anyhow::Result<()> {
    set_up()?;
    if let Some(filter) = filter {
        return cargo(&["test", "--workspace", "--", filter]);
    }
    say("Checking the console");
    console::check()?;
    say("Checking format and lints");
    cargo(&["fmt", "--all", "--check"])?;
    cargo(&["clippy", "--workspace", "--all-targets", "--", "--deny", "warnings"])?;
    say("Checking that what is generated is up to date");
    cargo(&["build", "--workspace"])?;
    for (path, words) in GENERATED {
        let current = fs::read_to_string(path).is_ok_and(|text| printed(words).is_ok_and(|now| now == text));
        ensure!(current, "{path} is out of date. Run: cargo xtask generate");
    }
    say("Running every test");
    // Tests mostly wait for servers, and the domains of those that are done go on
    // being looked at: the sooner all are done, the less there is to do.
    cargo(&["test", "--workspace", "--no-fail-fast", "--", "--test-threads=8"])
}

fn bench(what: Measure, domains: Option<u32>) -> anyhow::Result<()> {
    set_up()?;
    let name = match what {
        Measure::Survey => {
            packages::ensure_one("dnsperf", "dnsperf")?;
            "survey"
        }
        Measure::Edge => "edge",
    };
    let domains = domains.map(|n| n.to_string());
    let words = ["bench", "--package", "nomenta-cli", "--bench", name, "--"];
    cargo(&words.into_iter().chain(domains.as_deref()).collect::<Vec<_>>())
}

/// Documents that are made from the code, and the call that prints each.
const GENERATED: [(&str, &[&str]); 2] =
    [("docs/openapi.json", &["openapi"]), ("docs/findings.md", &["findings", "--as", "markdown"])];

fn printed(words: &[&str]) -> anyhow::Result<String> {
    let output = Command::new("target/debug/nomenta").args(words).output()?;
    if !output.status.success() {
        bail!("nomenta {} failed: {}", words.join(" "), String::from_utf8_lossy(&output.stderr));
    }
    Ok(String::from_utf8(output.stdout)?)
}

fn generate() -> anyhow::Result<()> {
    packages::ensure()?;
    say("Preparing the query data");
    queries::prepare()?;
    say("Writing the documents made from the code");
    cargo(&["build", "--workspace"])?;
    fs::create_dir_all("docs")?;
    for (path, words) in GENERATED {
        fs::write(path, printed(words)?)?;
    }
    Ok(())
}

fn shots() -> anyhow::Result<()> {
    set_up()?;
    cargo(&["build", "--workspace"])?;
    say("Starting a demo to take pictures of");
    let ready = env::current_dir()?.join("target/shots-ready.json");
    let _ = fs::remove_file(&ready);
    let mut demo = Command::new("target/debug/nomenta")
        .args([
            "demo",
            "--fresh",
            "--state",
            "/var/tmp/nomenta-shots",
            "--base-port",
            "20630",
            "--ready-file",
        ])
        .arg(&ready)
        .spawn()?;
    while !ready.exists() {
        ensure!(demo.try_wait()?.is_none(), "The demo ended early");
        sleep(Duration::from_millis(200));
    }
    say("Taking pictures");
    let status = cargo_command()
        .args(["test", "--package", "nomenta-cli", "--test", "it", "--", "--ignored", "shots"])
        .env("NOMENTA_READY_FILE", &ready)
        .status();
    run("kill", &["-TERM", &demo.id().to_string()])?;
    demo.wait()?;
    ensure!(status?.success(), "The pictures could not be taken");
    Ok(())
}

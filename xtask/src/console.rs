//! The console: packages, build, checks, generated types.

use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::SystemTime;

use anyhow::ensure;
use serde_json::Value;

use crate::{run_in, say};

const CONSOLE: &str = "console";

fn npm(args: &[&str]) -> anyhow::Result<()> {
    run_in(Path::new(CONSOLE), "npm", args)
}

fn changed(path: &str) -> SystemTime {
    fs::metadata(Path::new(CONSOLE).join(path))
        .and_then(|file| file.modified())
        .unwrap_or(SystemTime::UNIX_EPOCH)
}

fn install() -> anyhow::Result<()> {
    if changed("node_modules/.package-lock.json") >= changed("package-lock.json") {
        return Ok(());
    }

    say("Installing the console's packages");
    npm(&["ci", "--no-audit", "--no-fund", "--loglevel=error"])
}

/// Installs packages and builds the console.
pub(crate) fn build() -> anyhow::Result<()> {
    install()?;
    say("Building the console");
    npm(&["run", "--silent", "build"])
}

/// Tests the plain functions.
pub(crate) fn test() -> anyhow::Result<()> {
    install()?;
    say("Testing the console's functions");
    npm(&["run", "--silent", "test"])
}

/// Asks the registry what is known against packages that are served; `false` where it does not say.
pub(crate) fn advisories() -> anyhow::Result<bool> {
    let mut asked = Command::new("npm");
    asked.args(["audit", "--omit=dev", "--json"]).current_dir(CONSOLE);
    let told: Value = match serde_json::from_slice(&asked.output()?.stdout) {
        Ok(told) => told,
        Err(_) => return Ok(false),
    };
    let Some(counts) = told["metadata"]["vulnerabilities"].as_object() else { return Ok(false) };
    let high = ["high", "critical"].iter().filter_map(|level| counts.get(*level)?.as_u64()).sum::<u64>();
    ensure!(
        high == 0,
        "Something is known against {high} packages of the console: npm audit --omit=dev tells"
    );
    Ok(true)
}

/// Type-checks against the OpenAPI document, lints and checks the format.
pub(crate) fn check() -> anyhow::Result<()> {
    install()?;
    npm(&["run", "--silent", "check"])
}

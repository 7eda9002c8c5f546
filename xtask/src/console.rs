//! The console: packages, build, checks, generated types.

use std::fs;
use std::path::Path;
use std::time::SystemTime;

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

/// Type-checks against the OpenAPI document, lints and checks the format.
pub(crate) fn check() -> anyhow::Result<()> {
    install()?;
    npm(&["run", "--silent", "check"])
}

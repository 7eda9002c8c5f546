//! What is generated from the code and kept.

use std::fs;
use std::process::Command;

use anyhow::{bail, ensure};

use crate::{cargo, packages, queries, say};

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

/// Writes everything anew.
pub(crate) fn run() -> anyhow::Result<()> {
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

/// Whether every document is as the code has it.
///
/// # Errors
/// If one is not; the message says what to run.
pub(crate) fn check() -> anyhow::Result<()> {
    for (path, words) in GENERATED {
        let current = fs::read_to_string(path).is_ok_and(|text| printed(words).is_ok_and(|now| now == text));
        ensure!(current, "{path} is out of date. Run: cargo xtask generate");
    }
    Ok(())
}

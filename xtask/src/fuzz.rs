//! Fuzzing: each target for a while, by cargo-fuzz.

use std::process::{Command, Stdio};

use crate::{cargo, packages, say};

const TARGETS: [&str; 2] = ["reply", "zone"];

/// Runs every target for so many seconds; a finding is an error.
pub(crate) fn run(seconds: u32) -> anyhow::Result<()> {
    packages::ensure_one("g++", "g++")?;
    let known = Command::new("cargo")
        .args(["fuzz", "--version"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    if !known.is_ok_and(|status| status.success()) {
        say("Installing cargo-fuzz");
        cargo(&["install", "cargo-fuzz", "--locked", "--quiet"])?;
    }
    for target in TARGETS {
        say(&format!("Fuzzing {target} for {seconds} s"));
        // Sanitizers need another compiler; what is fuzzed has no unsafe code.
        let time = format!("-max_total_time={seconds}");
        let words =
            ["fuzz", "run", "--sanitizer", "none", target, "--", &time, "-timeout=10", "-rss_limit_mb=4096"];
        cargo(&words)?;
    }
    Ok(())
}

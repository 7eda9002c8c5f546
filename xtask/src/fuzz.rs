//! Fuzzing: each target for a while.

use std::fs;
use std::process::Command;

use anyhow::{Context, ensure};

use crate::{cargo_command, packages, run, say};

const TARGETS: [&str; 8] = ["reply", "name", "zone", "amended", "caa", "token", "answer", "intake"];

/// Counts which branches an input takes, which is what guides libFuzzer.
/// Sanitizers need another compiler; what is fuzzed has no unsafe code.
const INSTRUMENTED: &str = "--cfg fuzzing -Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 \
     -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table \
     -Cllvm-args=-sanitizer-coverage-trace-compares -Cdebug-assertions";

/// How long each target is run.
#[derive(Clone, Copy)]
pub(crate) enum Effort {
    /// The same inputs every time, enough to meet what is badly broken.
    Smoke,
    /// Ever new ones, for so many seconds.
    Seconds(u32),
}

/// Runs every target; a finding is an error.
pub(crate) fn each(effort: Effort) -> anyhow::Result<()> {
    packages::ensure_one("g++", "g++")?;
    say("Compiling the fuzz targets");
    let host = host()?;

    // Named, the host is built for apart from what builds: build scripts are
    // not to be instrumented.
    let built = cargo_command()
        .args(["build", "--quiet", "--release", "--manifest-path", "fuzz/Cargo.toml"])
        .args(["--target-dir", "target/fuzz", "--target", &host])
        .env("RUSTFLAGS", INSTRUMENTED)
        .status()?;

    ensure!(built.success(), "The fuzz targets do not compile");

    for target in TARGETS {
        say(&format!("Fuzzing {target}"));
        let program = format!("target/fuzz/{host}/release/{target}");
        let found = format!("-artifact_prefix=target/fuzz/{target}-");
        let limits = ["-timeout=10", "-rss_limit_mb=4096", "-verbosity=0", &found];
        match effort {
            Effort::Smoke => run(&program, &[&limits[..], &["-seed=1", "-runs=500000"]].concat())?,
            Effort::Seconds(seconds) => {
                let time = format!("-max_total_time={seconds}");
                let corpus = format!("target/fuzz/corpus-{target}");
                fs::create_dir_all(&corpus)?;
                run(&program, &[&[corpus.as_str(), &time], &limits[..]].concat())?;
            }
        }
    }

    Ok(())
}

/// What the compiler builds for where nothing else is named.
fn host() -> anyhow::Result<String> {
    let output = Command::new("rustc").arg("-vV").output().context("Cannot run rustc")?;
    let text = String::from_utf8(output.stdout)?;
    let host = text.lines().find_map(|line| line.strip_prefix("host: "));
    Ok(host.context("rustc names no host")?.to_owned())
}

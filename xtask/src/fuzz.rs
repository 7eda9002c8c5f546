//! Fuzzing: each target for a while.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use anyhow::{Context, ensure};
use data_encoding::BASE64;

use crate::{cargo_command, packages, run, say};

const TARGETS: [&str; 8] = ["reply", "name", "zone", "amended", "caa", "token", "answer", "intake"];

/// Counts which branches an input takes, which is what guides libFuzzer.
/// Sanitizers need another compiler; what is fuzzed has no unsafe code.
const INSTRUMENTED: &str = "--cfg fuzzing -Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 \
     -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table \
     -Cllvm-args=-sanitizer-coverage-trace-compares -Cdebug-assertions";

/// Longest input that is kept, in octets: what needs more is found again from what is shorter.
const LONGEST_KEPT: usize = 2_048;

/// How long each target is run.
#[derive(Clone, Copy)]
pub(crate) enum Effort {
    /// What is kept, and the same inputs every time from there: enough to meet what is badly broken.
    Smoke,
    /// Ever new ones, for so many seconds; what reaches further is kept.
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
            Effort::Smoke => {
                let inputs = fresh_folder(&format!("target/fuzz/kept-{target}"))?;
                unpack(target, &inputs)?;
                let words = [inputs.to_str().context("a path of UTF-8")?, "-seed=1", "-runs=100000"];
                run(&program, &[&words[..], &limits].concat())?;
            }
            Effort::Seconds(seconds) => {
                let time = format!("-max_total_time={seconds}");
                let corpus = format!("target/fuzz/corpus-{target}");
                fs::create_dir_all(&corpus)?;
                unpack(target, Path::new(&corpus))?;
                run(&program, &[&[corpus.as_str(), &time], &limits[..]].concat())?;
                pack(target, &program, &corpus)?;
            }
        }
    }

    Ok(())
}

/// Where the inputs of a target are kept from run to run: one in a line, in base64.
fn kept(target: &str) -> PathBuf {
    Path::new("fuzz/corpus").join(format!("{target}.txt"))
}

fn fresh_folder(path: &str) -> anyhow::Result<PathBuf> {
    if Path::new(path).exists() {
        fs::remove_dir_all(path)?;
    }
    fs::create_dir_all(path)?;
    Ok(path.into())
}

/// Writes what is kept to a folder, a file each.
fn unpack(target: &str, folder: &Path) -> anyhow::Result<()> {
    let path = kept(target);
    let text = fs::read_to_string(&path).with_context(|| format!("Cannot read {}", path.display()))?;
    for (line, number) in text.lines().zip(1..) {
        let place = || format!("{}, line {number}, is not base64", path.display());
        let input = BASE64.decode(line.as_bytes()).with_context(place)?;
        fs::write(folder.join(format!("kept-{number}")), input)?;
    }
    Ok(())
}

/// Keeps of a corpus the shortest inputs that go everywhere it goes.
fn pack(target: &str, program: &str, corpus: &str) -> anyhow::Result<()> {
    let merged = format!("target/fuzz/merged-{target}");
    let folder = fresh_folder(&merged)?;
    // Where they go, not how often.
    run(program, &["-merge=1", "-use_counters=0", "-timeout=10", "-verbosity=0", &merged, corpus])?;

    let mut lines = Vec::new();
    for file in fs::read_dir(folder)? {
        let input = fs::read(file?.path())?;
        if input.len() <= LONGEST_KEPT {
            lines.push(format!("{}\n", BASE64.encode(&input)));
        }
    }
    lines.sort_by(|one, other| one.len().cmp(&other.len()).then_with(|| one.cmp(other)));
    fs::write(kept(target), lines.concat())?;
    Ok(())
}

/// What the compiler builds for where nothing else is named.
fn host() -> anyhow::Result<String> {
    let output = Command::new("rustc").arg("-vV").output().context("Cannot run rustc")?;
    let text = String::from_utf8(output.stdout)?;
    let host = text.lines().find_map(|line| line.strip_prefix("host: "));
    Ok(host.context("rustc names no host")?.to_owned())
}

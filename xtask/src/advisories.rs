//! What is known against what is depended on: advisories, where their databases are to be had, and
//! always what the registry itself says of a version.

use std::env;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Stdio;

use anyhow::{Context, bail, ensure};
use serde_json::Value;

use crate::{cargo, cargo_command, console, say};

/// Checks crates and the console's packages.
///
/// # Errors
/// If something is known against one of them.
pub(crate) fn check() -> anyhow::Result<()> {
    say("Checking what is known against dependencies");
    if has_database() {
        cargo(&["deny", "check", "--hide-inclusion-graph", "--disable-fetch", "advisories"])?;
    } else {
        say(
            "The database of advisories for crates is not to be had here: versions that were withdrawn are looked for",
        );
    }
    withdrawn()?;

    if !console::advisories()? {
        say(
            "The registry of the console's packages has no advisories here: ones that were given up are looked for",
        );
    }
    given_up()
}

/// Whether the database is there, as new as it is to be had.
fn has_database() -> bool {
    let fetched = cargo_command().args(["deny", "fetch", "db"]).stderr(Stdio::null()).status();
    fetched.is_ok_and(|status| status.success())
}

/// A crate of the lock file.
struct Locked {
    name: String,
    version: String,
}

fn locked() -> anyhow::Result<Vec<Locked>> {
    let text = fs::read_to_string("Cargo.lock").context("Cannot read Cargo.lock")?;
    let packages = text.split("[[package]]").skip(1);
    let field = |package: &str, name: &str| {
        let line =
            package.lines().find_map(|line| line.strip_prefix(&format!("{name} = \"")).map(str::to_owned));
        line.map(|value| value.trim_end_matches('"').to_owned())
    };
    let of_registry = packages.filter(|package| package.contains("source = \"registry+"));
    let read = of_registry.map(|package| {
        let name = field(package, "name").context("a package without a name")?;
        let version = field(package, "version").context("a package without a version")?;
        Ok(Locked { name, version })
    });
    read.collect()
}

/// Fails at crates that the registry has withdrawn, as its index said when they were fetched.
fn withdrawn() -> anyhow::Result<()> {
    let indexes = indexes()?;
    let (mut known, mut told) = (0, Vec::new());
    for Locked { name, version } in locked()? {
        let Some(is_withdrawn) = indexes.iter().find_map(|index| is_withdrawn(index, &name, &version)) else {
            continue;
        };
        known += 1;
        if is_withdrawn {
            told.push(format!("{name} {version}"));
        }
    }
    ensure!(known > 0, "Cargo keeps no index in a form that can be read here");
    ensure!(
        told.is_empty(),
        "These crates were withdrawn: {}. Take other versions: cargo update",
        told.join(", ")
    );
    Ok(())
}

/// Where Cargo keeps what it has read of registries.
fn indexes() -> anyhow::Result<Vec<PathBuf>> {
    let home = env::var_os("CARGO_HOME").map(PathBuf::from);
    let home = home.or_else(|| env::home_dir().map(|home| home.join(".cargo"))).context("no home")?;
    let kept = fs::read_dir(home.join("registry/index")).context("Cargo has read no registry")?;
    Ok(kept.flatten().map(|index| index.path().join(".cache")).collect())
}

fn is_withdrawn(index: &Path, name: &str, version: &str) -> Option<bool> {
    let folder = match name.len() {
        1 => "1".to_owned(),
        2 => "2".to_owned(),
        3 => format!("3/{}", &name[..1]),
        _ => format!("{}/{}", &name[..2], &name[2..4]),
    };
    let octets = fs::read(index.join(folder).join(name)).ok()?;
    let versions = octets.split(|octet| *octet == 0).filter(|part| part.starts_with(b"{"));
    let mut read = versions.filter_map(|part| serde_json::from_slice::<Value>(part).ok());
    let found = read.find(|one| one["vers"] == version)?;
    found["yanked"].as_bool()
}

/// Fails at packages of the console whose authors have given them up.
fn given_up() -> anyhow::Result<()> {
    let text =
        fs::read_to_string("console/package-lock.json").context("Cannot read the console's lock file")?;
    let lock: Value = serde_json::from_str(&text)?;
    let Some(packages) = lock["packages"].as_object() else {
        bail!("The console's lock file has no packages")
    };
    let told: Vec<_> = packages
        .iter()
        .filter_map(|(name, package)| Some(format!("{name}: {}", package["deprecated"].as_str()?)))
        .collect();
    ensure!(told.is_empty(), "These packages were given up: {}", told.join("; "));
    Ok(())
}

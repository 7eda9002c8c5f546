//! Everything that can be told without running anything.

use anyhow::ensure;

use crate::{advisories, cargo, cargo_command, console, say};

/// Checks format, lints, types and docs.
pub(crate) fn run() -> anyhow::Result<()> {
    say("Checking format and lints");
    cargo(&["fmt", "--all", "--check"])?;
    cargo(&["clippy", "--quiet", "--workspace", "--all-targets", "--", "--deny", "warnings"])?;

    say("Checking the docs");
    let mut doc = cargo_command();
    doc.args(["doc", "--quiet", "--workspace", "--no-deps"]).env("RUSTDOCFLAGS", "--deny warnings");
    ensure!(doc.status()?.success(), "The docs have faults");

    say("Checking the console");
    console::check()?;
    advisories::check()
}

/// Checks licences, sources and versions of what is depended on, as `deny.toml`
/// wants them; by a tool that takes minutes to build where it is missing.
pub(crate) fn dependencies() -> anyhow::Result<()> {
    let known = cargo_command().args(["deny", "--version"]).output();
    if !known.is_ok_and(|output| output.status.success()) {
        say("Installing cargo-deny");
        cargo(&["install", "cargo-deny", "--locked", "--quiet"])?;
    }
    cargo(&["deny", "check", "--hide-inclusion-graph", "licenses", "sources", "bans"])
}

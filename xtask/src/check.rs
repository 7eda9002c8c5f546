//! Everything that can be told without running anything.

use anyhow::ensure;

use crate::{cargo, cargo_command, console, say};

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
    console::check()
}

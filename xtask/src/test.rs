//! Tests: every one, or some.

use std::path::Path;

use anyhow::ensure;

use crate::fuzz::Effort;
use crate::{cargo, cargo_command, check, console, fuzz, generate, packages, say, tester};

/// What the names of tests have that open the console in a browser.
const BROWSER_TESTS: &str = "console::";
/// Tells tests to do heavy cases in their full number.
const FULL: &str = "NOMENTA_FULL";
/// Crates whose tests need no server.
const PURE: [&str; 4] = ["core", "api", "dns", "certs"];

/// Checks everything, and runs every test.
pub(crate) fn all(full: bool) -> anyhow::Result<()> {
    packages::ensure_for_tests()?;
    tester::ensure()?;
    console::build()?;
    console::test()?;
    check::run()?;

    say("Checking that what is generated is up to date");
    cargo(&["build", "--workspace"])?;
    generate::check()?;

    say("Running every test");
    // Tests mostly wait for servers, and the domains of those that are done go on
    // being looked at: the sooner all are done, the less there is to do.
    test(&["--workspace", "--no-fail-fast", "--", "--test-threads=8"], full)?;
    fuzz::each(Effort::Smoke)
}

/// Runs the tests of one crate, or those whose name contains `filter`, with no
/// more preparation than they need.
pub(crate) fn some(filter: &str, full: bool) -> anyhow::Result<()> {
    match filter {
        "core" => packages::ensure_for_core()?,
        pure if PURE.contains(&pure) => {}
        _ => {
            packages::ensure_for_tests()?;
            tester::ensure()?;
        }
    }

    if Path::new("crates").join(filter).is_dir() {
        if filter == "cli" {
            console::build()?;
        }
        return test(&["--package", &format!("nomenta-{filter}")], full);
    }

    // The service and the demo run as programs of their own.
    cargo(&["build", "--workspace"])?;
    if opens_a_browser(filter)? {
        console::build()?;
    }

    test(&["--workspace", "--", filter], full)
}

fn opens_a_browser(filter: &str) -> anyhow::Result<bool> {
    let listed = cargo_command().args(["test", "--workspace", "--", "--list", filter]).output()?;
    ensure!(listed.status.success(), "{}", String::from_utf8_lossy(&listed.stderr));
    Ok(String::from_utf8_lossy(&listed.stdout).lines().any(|name| name.contains(BROWSER_TESTS)))
}

fn test(words: &[&str], full: bool) -> anyhow::Result<()> {
    let mut command = cargo_command();
    command.arg("test").args(words);
    if full {
        command.env(FULL, "1");
    }

    ensure!(command.status()?.success(), "A test failed");
    Ok(())
}

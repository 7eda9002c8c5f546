//! The property-based tester of the API, a Python program in a folder of its own under
//! `target`.

use std::path::Path;
use std::process::Command;

use crate::{packages, run, say};

const FOLDER: &str = "target/schemathesis";
/// What is installed; another version finds other faults.
const WANTED: &str = "schemathesis==4.32.5";

/// Installs it, unless it is there.
///
/// # Errors
/// If Python or the package is not to be had.
pub(crate) fn ensure() -> anyhow::Result<()> {
    packages::ensure_one("python3", "python3")?;
    if is_there() {
        return Ok(());
    }

    say("Installing the tester of the API");
    // What an earlier run left half made is made anew.
    let make = || run("python3", &["-m", "venv", "--clear", FOLDER]);
    if make().is_err() {
        // Debian has what makes such folders in a package of its own.
        packages::install(&["python3-venv"])?;
        make()?;
    }
    let pip = Path::new(FOLDER).join("bin/pip");
    run(&pip.to_string_lossy(), &["install", "--quiet", "--disable-pip-version-check", WANTED])
}

fn is_there() -> bool {
    let pip = Path::new(FOLDER).join("bin/pip");
    let listed = Command::new(pip).args(["freeze", "--disable-pip-version-check"]).output();
    listed.is_ok_and(|output| String::from_utf8_lossy(&output.stdout).lines().any(|line| line == WANTED))
}

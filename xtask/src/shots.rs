//! The pictures in docs/screenshots.

use std::env;
use std::fs;
use std::process::Command;
use std::thread::sleep;
use std::time::Duration;

use anyhow::ensure;

use crate::{DEMO, cargo, cargo_command, say, set_up};

/// Takes them from a fresh demo.
pub(crate) fn run() -> anyhow::Result<()> {
    set_up()?;
    cargo(&["build", "--workspace"])?;
    say("Starting a demo to take pictures of");
    let ready = env::current_dir()?.join("target/shots-ready.json");
    let _ = fs::remove_file(&ready);

    let mut demo = Command::new(DEMO)
        .args(["--fresh", "--state", "/var/tmp/nomenta-shots", "--base-port", "20630", "--ready-file"])
        .arg(&ready)
        .spawn()?;

    while !ready.exists() {
        ensure!(demo.try_wait()?.is_none(), "The demo ended early");
        sleep(Duration::from_millis(200));
    }

    say("Taking pictures");
    let status = cargo_command()
        .args(["test", "--package", "nomenta-cli", "--test", "it", "--", "--ignored", "shots"])
        .env("NOMENTA_READY_FILE", &ready)
        .status();

    crate::run("kill", &["-TERM", &demo.id().to_string()])?;
    demo.wait()?;
    ensure!(status?.success(), "The pictures could not be taken");
    Ok(())
}

//! Name servers that are started from configuration files of a folder, and their zones.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::Stdio;

use anyhow::{Context, ensure};
use nix::sys::signal::Signal;
use tokio::process::Command;

use crate::daemon::{self, Daemon};
use crate::{PATIENCE, alive, wait_for};

/// A zone and its master file.
pub(crate) struct Served {
    pub apex: String,
    pub text: String,
}

pub(crate) fn zone(apex: &str, text: String) -> Served {
    Served { apex: apex.to_owned(), text }
}

/// The head of a master file.
pub(crate) fn start_of_authority(apex: &str) -> String {
    let origin = if apex == "." { String::new() } else { apex.to_owned() };
    format!(
        "$ORIGIN {origin}.\n$TTL 5\n@ SOA a.registry.example. hostmaster.registry.example. 1 3600 600 86400 2\n"
    )
}

/// Where the files of some servers stand.
pub(crate) struct Servers {
    pub folder: PathBuf,
}

impl Servers {
    pub(crate) fn write(&self, name: &str, text: &str) -> anyhow::Result<PathBuf> {
        let path = self.folder.join(name);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        std::fs::write(&path, text).with_context(|| format!("Cannot write {}", path.display()))?;
        Ok(path)
    }

    /// Master files, each with its apex.
    pub(crate) fn zones(&self, server: &str, zones: &[Served]) -> anyhow::Result<Vec<(String, PathBuf)>> {
        let written = zones.iter().map(|zone| {
            let name = if zone.apex == "." { "root" } else { &zone.apex };
            Ok((zone.apex.clone(), self.write(&format!("{server}/{name}.zone"), &zone.text)?))
        });
        written.collect()
    }

    /// With the rights that the port needs; it ends with whoever starts it.
    pub(crate) fn command(&self, name: &str) -> anyhow::Result<Command> {
        let path = daemon::program(name).with_context(|| format!("{name} is not installed."))?;
        let mut command = Command::new("setpriv");
        command
            .args(["--pdeathsig", "TERM"])
            .arg(path)
            .current_dir(&self.folder)
            .stdin(Stdio::null())
            .process_group(0);
        Ok(command)
    }

    pub(crate) async fn started(
        &self,
        name: &str,
        command: Command,
        log: &str,
        address: SocketAddr,
        probe: &str,
    ) -> anyhow::Result<Daemon> {
        let log: &Path = &self.folder.join(log);
        let mut daemon = Daemon::start(name, command, log, Signal::SIGTERM)?;

        wait_for(&format!("{name} answering"), PATIENCE, || alive::replies_about(address, probe))
            .await
            .or_else(|late| daemon.check().and(Err(late)))?;
        ensure!(log.exists(), "{name} keeps no log");
        Ok(daemon)
    }
}

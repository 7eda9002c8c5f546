//! A server process: started as the unprivileged user, logging to a file, and
//! never left behind.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::Duration;

use anyhow::{Context, bail};
use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::Pid;
use tokio::process::{Child, Command};
use tokio::time::timeout;

use crate::{Layout, PATIENCE, wait_for};

/// Programs of the world and the Debian package that each comes with.
const PROGRAMS: [(&str, &str); 6] = [
    ("initdb", "postgresql"),
    ("knotd", "knot"),
    ("knotc", "knot"),
    ("unbound", "unbound"),
    ("pebble", "pebble"),
    ("setpriv", "util-linux"),
];

/// Where a program is: on the path, in the system folders, or among
/// PostgreSQL's versions, the newest first.
pub(crate) fn program(name: &str) -> Option<PathBuf> {
    // Before the path, in which Debian has a script for each of PostgreSQL's programs that looks
    // for it anew at each call.
    let mut versions: Vec<_> = fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten().collect();
    versions.sort_by_key(|v| std::cmp::Reverse(v.file_name().to_string_lossy().parse::<u32>().unwrap_or(0)));
    let mut folders: Vec<_> = versions.into_iter().map(|v| v.path().join("bin")).collect();

    let path = std::env::var_os("PATH").unwrap_or_default();
    folders.extend(std::env::split_paths(&path));
    folders.extend(["/usr/sbin", "/usr/bin", "/usr/local/bin"].map(PathBuf::from));

    folders.into_iter().map(|f| f.join(name)).find(|p| p.is_file())
}

/// Names the Debian packages of all programs that are missing.
///
/// # Errors
/// If any is.
pub fn require_programs() -> anyhow::Result<()> {
    let missing: Vec<_> = PROGRAMS.iter().filter(|(name, _)| program(name).is_none()).collect();
    if missing.is_empty() {
        return Ok(());
    }

    let names: Vec<_> = missing.iter().map(|(name, _)| *name).collect();
    let mut packages: Vec<_> = missing.iter().map(|(_, package)| *package).collect();
    packages.dedup();
    bail!("Not installed: {}. Run: apt-get install {}", names.join(", "), packages.join(" "))
}

/// A command that runs `name` as the unprivileged user, and is sent `signal`
/// by the kernel should this process die.
pub(crate) fn command(layout: &Layout, name: &str, signal: &str) -> anyhow::Result<Command> {
    let path = program(name).with_context(|| format!("{name} is not installed."))?;

    let mut command = Command::new("setpriv");
    if let Some(user) = layout.user() {
        command.args(["--reuid", user, "--regid", user, "--init-groups"]);
    }

    command.args(["--pdeathsig", signal]).arg(path).current_dir(&layout.state).stdin(Stdio::null());
    Ok(command)
}

/// Runs a command to its end.
pub(crate) async fn run(mut command: Command) -> anyhow::Result<String> {
    let output = command.output().await?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }

    let said = [output.stdout, output.stderr].concat();
    bail!("{:?} failed: {}", command.as_std(), String::from_utf8_lossy(&said))
}

/// A running server.
pub struct Daemon {
    name: String,
    child: Child,
    log: PathBuf,
    signal: Signal,
}

/// A size, in KiB, as the system tells of a process.
fn size(status: &str, field: &str) -> anyhow::Result<u64> {
    let line = status.lines().find_map(|line| line.strip_prefix(field));
    let kib = line.and_then(|line| line.trim().trim_end_matches(" kB").parse().ok());
    kib.with_context(|| format!("The system does not tell {field}"))
}

/// What a process has in memory, in KiB.
#[derive(Clone, Copy, Debug)]
pub struct Memory {
    /// Now.
    pub now: u64,
    /// At most, so far.
    pub most: u64,
}

impl Daemon {
    /// Starts `command`, its output going to `log`; `signal` ends it gently.
    ///
    /// # Errors
    /// If it cannot be started.
    pub fn start(name: &str, mut command: Command, log: &Path, signal: Signal) -> anyhow::Result<Self> {
        let file = File::options().create(true).append(true).open(log)?;
        command.stdout(file.try_clone()?).stderr(file).kill_on_drop(true);
        let child = command.spawn().with_context(|| format!("Cannot start {name}"))?;

        Ok(Self { name: name.into(), child, log: log.to_owned(), signal })
    }

    /// Process id, while it runs.
    pub fn id(&self) -> Option<u32> {
        self.child.id()
    }

    /// What it has in memory.
    ///
    /// # Errors
    /// If it has ended.
    pub fn memory(&self) -> anyhow::Result<Memory> {
        let id = self.id().with_context(|| format!("{} has ended", self.name))?;
        let status = fs::read_to_string(format!("/proc/{id}/status"))?;
        Ok(Memory { now: size(&status, "VmRSS:")?, most: size(&status, "VmHWM:")? })
    }

    /// Fails with the end of the log if it has ended.
    ///
    /// # Errors
    /// If it has.
    pub fn check(&mut self) -> anyhow::Result<()> {
        let Some(status) = self.child.try_wait()? else { return Ok(()) };

        let log = fs::read_to_string(&self.log).unwrap_or_default();
        let tail: Vec<_> = log.lines().rev().take(8).collect();
        let tail: Vec<_> = tail.into_iter().rev().collect();

        bail!("{} ended with {status}. The end of its log:\n{}", self.name, tail.join("\n"))
    }

    /// Ends it gently, or by force after ten seconds.
    pub async fn stop(mut self) {
        self.end().await;
    }

    /// The same, to put another in its place.
    pub(crate) async fn end(&mut self) {
        self.send(self.signal);
        if timeout(Duration::from_secs(10), self.child.wait()).await.is_err() {
            tracing::warn!(server = self.name, "does not end; killed");
            let _ = self.child.kill().await;
        }
    }

    /// What it is called.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Ends it at once, as a power cut would.
    pub async fn kill(mut self) {
        self.end_at_once().await;
    }

    /// The same, to put another in its place.
    pub(crate) async fn end_at_once(&mut self) {
        let _ = self.child.kill().await;
    }

    /// Has it read its files again.
    pub(crate) fn reread(&self) {
        self.send(Signal::SIGHUP);
    }

    /// Stops it and whatever it has started without ending them, or has them go
    /// on; only for one that was given a process group of its own.
    ///
    /// # Errors
    /// If it goes on all the same.
    pub(crate) async fn hold(&self, is_held: bool) -> anyhow::Result<()> {
        let signal = if is_held { Signal::SIGSTOP } else { Signal::SIGCONT };
        let Some(id) = self.raw_id() else { return Ok(()) };
        let _ = killpg(Pid::from_raw(id), signal);

        // One thread takes the signal and then stops the others, which answer until it has its turn.
        wait_for("a server standing still", PATIENCE, || async { !is_held || stands_still(id) }).await
    }

    fn send(&self, signal: Signal) {
        if let Some(id) = self.raw_id() {
            let _ = kill(Pid::from_raw(id), signal);
        }
    }

    fn raw_id(&self) -> Option<i32> {
        self.child.id().and_then(|id| i32::try_from(id).ok())
    }
}

/// Whether each thread of each process of a group is stopped, or has ended.
fn stands_still(group: i32) -> bool {
    let threads = entries("/proc").flat_map(|process| entries(process.join("task")));
    let stats = threads.filter_map(|thread| fs::read_to_string(thread.join("stat")).ok());
    // The name in parentheses may hold anything; state, parent and group follow it (proc(5)).
    let mut of_group = stats.filter_map(|stat| {
        let mut words = stat.rsplit_once(')')?.1.split_whitespace();
        let state = words.next()?.to_owned();
        (words.nth(1)?.parse() == Ok(group)).then_some(state)
    });
    of_group.all(|state| ["T", "Z"].contains(&state.as_str()))
}

fn entries(folder: impl AsRef<Path>) -> impl Iterator<Item = PathBuf> {
    fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path())
}

//! Knot three times: the hidden primary with every zone, which also answers
//! at the operators' addresses; the root; and the registry. The latter two
//! take their zones from the primary, so a walk crosses real referrals.

use std::fmt::Write as _;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};

use futures::FutureExt;
use futures::future::BoxFuture;
use nix::sys::signal::Signal;
use tokio::sync::Mutex;

use crate::Layout;
use crate::PATIENCE;
use crate::alive::replies;
use crate::daemon::{self, Daemon};
use crate::layout::{OPERATORS, PRIMARY, REGISTRY, ROOT};
use crate::wait_for;
use crate::watch::{Server, Watched};

/// One Knot process.
struct Instance {
    layout: Layout,
    name: &'static str,
    listen: Vec<Ipv4Addr>,
    zones: &'static [&'static str],
}

pub(crate) async fn start(layout: &Layout) -> anyhow::Result<Vec<Watched>> {
    let operators = OPERATORS.iter().flat_map(|operator| operator.servers);
    let mut watched = Vec::new();
    for instance in [
        Instance::new(layout, "primary", std::iter::once(PRIMARY).chain(operators).collect(), &[]),
        Instance::new(layout, "root", vec![ROOT], &["."]),
        Instance::new(layout, "registry", vec![REGISTRY], &["example.", "test."]),
    ] {
        watched.push(Watched::start(instance).await?);
    }

    Ok(watched)
}

impl Instance {
    fn new(
        layout: &Layout,
        name: &'static str,
        listen: Vec<Ipv4Addr>,
        zones: &'static [&'static str],
    ) -> Self {
        Self { layout: layout.clone(), name, listen, zones }
    }
}

impl Server for Instance {
    fn start(&self) -> BoxFuture<'_, anyhow::Result<Daemon>> {
        start_one(&self.layout, self).boxed()
    }

    fn answers(&self) -> BoxFuture<'_, bool> {
        replies(SocketAddr::from((self.listen[0], self.layout.dns_port()))).boxed()
    }
}

async fn start_one(layout: &Layout, instance: &Instance) -> anyhow::Result<Daemon> {
    let folder = layout.folder(&format!("knot-{}", instance.name))?;
    for sub in ["zones", "db", "run"] {
        layout.folder(&format!("knot-{}/{sub}", instance.name))?;
    }

    let database = folder.join("confdb");
    if !database.exists() {
        let text = configuration(layout, instance, &folder);
        let file = layout.write(&format!("knot-{}/knot.conf", instance.name), &text)?;
        let mut import = daemon::command(layout, "knotc", "KILL")?;
        import.arg("-C").arg(&database).arg("conf-import").arg(&file);
        daemon::run(import).await?;
    }

    let mut knotd = daemon::command(layout, "knotd", "TERM")?;
    knotd.arg("-C").arg(&database).arg("-s").arg(socket(&folder));
    let mut daemon = Daemon::start(instance.name, knotd, &folder.join("log"), Signal::SIGTERM)?;

    wait_for(&format!("the name server {} answering", instance.name), PATIENCE, || async {
        control(layout, instance.name, &["status"]).await.is_ok()
    })
    .await
    .or_else(|late| daemon.check().and(Err(late)))?;

    Ok(daemon)
}

fn socket(folder: &Path) -> PathBuf {
    folder.join("run/knot.sock")
}

/// Knot turns callers away when more than a few come at once.
static CALLING: Mutex<()> = Mutex::const_new(());

/// Runs `knotc` against one of the instances.
pub(crate) async fn control(layout: &Layout, instance: &str, args: &[&str]) -> anyhow::Result<String> {
    let folder = layout.state.join(format!("knot-{instance}"));
    let mut knotc = daemon::command(layout, "knotc", "KILL")?;
    knotc.arg("-s").arg(socket(&folder)).args(args);

    let _one = CALLING.lock().await;
    daemon::run(knotc).await
}

/// The key-signing keys of a signed zone, as master-file lines.
pub(crate) async fn keys(layout: &Layout, zone: &str) -> anyhow::Result<String> {
    let folder = layout.state.join("knot-primary");
    let mut keymgr = daemon::command(layout, "keymgr", "KILL")?;
    keymgr.arg("-C").arg(folder.join("confdb")).args([&format!("{zone}."), "dnskey"]);
    daemon::run(keymgr).await
}

/// What the zone above is to hold about a zone's keys, as master-file lines.
pub(crate) async fn signers(layout: &Layout, zone: &str) -> anyhow::Result<String> {
    let folder = layout.state.join("knot-primary");
    let mut keymgr = daemon::command(layout, "keymgr", "KILL")?;
    keymgr.arg("-C").arg(folder.join("confdb")).args([&format!("{zone}."), "ds"]);
    daemon::run(keymgr).await
}

fn configuration(layout: &Layout, instance: &Instance, folder: &Path) -> String {
    let port = layout.dns_port();
    let listen: Vec<_> = instance.listen.iter().map(|ip| format!("{ip}@{port}")).collect();
    let folder = folder.display();

    let mut text = format!(
        "server:\n    rundir: {folder}/run\n    listen: [{}]\n    udp-workers: 1\n    tcp-workers: 2\n    background-workers: 1\n\
         log:\n  - target: stderr\n    any: warning\n\
         database:\n    storage: {folder}/db\n    journal-db-mode: asynchronous\n\
         remote:\n  - id: primary\n    address: {PRIMARY}@{port}\n  - id: root\n    address: {ROOT}@{port}\n\
           \x20 - id: registry\n    address: {REGISTRY}@{port}\n\
         acl:\n  - id: loopback\n    address: 127.0.0.0/8\n    action: [transfer, notify, update]\n\
         template:\n  - id: default\n    storage: {folder}/zones\n    file: \"%s.zone\"\n    acl: loopback\n\
           \x20   semantic-checks: off\n    zonefile-sync: 0\n",
        listen.join(", "),
    );

    if !instance.zones.is_empty() {
        text.push_str("zone:\n");
    }

    for zone in instance.zones {
        // Writing to a string cannot fail.
        let _ = writeln!(text, "  - domain: \"{zone}\"\n    master: primary");
    }

    text
}

//! Three Unbound resolvers, each with a cache of its own.

use std::net::SocketAddr;

use futures::FutureExt;
use futures::future::BoxFuture;
use nix::sys::signal::Signal;

use crate::Layout;
use crate::PATIENCE;
use crate::alive::answers;
use crate::daemon::{self, Daemon};
use crate::layout::{CHALLENGES, PRIMARY};
use crate::wait_for;
use crate::watch::{Server, Watched};

/// Connections at once, by TLS and HTTPS too: dozens of services ask each of them, where ten are what
/// it takes as it is installed.
const CONNECTIONS: usize = 1000;

/// Starts them, each trusting `anchors`.
pub(crate) async fn start(layout: &Layout, anchors: &str) -> anyhow::Result<Vec<Watched>> {
    let anchors = layout.write("anchors", anchors)?.display().to_string();
    let key = certificate(layout)?;

    let mut watched = Vec::new();
    for (name, address) in layout.vantages() {
        let folder = layout.folder(&format!("unbound-{name}"))?;
        let text = configuration(layout, address, &folder.display().to_string(), &anchors, &key);
        layout.write(&format!("unbound-{name}/unbound.conf"), &text)?;

        watched.push(Watched::start(Resolver { layout: layout.clone(), name, address }).await?);
    }

    Ok(watched)
}

/// One of them.
struct Resolver {
    layout: Layout,
    name: String,
    address: SocketAddr,
}

impl Server for Resolver {
    fn start(&self) -> BoxFuture<'_, anyhow::Result<Daemon>> {
        start_one(&self.layout, &self.name, self.address).boxed()
    }

    fn answers(&self) -> BoxFuture<'_, bool> {
        answers(self.address).boxed()
    }
}

async fn start_one(layout: &Layout, name: &str, address: SocketAddr) -> anyhow::Result<Daemon> {
    let folder = layout.folder(&format!("unbound-{name}"))?;
    let mut unbound = daemon::command(layout, "unbound", "TERM")?;
    unbound.arg("-d").arg("-p").arg("-c").arg(folder.join("unbound.conf"));

    let mut daemon =
        Daemon::start(&format!("resolver {name}"), unbound, &folder.join("log"), Signal::SIGTERM)?;
    wait_for(&format!("the resolver {name} answering"), PATIENCE, || answers(address))
        .await
        .or_else(|late| daemon.check().and(Err(late)))?;

    Ok(daemon)
}

/// One certificate for all three, made once; returns the key's file.
fn certificate(layout: &Layout) -> anyhow::Result<String> {
    let path = layout.state.join("vantages.key");
    if !path.exists() {
        let names = layout.vantages().into_iter().map(|(_, address)| address.ip().to_string());
        let made = rcgen::generate_simple_self_signed(names.collect::<Vec<_>>())?;
        layout.write("vantages.pem", &made.cert.pem())?;
        layout.write("vantages.key", &made.signing_key.serialize_pem())?;
    }

    Ok(path.display().to_string())
}

fn configuration(layout: &Layout, listen: SocketAddr, folder: &str, anchors: &str, key: &str) -> String {
    let [tls, https] = layout.encrypted_ports();
    let dns = layout.dns_port();
    let mut challenges = String::new();
    for (zone, ip) in CHALLENGES {
        challenges.push_str(&format!("stub-zone:\n  name: \"{zone}\"\n  stub-addr: {ip}@{dns}\n"));
    }

    let encrypted = format!(
        "  interface: {0}@{tls}\n  interface: {0}@{https}\n  tls-port: {tls}\n  https-port: {https}\n\
         \x20 http-endpoint: \"/dns-query\"\n  tls-service-key: \"{key}\"\n  tls-service-pem: \"{1}\"\n",
        listen.ip(),
        layout.vantage_roots().display(),
    );

    format!(
        "server:\n  interface: {}@{}\n  port: {}\n  access-control: 127.0.0.0/8 allow\n  do-not-query-localhost: no\n\
         \x20 username: \"\"\n  chroot: \"\"\n  directory: \"{folder}\"\n  pidfile: \"\"\n  use-syslog: no\n  verbosity: 1\n\
         \x20 module-config: \"validator iterator\"\n  num-threads: 1\n  incoming-num-tcp: {CONNECTIONS}\n  msg-cache-size: 4m\n  rrset-cache-size: 8m\n\
         \x20 cache-min-ttl: 0\n  infra-host-ttl: 5\n  outbound-msg-retry: 2\n  qname-minimisation: no\n\
         \x20 local-zone: \"test.\" nodefault\n  local-zone: \"invalid.\" nodefault\n\
         \x20 trust-anchor-file: \"{anchors}\"\n  trust-anchor-signaling: no\n  ede: yes\n  val-bogus-ttl: 1\n\
         {encrypted}remote-control:\n  control-enable: no\n\
         forward-zone:\n  name: \".\"\n  forward-addr: {PRIMARY}@{dns}\n{challenges}",
        listen.ip(),
        listen.port(),
        listen.port(),
    )
}

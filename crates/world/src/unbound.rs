//! Three Unbound resolvers, each with a cache of its own.

use std::net::SocketAddr;
use std::time::Duration;

use nix::sys::signal::Signal;

use crate::daemon::{self, Daemon};
use crate::layout::PRIMARY;
use crate::zones::answers;
use crate::{Layout, wait_for};

pub(crate) async fn start(layout: &Layout) -> anyhow::Result<Vec<Daemon>> {
    let mut daemons = Vec::new();
    for (name, address) in layout.vantages() {
        let folder = layout.folder(&format!("unbound-{name}"))?;
        let text = configuration(layout, address, &folder.display().to_string());
        let file = layout.write(&format!("unbound-{name}/unbound.conf"), &text)?;
        let mut unbound = daemon::command(layout, "unbound", "TERM")?;
        unbound.arg("-d").arg("-p").arg("-c").arg(file);
        let mut daemon =
            Daemon::start(&format!("resolver {name}"), unbound, &folder.join("log"), Signal::SIGTERM)?;
        wait_for(&format!("the resolver {name} answering"), Duration::from_secs(20), || answers(address))
            .await
            .or_else(|late| daemon.check().and(Err(late)))?;
        daemons.push(daemon);
    }
    Ok(daemons)
}

fn configuration(layout: &Layout, listen: SocketAddr, folder: &str) -> String {
    format!(
        "server:\n  interface: {}@{}\n  port: {}\n  access-control: 127.0.0.0/8 allow\n  do-not-query-localhost: no\n\
         \x20 username: \"\"\n  chroot: \"\"\n  directory: \"{folder}\"\n  pidfile: \"\"\n  use-syslog: no\n  verbosity: 1\n\
         \x20 module-config: \"iterator\"\n  num-threads: 1\n  msg-cache-size: 4m\n  rrset-cache-size: 8m\n\
         \x20 cache-min-ttl: 0\n  infra-host-ttl: 5\n  outbound-msg-retry: 2\n  qname-minimisation: no\n\
         \x20 local-zone: \"test.\" nodefault\n  local-zone: \"invalid.\" nodefault\n\
         remote-control:\n  control-enable: no\n\
         forward-zone:\n  name: \".\"\n  forward-addr: {PRIMARY}@{}\n",
        listen.ip(),
        listen.port(),
        listen.port(),
        layout.dns_port(),
    )
}

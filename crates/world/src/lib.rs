//! The loopback internet of demo and tests.
//!
//! Real servers where they install: PostgreSQL, Knot as every authority
//! server, three Unbound resolvers, Pebble as the certification authority.
//! Stand-ins for what cannot be here: the platform's edge, and the customers
//! who edit their zones. No packet leaves 127.0.0.0/8 and ::1.

mod acts;
mod alive;
pub mod cast;
pub mod consent;
pub mod customer;
mod daemon;
mod database_way;
pub mod demo;
pub mod edge;
pub mod families;
mod forwarder;
mod framed;
pub mod front;
pub mod hook;
pub mod hostile;
pub mod issuer_front;
mod knot;
pub mod layout;
pub mod mailbox;
pub mod odd;
pub mod others;
pub mod pebble;
mod postgres;
pub mod registrar;
mod relay;
mod servers;
pub mod service;
pub mod stub;
pub mod tls;
mod unbound;
mod update;
mod watch;
pub mod zones;

use std::fs::File;
use std::future::Future;
use std::time::Duration;

use anyhow::{Context, bail};
use tokio::task::JoinSet;
use tokio::time::Instant;
use tokio_util::sync::DropGuard;

pub use daemon::{Daemon, Memory, require_programs};
pub use database_way::DatabaseWay;
pub use layout::Layout;
pub use pebble::{IssuerSetup, OtherIssuer};
pub use postgres::Databases;
pub use watch::{Said, Say};
pub use zones::Zones;

use crate::consent::Consent;
use crate::mailbox::Mailbox;
use crate::registrar::Registrar;
use crate::watch::Watch;

/// The running servers; dropping it ends them.
pub struct World {
    /// Where everything is.
    pub layout: Layout,
    /// Zones and the changes to them.
    pub zones: Zones,
    watch: Watch,
    _odd: odd::Servers,
    _forwarder: JoinSet<()>,
    /// Where the proxy passes hosts on to, if not to the usual edge.
    pub origins: front::Origins,
    /// The DNS operator that offers one click.
    pub consent: Consent,
    /// Where mail arrives.
    pub mailbox: Mailbox,
    /// The registry that is asked about domains.
    pub registrar: Registrar,
    _front: DropGuard,
    _consenting: DropGuard,
    _receiving: DropGuard,
    _registering: DropGuard,
    _lock: File,
}

impl World {
    /// Starts every server, on fresh state or on what the last run left.
    /// `say` is told what is being done, now and whenever a server that has
    /// stopped answering is started anew.
    ///
    /// # Errors
    /// If a program is missing, a port is busy, or another copy runs on the
    /// same state; the message names it.
    pub async fn start(layout: Layout, say: Say) -> anyhow::Result<Self> {
        require_programs()?;
        let lock = layout.lock()?;
        layout.prepare()?;
        layout.check_ports()?;

        say("Starting PostgreSQL");
        let mut servers = vec![postgres::watched(&layout).await?];

        say("Starting the name servers");
        servers.extend(knot::start(&layout).await?);
        let zones = Zones::new(layout.clone());
        zones.ensure_base().await?;

        say("Starting three resolvers");
        servers.extend(unbound::start(&layout, &zones.trust_anchors().await?).await?);

        let odd = odd::start(&layout).await?;
        let forwarder = forwarder::start(&layout).await?;
        let origins = front::Origins::default();
        let front = front::start(&layout, &origins).await?;
        let (consent, consenting) = consent::start(&layout, &zones).await?;
        let (mailbox, receiving) = mailbox::start(&layout).await?;
        let (registrar, registering) = registrar::start(&layout, &zones).await?;
        layout.trust(&std::fs::read_to_string(layout.state.join("authority.pem"))?)?;

        say("Starting the certification authority");
        servers.push(pebble::watched(&layout, &IssuerSetup::usual(&layout)).await?);

        let watch = Watch::over(servers, say);
        Ok(Self {
            layout,
            zones,
            watch,
            _odd: odd,
            _forwarder: forwarder,
            origins,
            consent,
            mailbox,
            registrar,
            _front: front,
            _consenting: consenting,
            _receiving: receiving,
            _registering: registering,
            _lock: lock,
        })
    }

    /// Ends every server, the last started first, and waits until all are gone.
    pub async fn stop(self) {
        self.watch.stop().await;
    }

    /// Makes an empty database and returns its connection URL.
    ///
    /// # Errors
    /// If the server refuses.
    pub async fn database(&self, name: &str) -> anyhow::Result<String> {
        postgres::create_database(&self.layout, name).await
    }

    /// A way to the databases over the network, at a port.
    ///
    /// # Errors
    /// If the port is busy.
    pub async fn database_way(&self, port: u16) -> anyhow::Result<DatabaseWay> {
        DatabaseWay::start(port, &self.layout).await
    }

    /// Runs a statement in one of the databases, to make in a moment what would
    /// take hours by the usual way.
    ///
    /// # Errors
    /// If the server refuses.
    pub async fn statement(&self, database: &str, text: &str) -> anyhow::Result<String> {
        postgres::statement(&self.layout, database, text).await
    }

    /// What Pebble has written so far: the witness of every order.
    ///
    /// # Errors
    /// If its log cannot be read.
    pub fn issuer_log(&self) -> anyhow::Result<String> {
        let path = self.layout.state.join("pebble/log");
        std::fs::read_to_string(&path).with_context(|| format!("Cannot read {}", path.display()))
    }

    /// What the CA says of a certificate: `Valid` or `Revoked`.
    ///
    /// # Errors
    /// If it does not know it.
    pub async fn certificate_status(&self, serial: &str) -> anyhow::Result<String> {
        pebble::status_of(&self.layout, &IssuerSetup::usual(&self.layout), serial).await
    }

    /// The platform's own certificate, for its default hosts.
    ///
    /// # Errors
    /// If it cannot be made.
    pub fn own_certificate(&self) -> anyhow::Result<tls::Pem> {
        let names = [format!("*.{}", layout::PLATFORM.zone)];
        tls::Authority::open(&self.layout)?.issue(&names, 90)
    }

    /// Every certificate that Pebble has issued, as PEM.
    ///
    /// # Errors
    /// If its log or its management calls cannot be read.
    pub async fn issued(&self) -> anyhow::Result<Vec<String>> {
        pebble::issued(&self.layout, &IssuerSetup::usual(&self.layout)).await
    }
}

/// How long a server of the world may take to answer, on a machine that is busy.
pub(crate) const PATIENCE: Duration = Duration::from_secs(120);

/// Waits until `condition` holds; fails after `limit` with what was waited for.
///
/// # Errors
/// If the condition does not come to hold.
pub async fn wait_for<F>(what: &str, limit: Duration, mut condition: impl FnMut() -> F) -> anyhow::Result<()>
where
    F: Future<Output = bool>,
{
    let deadline = Instant::now() + limit;
    loop {
        // What takes long to ask is asked once more at the end.
        let is_last = Instant::now() > deadline;
        if condition().await {
            return Ok(());
        }
        if is_last {
            bail!("{what} did not happen within {} s", limit.as_secs());
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

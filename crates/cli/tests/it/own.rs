//! A service of a test's own, with an edge of its own, on the shared world.

use std::net::{IpAddr, Ipv4Addr};
use std::path::Path;

use nomenta_world::Daemon;
use nomenta_world::customer;
use nomenta_world::edge::Edge;
use nomenta_world::service::ServiceSetup;
use nomenta_world::zones::{Change, address};
use serde_json::Value;

use crate::stage::{BASE_PORT, PROGRAM, Service, edge_config, setup, stage};

/// A service with its edge.
pub(crate) struct Own {
    pub service: Service,
    pub edge: Edge,
    pub daemon: Daemon,
    pub address: IpAddr,
}

/// The setup of a service on a database of its own.
pub(crate) async fn own_setup(name: &str, offset: u16) -> ServiceSetup {
    setup(BASE_PORT + offset, stage().world.database(name).await.expect("a database"))
}

/// Starts a service with an edge at 127.77.9.`last`, a platform behind it, and
/// one site.
pub(crate) async fn own(setup: ServiceSetup, name: &str, last: u8) -> Own {
    let world = &stage().world;
    let address = edge_address(world, name, last).await;
    let log = world.layout.state.join(format!("{name}.log"));
    let daemon = setup.start(&world.layout, Path::new(PROGRAM), &log).await.expect("started");
    let edge = Edge::start(edge_config(&world.layout, &setup, vec![address])).await.expect("an edge");
    let service = Service { setup };
    service.add_platform(&[address], &canonical(name)).await;
    Own { service, edge, daemon, address }
}

pub(crate) fn canonical(name: &str) -> String {
    format!("{name}.quaymark.example")
}

/// An address for an edge, with the canonical host that leads there.
async fn edge_address(world: &nomenta_world::World, name: &str, last: u8) -> IpAddr {
    let ip = IpAddr::V4(Ipv4Addr::new(127, 77, 9, last));
    let at_edge = Change::Add { owner: canonical(name), ttl: 30, data: address(ip) };
    world.zones.update("quaymark.example", &[at_edge]).await.expect("updated");
    ip
}

impl std::ops::Deref for Own {
    type Target = Service;

    fn deref(&self) -> &Service {
        &self.service
    }
}

impl Service {
    /// Takes a domain in, and lets its customer publish the sheet.
    pub(crate) async fn published(&self, host: &str) {
        let sheet = self.enrol(&stage().world, host).await;
        customer::publish(&stage().world.zones, &sheet, None).await.expect("published");
    }

    /// What `certificate show` says.
    pub(crate) async fn certificate(&self, host: &str) -> Value {
        self.cli_json(&["certificate", "show", host]).await
    }

    /// Serial of the certificate held.
    pub(crate) async fn serial(&self, host: &str) -> String {
        self.certificate(host).await["held"]["facts"]["serial"].as_str().unwrap_or_default().to_owned()
    }

    /// How often events of a kind have happened to a domain.
    pub(crate) async fn count(&self, host: &str, kind: &str) -> usize {
        count_of(kind, &self.cli_json(&["history", host]).await)
    }
}

/// How often events of a kind are in a history.
pub(crate) fn count_of(kind: &str, history: &Value) -> usize {
    let kind = format!("nomenta.{kind}");
    history.as_array().expect("events").iter().filter(|e| e["type"] == kind.as_str()).count()
}

/// The same with more options, each in place of one of that name.
pub(crate) fn with(setup: ServiceSetup, options: &[&str]) -> ServiceSetup {
    fn name(option: &str) -> &str {
        option.split_once('=').map_or(option, |(name, _)| name)
    }
    let is_kept = |had: &&String| !options.iter().any(|option| name(option) == name(had));
    let more = options.iter().map(|o| (*o).to_owned());
    ServiceSetup { options: setup.options.iter().filter(is_kept).cloned().chain(more).collect(), ..setup }
}

/// A service with the usual platform behind it, and no edge of its own.
pub(crate) async fn plain(port: u16, name: &str) -> (Service, Daemon) {
    let service = Service { setup: own_setup(name, port).await };
    let daemon = start(&service, name).await;
    service.add_platform(&nomenta_world::layout::EDGE, "{site}.edge.quaymark.example").await;
    (service, daemon)
}

/// Starts a service, or starts it again.
pub(crate) async fn start(service: &Service, name: &str) -> Daemon {
    let layout = &stage().world.layout;
    let log = layout.state.join(format!("{name}.log"));
    service.setup.start(layout, Path::new(PROGRAM), &log).await.expect("started")
}

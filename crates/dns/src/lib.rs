//! Reading the DNS: the walk down the delegations, the zone's own servers, and
//! the vantages.
//!
//! [`Surveyor::survey`] asks everything that one domain needs and answers with
//! a [`nomenta_core::survey::Survey`]. Replies are matched on id, address, port
//! and question; lost ones are asked again; truncated ones go to TCP.

pub mod egress;
mod exchange;
mod surveyor;
mod walk;
mod wire;

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

pub use egress::Egress;
pub use surveyor::Surveyor;

/// Where to ask, and how patiently.
#[derive(Clone, Debug)]
pub struct DnsConfig {
    /// Addresses of the root servers.
    pub roots: Vec<IpAddr>,
    /// Port of every authority server; 53 outside of test worlds.
    pub authority_port: u16,
    /// The recursive resolvers.
    pub vantages: Vec<Vantage>,
    /// How long to wait for one reply.
    pub timeout: Duration,
    /// How often a question is sent before it counts as unanswered.
    pub tries: u32,
    /// Which addresses a packet may go to when a customer's zone names them.
    pub egress: Egress,
}

/// A recursive resolver.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Vantage {
    /// Name shown beside its readings.
    pub name: String,
    /// Where it listens.
    pub address: SocketAddr,
}

//! Reading the DNS: the walk down the delegations, the zone's own servers, and
//! the vantages.
//!
//! [`Surveyor::survey`] asks everything that one domain needs and answers with
//! a [`Survey`](nomenta_core::reading::survey::Survey);
//! [`Surveyor::look_quickly`] asks the least for many domains at once. Replies are matched on id, address, port and question;
//! lost ones are asked again; truncated ones go to TCP.

mod ask;
mod bearing;
mod budget;
pub mod egress;
mod engine;
mod exchange;
mod follow;
mod frame;
mod glue;
mod pace;
mod quick;
mod quota;
pub mod responder;
mod room;
mod secure;
mod servers;
mod signing;
mod sockets;
mod surveyor;
mod tcp;
mod through;
mod trust;
mod update;
mod vantage;
mod walk;
mod wire;

use std::net::IpAddr;
use std::path::PathBuf;
use std::time::Duration;

use nomenta_core::reading::record::RecordType;

pub use egress::{Egress, NoConnection};
pub use pace::Politeness;
pub use quick::{QuickLook, QuickView};
pub use quota::Quota;
pub use secure::SecureError;
pub use surveyor::Surveyor;
pub use update::UpdateError;
pub use vantage::{Transport, Vantage, VantageError};

/// Decodes a reply to a question; for fuzzing, which has no socket.
pub fn read_reply(bytes: &[u8], name: &str, rtype: RecordType) -> bool {
    let id = bytes.first_chunk().copied().map_or(0, u16::from_be_bytes);
    wire::decode(bytes, id, name, rtype, usize::MAX).is_ok()
}

/// What one survey may cost, whatever strangers publish.
#[derive(Clone, Copy, Debug)]
pub struct SurveyLimits {
    /// Longest that its walks down delegations may take together.
    pub walk: Duration,
    /// Most questions that its walks may ask together.
    pub questions: u32,
    /// Longest that the readings may take, once the zone is found.
    pub readings: Duration,
    /// The same of a server that limits how fast it is asked, and is asked again slower.
    pub patience: Duration,
    /// The same of quick looks, in which many domains wait for the slowest.
    pub quick: Duration,
    /// Most addresses of one zone's servers that are asked.
    pub servers: u32,
    /// Most name servers of one registered domain whose addresses are looked for.
    pub lookups: u32,
    /// Most records of one answer that are read.
    pub records: u32,
    /// Most octets of answers that are read.
    pub octets: u32,
    /// Most answers that are fetched by TCP.
    pub connections: u32,
    /// Most aliases that are followed out of the zone, one after the other.
    pub aliases: u32,
}

impl Default for SurveyLimits {
    fn default() -> Self {
        Self {
            walk: Duration::from_secs(20),
            questions: 200,
            readings: Duration::from_secs(20),
            patience: Duration::from_secs(60),
            quick: Duration::from_secs(8),
            servers: 32,
            lookups: 16,
            records: 300,
            octets: 512 * 1024,
            connections: 64,
            aliases: 12,
        }
    }
}

/// Where to ask, and how patiently.
#[derive(Clone, Debug)]
pub struct DnsConfig {
    /// Addresses of the root servers.
    pub roots: Vec<IpAddr>,
    /// Port of every authoritative server; 53 outside of test worlds.
    pub authority_port: u16,
    /// The recursive resolvers.
    pub vantages: Vec<Vantage>,
    /// PEM file of the roots that encrypted vantages must lead to.
    pub vantage_roots: PathBuf,
    /// How long to wait for one reply.
    pub timeout: Duration,
    /// How often a question is sent before it counts as unanswered.
    pub tries: u32,
    /// How fast one server is asked.
    pub politeness: Politeness,
    /// What one survey may cost, whatever a zone does.
    pub limits: SurveyLimits,
    /// Which addresses a packet may go to when a customer's zone names them.
    pub egress: Egress,
}

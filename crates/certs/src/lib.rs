//! Certificates: sealing of private keys, ACME orders, the canary and the
//! serving probe.

pub mod acme;
mod http;
pub mod keypair;
pub mod seal;
mod visit;
pub mod x509;

pub use visit::{Visitor, VisitorConfig};

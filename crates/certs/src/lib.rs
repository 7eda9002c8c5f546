//! Certificates: sealing of private keys, ACME orders, certificates that are
//! brought in, the canary and the serving probe.

pub mod acme;
pub mod brought;
mod http;
pub mod keypair;
pub mod seal;
mod tls;
mod transport;
mod url;
mod visit;
pub mod x509;

pub use visit::{Resolve, Visitor, VisitorConfig, Wish};

//! Certificates: sealing of private keys, ACME orders, certificates that are
//! brought in, the canary and the serving probe.

pub mod acme;
pub mod brought;
mod failure;
mod http;
pub mod keypair;
mod probe;
pub mod seal;
pub mod sign;
mod tls;
mod url;
pub mod x509;

pub use failure::Failure;
pub use probe::{Expected, Prober, ProberConfig, Resolve, Word};

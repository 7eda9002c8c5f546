//! Everything that an operator may set.

use std::net::SocketAddr;
use std::path::PathBuf;

use nomenta_certs::VisitorConfig;
use nomenta_certs::acme::AcmeConfig;
use nomenta_core::form::Book;
use nomenta_core::ingress::Platform;
use nomenta_core::policy::Policy;
use nomenta_dns::DnsConfig;

use crate::Role;

/// Everything that an operator may set.
#[derive(Clone, Debug)]
pub struct ServiceConfig {
    /// Where API and console are served.
    pub listen: SocketAddr,
    /// PostgreSQL connection URL.
    pub database: String,
    /// 64 hexadecimal characters; seals private keys.
    pub sealing_key: String,
    /// The platform's zone and brand.
    pub platform: Platform,
    /// How the DNS editors of known operators want lines typed.
    pub book: Book,
    /// Judging and looking again.
    pub policy: Policy,
    /// How DNS is read.
    pub dns: DnsConfig,
    /// How domains are visited.
    pub visits: VisitorConfig,
    /// PEM file of the roots that served chains must lead to.
    pub trust: PathBuf,
    /// Where certificates are ordered.
    pub acme: AcmeConfig,
    /// Keys that are made sure to exist at start.
    pub boot_keys: Vec<BootKey>,
}

/// A key given by configuration, so that a first one exists.
#[derive(Clone, Debug)]
pub struct BootKey {
    /// What it is for.
    pub name: String,
    /// What it opens.
    pub role: Role,
    /// The secret.
    pub secret: String,
}

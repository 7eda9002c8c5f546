//! Everything that an operator may set.

use std::net::SocketAddr;
use std::path::PathBuf;

use chrono::TimeDelta;
use ipnet::IpNet;
use nomenta_api::role::Role;
use nomenta_certs::ProberConfig;
use nomenta_certs::acme::AcmeConfig;
use nomenta_certs::keypair::KeyKind;
use nomenta_core::claim::rules::Rules;
use nomenta_core::judge::policy::Policy;
use nomenta_core::learned::lessons::Enough;
use nomenta_core::name::platform::Platform;
use nomenta_core::reading::registration::Registries;
use nomenta_core::sheet::form::Book;
use nomenta_dns::DnsConfig;
use nomenta_dns::responder::ChallengeZone;
use nomenta_store::Retention;
use zeroize::Zeroizing;

use crate::guest::Reception;
use crate::notices::post::MailConfig;
use crate::one_click::OneClick;
use crate::server::ServerLimits;
use crate::tls::TlsFiles;

/// Everything that an operator may set.
#[derive(Clone)]
pub struct ServiceConfig {
    /// Where API and console are served.
    pub listen: SocketAddr,
    /// What strangers may take of it by connecting.
    pub server: ServerLimits,
    /// The certificate that it is served with; without one, TLS is a proxy's to end.
    pub tls: Option<TlsFiles>,
    /// Proxies that are believed where they say who calls.
    pub trusted_proxies: Vec<IpNet>,
    /// PostgreSQL connection URL.
    pub database: String,
    /// 64 hexadecimal characters; seals private keys.
    pub sealing_key: Zeroizing<String>,
    /// The key before it: what it sealed is sealed anew.
    pub former_sealing_key: Option<Zeroizing<String>>,
    /// The platform's zone and brand.
    pub platform: Platform,
    /// How the platform's customers are met.
    pub reception: Reception,
    /// The platform as a provider of one-click templates.
    pub one_click: Option<OneClick>,
    /// Which registry is asked about which domains.
    pub registries: Registries,
    /// How people and systems are told what happens.
    pub notices: NoticesConfig,
    /// How the DNS editors of known operators want lines typed.
    pub book: Book,
    /// Judging and looking again.
    pub policy: Policy,
    /// How much must be known of a DNS operator before anything is said of it.
    pub enough: Enough,
    /// How long claims and their holders are waited for.
    pub rules: Rules,
    /// How DNS is read.
    pub dns: DnsConfig,
    /// How domains are probed.
    pub probes: ProberConfig,
    /// PEM file of the roots that served chains must lead to.
    pub trust: PathBuf,
    /// Where certificates are ordered.
    pub acme: AcmeConfig,
    /// Kind of key for new certificates.
    pub key_kind: KeyKind,
    /// Where the CA's questions for TXT records are answered.
    pub challenge_dns: Option<ChallengeDns>,
    /// Whether a change has to name the version that it is of.
    pub versions_needed: bool,
    /// Rows of a table that are taken in at once, at most.
    pub most_rows: usize,
    /// For how long what happened is kept.
    pub retention: Retention,
    /// Keys that are made sure to exist at start.
    pub boot_keys: Vec<BootKey>,
}

impl ServiceConfig {
    /// Whether visitors of the console come by HTTPS.
    pub(crate) fn is_by_https(&self) -> bool {
        self.tls.is_some() || self.reception.public_url.starts_with("https://")
    }
}

/// The platform's own challenge zone, served by the service itself.
#[derive(Clone, Debug)]
pub struct ChallengeDns {
    /// Where it is served, by UDP and TCP.
    pub listen: SocketAddr,
    /// The zone and its name servers.
    pub zone: ChallengeZone,
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

/// How people are told.
#[derive(Clone, Debug)]
pub struct NoticesConfig {
    /// How mail is sent; without it there is none.
    pub mail: Option<MailConfig>,
    /// Folder whose templates replace those of the service.
    pub templates: Option<PathBuf>,
    /// How long mails are gathered, so that one tells what happened together.
    pub gather: TimeDelta,
}

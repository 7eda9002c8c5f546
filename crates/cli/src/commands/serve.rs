//! `serve` and `openapi`.

use std::fs;
use std::path::Path;
use std::time::Duration;

use anyhow::{Context, ensure};
use chrono::Duration as Span;
use nomenta_certs::ProberConfig;
use nomenta_certs::acme::{AcmeConfig, CallLimits, ExternalAccount};
use nomenta_core::judge::policy::Policy;
use nomenta_core::name::dns;
use nomenta_core::name::platform::Platform;
use nomenta_core::reading::method::Method;
use nomenta_core::sheet::form::Book;
use nomenta_dns::responder::ChallengeZone;
use nomenta_dns::{DnsConfig, Egress, Politeness};
use nomenta_service::{BootKey, ChallengeDns, Role, ServiceConfig};
use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;
use tracing_subscriber::EnvFilter;

use crate::Done;
use crate::args::{EgressRule, ServeOptions};

/// Longest time for one probe of a customer's domain.
const PROBE_LIMIT: Duration = Duration::from_secs(5);

/// Runs the service until it is told to stop.
pub(crate) async fn run(options: ServeOptions) -> anyhow::Result<Done> {
    let filter = EnvFilter::try_from_default_env().unwrap_or_else(|_| EnvFilter::new("info"));
    tracing_subscriber::fmt().json().with_env_filter(filter).with_writer(std::io::stderr).init();
    nomenta_service::run(configuration(options)?, on_signal()?).await?;
    Ok(Done::Yes)
}

/// Prints the OpenAPI document.
pub(crate) fn openapi() -> anyhow::Result<Done> {
    println!("{}", nomenta_service::document().to_pretty_json()?);
    Ok(Done::Yes)
}

/// Cancelled by Ctrl-C and SIGTERM.
pub(crate) fn on_signal() -> anyhow::Result<CancellationToken> {
    let stop = CancellationToken::new();
    for kind in [SignalKind::interrupt(), SignalKind::terminate()] {
        let (mut signals, stop) = (signal(kind)?, stop.clone());
        tokio::spawn(async move {
            signals.recv().await;
            stop.cancel();
        });
    }
    Ok(stop)
}

fn configuration(options: ServeOptions) -> anyhow::Result<ServiceConfig> {
    let egress = match options.egress {
        EgressRule::Public => Egress::public(),
        EgressRule::Loopback => Egress::loopback(),
        EgressRule::Listed => Egress::nothing(),
    };
    let egress = egress.and(options.egress_list);
    ensure!(
        options.validation != Method::Dns || options.acme_dns.is_some(),
        "--validation dns-01 needs --acme-zone and --acme-dns, so that the CA's questions can be answered"
    );
    ensure!(!options.brand.is_empty(), "--brand must not be empty");
    let seconds = |s: u32| Span::seconds(s.into());
    let boot = |name: &str, role, secret: Option<String>| {
        secret.map(|secret| BootKey { name: format!("{name} (configuration)"), role, secret })
    };
    let keys = [boot("admin", Role::Admin, options.admin_key), boot("edge", Role::Edge, options.edge_key)];
    let external_account = match (options.acme_external_id, options.acme_external_key) {
        (Some(id), Some(key)) => Some(ExternalAccount::new(id, &key)?),
        _ => None,
    };
    let challenge_dns = match (&options.acme_zone, options.acme_dns) {
        (Some(zone), Some(listen)) => {
            Some(ChallengeDns { listen, zone: ChallengeZone::new(zone, &options.acme_name_server)? })
        }
        _ => None,
    };
    Ok(ServiceConfig {
        listen: options.listen,
        database: options.database,
        sealing_key: secret(options.sealing_key, options.sealing_key_file.as_deref())?
            .context("No sealing key was given")?,
        former_sealing_key: secret(options.former_sealing_key, options.former_sealing_key_file.as_deref())?,
        platform: Platform {
            zone: dns::normal(&options.platform_zone),
            brand: options.brand,
            proof_zone: options.proof_zone.as_deref().map(dns::normal),
            acme_zone: options.acme_zone.as_deref().map(dns::normal),
            dns_for_all: options.validation == Method::Dns,
        },
        book: options.book.as_deref().map(read_book).transpose()?.unwrap_or_default(),
        policy: Policy {
            quorum: options.quorum,
            ca_identities: options.ca_identity.iter().map(|i| i.to_ascii_lowercase()).collect(),
            look_first: seconds(options.look_first),
            look_most: seconds(options.look_most),
            look_live: seconds(options.look_live),
            quick_looks: options.quick_looks.into(),
            stalled_after: seconds(options.stalled_after),
            look_limit: seconds(options.look_limit),
            order_limit: seconds(options.order_limit),
            order_retry: seconds(options.order_retry),
            method: options.validation,
            fronting: options.proxies,
            grace: seconds(options.grace),
            pair_hold: seconds(options.pair_hold),
            orders_per_domain: options.domain_orders,
            orders_per_account: options.account_orders,
            ..Policy::default()
        },
        dns: DnsConfig {
            roots: options.root_server,
            authority_port: options.dns_port,
            vantages: options.vantage,
            vantage_roots: options.vantage_roots,
            timeout: Duration::from_millis(1500),
            tries: 3,
            politeness: Politeness {
                in_flight: options.server_window as usize,
                per_second: options.server_rate,
            },
            egress: egress.clone(),
        },
        probes: ProberConfig {
            http_port: options.http_port,
            https_port: options.https_port,
            time_limit: PROBE_LIMIT,
            egress,
        },
        trust: options.trust,
        key_kind: options.certificate_key,
        challenge_dns,
        acme: AcmeConfig {
            directory: options.acme_directory,
            directory_roots: options.acme_roots,
            contact: options.acme_contact,
            external_account,
            step_limit: Duration::from_secs(60),
            calls: CallLimits {
                time: Duration::from_secs(options.ca_call_limit.into()),
                at_once: options.ca_calls.into(),
            },
        },
        boot_keys: keys.into_iter().flatten().collect(),
    })
}

/// A secret that was given, or stands in a file.
fn secret(given: Option<String>, file: Option<&Path>) -> anyhow::Result<Option<String>> {
    let Some(file) = file else { return Ok(given) };
    let text = fs::read_to_string(file).with_context(|| format!("Cannot read {}", file.display()))?;
    Ok(Some(text.trim().to_owned()))
}

fn read_book(path: &Path) -> anyhow::Result<Book> {
    let text = fs::read_to_string(path).with_context(|| format!("Cannot read {}", path.display()))?;
    Book::parse(&text).with_context(|| format!("In {}", path.display()))
}

//! `serve` and `openapi`.

use std::collections::HashSet;
use std::fs;
use std::path::Path;
use std::time::Duration;

use anyhow::{Context, ensure};
use chrono::TimeDelta;
use nix::sys::resource::{Resource, getrlimit, setrlimit};
use nomenta_api::role::Role;
use nomenta_certs::ProberConfig;
use nomenta_certs::acme::{AcmeConfig, CallLimits, ExternalAccount};
use nomenta_core::claim::rules::Rules;
use nomenta_core::judge::policy::Policy;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::platform::Platform;
use nomenta_core::reading::method::Method;
use nomenta_core::reading::registration::Registries;
use nomenta_core::sheet::form::Book;
use nomenta_dns::responder::ChallengeZone;
use nomenta_dns::{DnsConfig, Egress, Politeness};
use nomenta_service::{BootKey, ChallengeDns, ServiceConfig};
use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;
use tracing_subscriber::EnvFilter;
use zeroize::Zeroizing;

use crate::Done;
use crate::args::{EgressRule, ServeOptions};

/// Files and sockets that are open beside connections to API and console.
const OTHER_FILES: usize = 1_024;
/// What a key must have that stands in a configuration, where people think one up.
const LEAST_LENGTH: usize = 20;
const LEAST_DIFFERENT: usize = 8;
/// Longest time for one probe of a customer's domain.
const PROBE_LIMIT: Duration = Duration::from_secs(5);
/// Longest wait for one reply to a DNS question.
const REPLY_LIMIT: Duration = Duration::from_millis(1500);
/// Longest that the CA may take from one state of an order to the next.
const STEP_LIMIT: Duration = Duration::from_secs(60);

/// Runs the service until it is told to stop.
pub(crate) async fn run(options: ServeOptions) -> anyhow::Result<Done> {
    let filter = EnvFilter::try_from_default_env().unwrap_or_else(|_| EnvFilter::new("info"));
    tracing_subscriber::fmt().json().with_env_filter(filter).with_writer(std::io::stderr).init();

    let configuration = configuration(options)?;
    allow_open_files(configuration.server.connections);
    nomenta_service::run(configuration, on_signal()?).await?;
    Ok(Done::Yes)
}

/// Has the system grant as many open files as it may: each connection is one, and each socket that
/// questions leave by.
fn allow_open_files(connections: usize) {
    let Ok((_, most)) = getrlimit(Resource::RLIMIT_NOFILE) else { return };
    if let Err(error) = setrlimit(Resource::RLIMIT_NOFILE, most, most) {
        tracing::warn!(%error, "the number of open files stays as it is");
    }
    if most < (connections + OTHER_FILES) as u64 {
        tracing::warn!(most, connections, "fewer files may be open than --connections and sockets may need");
    }
}

/// Prints the OpenAPI document.
pub(crate) fn openapi() -> anyhow::Result<Done> {
    println!("{}", serde_json::to_string_pretty(&nomenta_service::document())?);
    Ok(Done::Yes)
}

/// Cancelled by Ctrl-C and SIGTERM.
fn on_signal() -> anyhow::Result<CancellationToken> {
    let stop = CancellationToken::new();
    for kind in [SignalKind::interrupt(), SignalKind::terminate()] {
        let mut signals = signal(kind)?;
        let stop = stop.clone();
        tokio::spawn(async move {
            signals.recv().await;
            stop.cancel();
        });
    }

    Ok(stop)
}

fn configuration(options: ServeOptions) -> anyhow::Result<ServiceConfig> {
    ensure!(!options.brand.is_empty(), "--brand must not be empty");
    ensure!(
        options.validation != Method::Dns || options.acme_dns.is_some(),
        "--validation dns-01 needs --acme-zone and --acme-dns, so that the CA's questions can be answered"
    );
    ensure!(
        options.budget.visits_a_minute as usize >= 2 * options.budget.most_visited,
        "--visits-a-minute must be at least twice --most-visited: a domain with so many addresses in one network \
         would never be visited"
    );

    let sealing_key = secret(options.sealing_key.clone(), options.sealing_key_file.as_deref())?;
    let former = secret(options.former_sealing_key.clone(), options.former_sealing_key_file.as_deref())?;
    let egress = egress(&options);

    Ok(ServiceConfig {
        platform: platform(&options),
        policy: policy(&options),
        acme: acme(&options)?,
        challenge_dns: challenge_dns(&options)?,
        boot_keys: boot_keys(&options)?,
        versions_needed: options.need_versions,
        most_rows: options.most_rows,
        retention: options.kept.retention(),
        enough: options.learned.enough(),
        reception: options.reception.reception(&options)?,
        one_click: options.reception.one_click(&options)?,
        notices: options.notices.notices()?,
        registries: options.registries.as_deref().map(read_registries).transpose()?.unwrap_or_default(),
        book: options.book.as_deref().map(read_book).transpose()?.unwrap_or_default(),
        dns: dns(&options, egress.clone()),
        rules: Rules {
            contest_grace: TimeDelta::seconds(options.contest_grace.into()),
            patience: TimeDelta::seconds(options.claim_patience.into()),
            kept: TimeDelta::seconds(options.ended_kept.into()),
        },
        probes: ProberConfig {
            http_port: options.http_port,
            https_port: options.https_port,
            time_limit: PROBE_LIMIT,
            egress,
            visits: options.budget.visits_a_minute,
        },
        listen: options.listen,
        server: options.server.limits(),
        tls: options.server.tls(),
        trusted_proxies: options.server.trust_proxy,
        database: options.database,
        sealing_key: sealing_key.context("No sealing key was given")?,
        former_sealing_key: former,
        trust: options.trust,
        key_kind: options.certificate_key,
    })
}

fn read_registries(path: &Path) -> anyhow::Result<Registries> {
    let text = fs::read_to_string(path).with_context(|| format!("Cannot read {}", path.display()))?;
    Registries::read(&text).with_context(|| format!("In {}", path.display()))
}

fn platform(options: &ServeOptions) -> Platform {
    Platform {
        zone: DnsName::new(&options.platform_zone),
        brand: options.brand.clone(),
        proof_zone: options.proof_zone.as_ref().map(DnsName::new),
        acme_zone: options.acme_zone.as_ref().map(DnsName::new),
        dns_for_all: options.validation == Method::Dns,
        special_use: options.admit_special_use.iter().map(DnsName::new).collect(),
        reserved: options.reserve.iter().map(DnsName::new).collect(),
    }
}

fn policy(options: &ServeOptions) -> Policy {
    let seconds = |seconds: u32| TimeDelta::seconds(seconds.into());
    Policy {
        quorum: options.quorum,
        vantage_floor: options.vantage_floor,
        second_look: seconds(options.second_look),
        ca_identities: options.ca_identity.iter().map(|name| name.to_ascii_lowercase()).collect(),
        look_first: seconds(options.look_first),
        young_for: seconds(options.young_for),
        look_most: seconds(options.look_most),
        look_live: seconds(options.look_live),
        look_contested: seconds(options.look_contested),
        quick_looks: options.quick_looks,
        stalled_after: seconds(options.stalled_after),
        look_limit: seconds(options.look_limit),
        order_limit: seconds(options.order_limit),
        order_retry: seconds(options.order_retry),
        method: options.validation,
        fronting: options.proxies,
        most_visited: options.budget.most_visited,
        grace: seconds(options.grace),
        pair_hold: seconds(options.pair_hold),
        orders_per_domain: options.domain_orders,
        orders_per_account: options.account_orders,
        renewal_reserve: options.renewal_reserve,
        account_share: options.account_share,
        advice_rate: options.advice_rate,
        ..Policy::default()
    }
}

fn egress(options: &ServeOptions) -> Egress {
    let rule = match options.egress {
        EgressRule::Public => Egress::public(),
        EgressRule::Loopback => Egress::loopback(),
        EgressRule::Listed => Egress::nothing(),
    };
    rule.and(options.egress_list.clone())
}

fn dns(options: &ServeOptions, egress: Egress) -> DnsConfig {
    DnsConfig {
        roots: options.root_server.clone(),
        authority_port: options.dns_port,
        vantages: options.vantage.clone(),
        vantage_roots: options.vantage_roots.clone(),
        timeout: REPLY_LIMIT,
        tries: 3,
        politeness: Politeness { in_flight: options.server_window, per_second: options.server_rate },
        limits: options.budget.limits(),
        egress,
    }
}

fn acme(options: &ServeOptions) -> anyhow::Result<AcmeConfig> {
    let external_account = match (&options.acme_external_id, &options.acme_external_key) {
        (Some(id), Some(key)) => Some(ExternalAccount::new(id.clone(), key)?),
        _ => None,
    };

    Ok(AcmeConfig {
        directory: options.acme_directory.clone(),
        directory_roots: options.acme_roots.clone(),
        contact: options.acme_contact.clone(),
        external_account,
        step_limit: STEP_LIMIT,
        calls: CallLimits { time: Duration::from_secs(options.ca_call_limit), at_once: options.ca_calls },
    })
}

fn challenge_dns(options: &ServeOptions) -> anyhow::Result<Option<ChallengeDns>> {
    let (Some(zone), Some(listen)) = (&options.acme_zone, options.acme_dns) else { return Ok(None) };
    let zone = ChallengeZone::new(zone, &options.acme_name_server)?;
    Ok(Some(ChallengeDns { listen, zone }))
}

fn boot_keys(options: &ServeOptions) -> anyhow::Result<Vec<BootKey>> {
    let mut keys = Vec::new();
    for (role, secret) in [(Role::Admin, &options.admin_key), (Role::Edge, &options.edge_key)] {
        let Some(secret) = secret.clone() else { continue };
        ensure!(
            is_hard_to_guess(&secret),
            "The {role} key is too easy to guess. Use {LEAST_LENGTH} characters or more, {LEAST_DIFFERENT} of them \
             different; make one with: openssl rand -hex 24"
        );
        keys.push(BootKey { name: format!("{role} (configuration)"), role, secret });
    }
    Ok(keys)
}

/// Whether a key is long and varied enough for one that opens everything.
fn is_hard_to_guess(secret: &str) -> bool {
    let different: HashSet<char> = secret.chars().collect();
    secret.chars().count() >= LEAST_LENGTH && different.len() >= LEAST_DIFFERENT
}

/// A secret that was given, or stands in a file.
fn secret(given: Option<String>, file: Option<&Path>) -> anyhow::Result<Option<Zeroizing<String>>> {
    let Some(file) = file else { return Ok(given.map(Zeroizing::new)) };
    let text = fs::read_to_string(file).with_context(|| format!("Cannot read {}", file.display()))?;
    let text = Zeroizing::new(text);
    Ok(Some(Zeroizing::new(text.trim().to_owned())))
}

fn read_book(path: &Path) -> anyhow::Result<Book> {
    let text = fs::read_to_string(path).with_context(|| format!("Cannot read {}", path.display()))?;
    Book::parse(&text).with_context(|| format!("In {}", path.display()))
}

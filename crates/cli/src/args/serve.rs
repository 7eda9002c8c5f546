//! Running the service.

use std::net::{IpAddr, SocketAddr};
use std::ops::RangeInclusive;
use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use chrono::TimeDelta;
use clap::{Args, ValueEnum};
use nomenta_certs::acme::CallLimits;
use nomenta_certs::keypair::KeyKind;
use nomenta_core::claim::rules::Rules;
use nomenta_core::judge::policy::{Fronting, Policy};
use nomenta_core::learned::lessons::Enough;
use nomenta_core::reading::method::Method;
use nomenta_dns::{Politeness, SurveyLimits, Vantage};
use nomenta_service::{Retention, ServerLimits, TlsFiles};
use thiserror::Error;

use super::{NoticeOptions, ReceptionOptions};

/// Longest time for which anything is kept, in days: a century.
const MOST_DAYS: i64 = 36_500;

#[derive(Args)]
pub(crate) struct ServeOptions {
    /// Where API and console are served.
    #[arg(long, default_value = "127.0.0.1:8640")]
    pub listen: SocketAddr,
    #[command(flatten)]
    pub server: ServerOptions,
    /// PostgreSQL connection URL.
    #[arg(long, env = "NOMENTA_DATABASE", hide_env_values = true)]
    pub database: String,
    /// Sealing key: 64 hexadecimal characters.
    #[arg(
        long,
        env = "NOMENTA_SEALING_KEY",
        hide_env_values = true,
        required_unless_present = "sealing_key_file"
    )]
    pub sealing_key: Option<String>,
    /// File that holds the sealing key.
    #[arg(long, value_name = "FILE", conflicts_with = "sealing_key")]
    pub sealing_key_file: Option<PathBuf>,
    /// The sealing key before it: what that one sealed is sealed anew at start.
    #[arg(long, env = "NOMENTA_FORMER_SEALING_KEY", hide_env_values = true)]
    pub former_sealing_key: Option<String>,
    /// File that holds the sealing key before it.
    #[arg(long, value_name = "FILE", conflicts_with = "former_sealing_key")]
    pub former_sealing_key_file: Option<PathBuf>,
    /// An admin key to be made sure of at start.
    #[arg(long, env = "NOMENTA_ADMIN_KEY", hide_env_values = true)]
    pub admin_key: Option<String>,
    /// An edge key to be made sure of at start.
    #[arg(long, env = "NOMENTA_EDGE_KEY", hide_env_values = true)]
    pub edge_key: Option<String>,
    /// The platform's own zone.
    #[arg(long)]
    pub platform_zone: String,
    /// The word in the challenge label.
    #[arg(long)]
    pub brand: String,
    /// Zone under which a CNAME to TOKEN.ZONE proves ownership.
    #[arg(long)]
    pub proof_zone: Option<String>,
    /// Zone to which customers point _acme-challenge for wildcards.
    #[arg(long)]
    pub acme_zone: Option<String>,
    /// Special-use name (RFC 6761) under which domains are taken in all the same,
    /// such as test; repeat for each.
    #[arg(long, value_name = "NAME")]
    pub admit_special_use: Vec<String>,
    /// Name that no claim is taken of, nor of any under it; repeat for each.
    #[arg(long, value_name = "NAME")]
    pub reserve: Vec<String>,
    /// How long a holder whose token is gone may put it back once another claim is
    /// proved, in seconds.
    #[arg(long, default_value_t = rule(|rules| rules.contest_grace), value_name = "SECONDS")]
    pub contest_grace: u32,
    /// How long a claim that was never proved is kept beyond its token's end, in seconds.
    #[arg(long, default_value_t = rule(|rules| rules.patience), value_name = "SECONDS")]
    pub claim_patience: u32,
    /// How long a claim that has ended is kept, for its history, in seconds.
    #[arg(long, default_value_t = rule(|rules| rules.kept), value_name = "SECONDS")]
    pub ended_kept: u32,
    /// Longest wait between two looks while another claim of the name is proved too, in
    /// seconds.
    #[arg(long, default_value_t = seconds(|policy| policy.look_contested), value_name = "SECONDS")]
    pub look_contested: u32,
    /// Where the CA's questions about that zone are answered, by UDP and TCP.
    #[arg(long, value_name = "ADDRESS:PORT", requires = "acme_zone")]
    pub acme_dns: Option<SocketAddr>,
    /// Name server that the zone is delegated to; repeat for each.
    #[arg(long, value_name = "NAME", requires = "acme_dns")]
    pub acme_name_server: Vec<String>,
    /// TOML file of DNS operators and how their editors want lines typed.
    #[arg(long, value_name = "FILE")]
    pub book: Option<PathBuf>,
    /// Address of a root server; repeat for each.
    #[arg(long, required = true)]
    pub root_server: Vec<IpAddr>,
    /// Port of authoritative servers.
    #[arg(long, default_value_t = 53)]
    pub dns_port: u16,
    /// A resolver to read through, as NAME=ADDRESS:PORT for UDP and TCP,
    /// NAME=tls://ADDRESS:PORT#SERVER or NAME=https://SERVER/PATH; repeat for each.
    #[arg(long)]
    pub vantage: Vec<Vantage>,
    /// PEM file of the roots that TLS and HTTPS vantages must lead to.
    #[arg(long, value_name = "FILE", default_value = "/etc/ssl/certs/ca-certificates.crt")]
    pub vantage_roots: PathBuf,
    /// Most questions on the way to one DNS server.
    #[arg(long, default_value_t = Politeness::default().in_flight, value_parser = read_window)]
    pub server_window: usize,
    /// Most questions in a second to one DNS server; 0 for no limit.
    #[arg(long, default_value_t = Politeness::default().per_second)]
    pub server_rate: u32,
    #[command(flatten)]
    pub budget: BudgetOptions,
    /// Port of plain HTTP at customers' domains.
    #[arg(long, default_value_t = 80)]
    pub http_port: u16,
    /// Port of HTTPS at customers' domains.
    #[arg(long, default_value_t = 443)]
    pub https_port: u16,
    /// Which addresses customers' zones may lead to: public, loopback, or
    /// nothing but those listed.
    #[arg(long, value_enum, default_value_t = EgressRule::Public)]
    pub egress: EgressRule,
    /// Network that customers' zones may lead to beside that; repeat for each.
    #[arg(long, value_name = "NETWORK")]
    pub egress_list: Vec<ipnet::IpNet>,
    /// PEM file of the roots that served chains must lead to.
    #[arg(long, default_value = "/etc/ssl/certs/ca-certificates.crt")]
    pub trust: PathBuf,
    /// ACME directory URL.
    #[arg(long)]
    pub acme_directory: String,
    /// PEM bundle of roots that the directory's own TLS certificate leads to.
    #[arg(long, value_name = "FILE", default_value = "/etc/ssl/certs/ca-certificates.crt")]
    pub acme_roots: PathBuf,
    /// Key identifier of the account outside of ACME to bind the new one to.
    #[arg(long, value_name = "ID", requires = "acme_external_key")]
    pub acme_external_id: Option<String>,
    /// MAC key of that account, base64url.
    #[arg(long, env = "NOMENTA_ACME_EXTERNAL_KEY", hide_env_values = true)]
    pub acme_external_key: Option<String>,
    /// How control is shown to the CA: http-01, tls-alpn-01 or dns-01; wildcards
    /// always by dns-01.
    #[arg(long, default_value_t = Method::Http, value_name = "METHOD")]
    pub validation: Method,
    /// Kind of key for new certificates: ecdsa (P-256) or rsa (2048 bits).
    #[arg(long, default_value_t = KeyKind::Ecdsa, value_name = "KIND")]
    pub certificate_key: KeyKind,
    /// Whether proxies in front that pass visitors on are good enough: block or
    /// allow.
    #[arg(long, default_value_t = Fronting::Block, value_name = "RULE")]
    pub proxies: Fronting,
    /// Contact for the ACME account, as mailto: URL.
    #[arg(long)]
    pub acme_contact: Option<String>,
    /// Issuer name of the certification authority in CAA records; repeat for each.
    #[arg(long)]
    pub ca_identity: Vec<String>,
    /// Most rows of a table that are taken in at once.
    #[arg(long, default_value_t = nomenta_service::MOST_ROWS, value_name = "ROWS")]
    pub most_rows: usize,
    /// File of the registries to ask about domains by RDAP, as IANA publishes it (RFC 9224);
    /// without it none is asked.
    #[arg(long, value_name = "FILE")]
    pub registries: Option<PathBuf>,
    #[command(flatten)]
    pub kept: KeptOptions,
    #[command(flatten)]
    pub learned: LearnedOptions,
    #[command(flatten)]
    pub reception: ReceptionOptions,
    #[command(flatten)]
    pub notices: NoticeOptions,
    /// Refuse changes that do not say which version they are of (If-Match).
    #[arg(long)]
    pub need_versions: bool,
    /// Share of vantages that must see the routing, 0 to 1.
    #[arg(long, default_value_t = Policy::default().quorum, value_parser = read_share)]
    pub quorum: f64,
    /// Share of the vantages that must answer before their word counts, 0 to 1.
    #[arg(long, default_value_t = Policy::default().vantage_floor, value_parser = read_share)]
    pub vantage_floor: f64,
    /// Seconds between the look that casts doubt on a gate and the one that
    /// decides.
    #[arg(long, default_value_t = seconds(|policy| policy.second_look))]
    pub second_look: u32,
    /// Seconds between looks while the last change is young, or somebody waits for the domain.
    #[arg(long, default_value_t = seconds(|policy| policy.look_first))]
    pub look_first: u32,
    /// Seconds for which a change is young; the older it is after that, the longer the wait.
    #[arg(long, default_value_t = seconds(|policy| policy.young_for), value_parser = clap::value_parser!(u32).range(1..))]
    pub young_for: u32,
    /// Most seconds to the next look while nothing moves.
    #[arg(long, default_value_t = seconds(|policy| policy.look_most))]
    pub look_most: u32,
    /// Seconds between looks at a live domain.
    #[arg(long, default_value_t = seconds(|policy| policy.look_live))]
    pub look_live: u32,
    /// Quick looks between two full ones, while nothing moves; at a live domain three at most.
    #[arg(long, default_value_t = Policy::default().quick_looks, value_parser = clap::value_parser!(i32).range(0..=10_000))]
    pub quick_looks: i32,
    /// Seconds in which nothing moves until a domain counts as stalled.
    #[arg(long, default_value_t = seconds(|policy| policy.stalled_after))]
    pub stalled_after: u32,
    /// Most seconds that one look may take before it is tried again.
    #[arg(long, default_value_t = seconds(|policy| policy.look_limit), value_parser = clap::value_parser!(u32).range(1..))]
    pub look_limit: u32,
    /// Most seconds that one try to bring an order to its end may take.
    #[arg(long, default_value_t = seconds(|policy| policy.order_limit), value_parser = clap::value_parser!(u32).range(1..))]
    pub order_limit: u32,
    /// Most calls to the CA at once.
    #[arg(long, default_value_t = CallLimits::default().at_once, value_parser = read_calls)]
    pub ca_calls: usize,
    /// Most seconds that one call to the CA may take.
    #[arg(long, default_value_t = CallLimits::default().time.as_secs(), value_parser = clap::value_parser!(u64).range(1..))]
    pub ca_call_limit: u64,
    /// Seconds to the next order after a refusal; doubles each time.
    #[arg(long, default_value_t = seconds(|policy| policy.order_retry))]
    pub order_retry: u32,
    /// Most orders in a week for the names under one registered domain.
    #[arg(long, default_value_t = Policy::default().orders_per_domain, value_parser = clap::value_parser!(u32).range(1..))]
    pub domain_orders: u32,
    /// Most orders in three hours with the account at the CA.
    #[arg(long, default_value_t = Policy::default().orders_per_account, value_parser = clap::value_parser!(u32).range(1..))]
    pub account_orders: u32,
    /// Share of these orders that is kept for renewals, in percent.
    #[arg(long, default_value_t = Policy::default().renewal_reserve, value_name = "PERCENT",
        value_parser = clap::value_parser!(u32).range(0..=90))]
    pub renewal_reserve: u32,
    /// Share of the orders in three hours that the domains of one account may take, in percent.
    #[arg(long, default_value_t = Policy::default().account_share, value_name = "PERCENT",
        value_parser = clap::value_parser!(u32).range(1..=100))]
    pub account_share: u32,
    /// Most certificates in a second on which one process asks the CA when to renew them.
    #[arg(long, default_value_t = Policy::default().advice_rate, value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub advice_rate: u32,
    /// Seconds that a gate may be lapsed before it counts as not passed.
    #[arg(long, default_value_t = seconds(|policy| policy.grace))]
    pub grace: u32,
    /// Seconds that one of a pair waits for the other, to share a certificate.
    #[arg(long, default_value_t = seconds(|policy| policy.pair_hold))]
    pub pair_hold: u32,
}

/// What strangers may take of the service by connecting to it.
#[derive(Args)]
pub(crate) struct ServerOptions {
    /// PEM file of the chain that API and console are served with by HTTPS; read again when it
    /// changes.
    #[arg(long, value_name = "FILE", requires = "tls_key")]
    pub tls_cert: Option<PathBuf>,
    /// PEM file of its private key.
    #[arg(long, value_name = "FILE", requires = "tls_cert")]
    pub tls_key: Option<PathBuf>,
    /// Network of proxies that are believed where they say who calls (Forwarded,
    /// X-Forwarded-For); repeat for each.
    #[arg(long, value_name = "NETWORK")]
    pub trust_proxy: Vec<ipnet::IpNet>,
    /// Connections to API and console at once.
    #[arg(long, default_value_t = ServerLimits::default().connections, value_name = "CONNECTIONS", value_parser = read_connections)]
    pub connections: usize,
    /// Of these, connections from one address, or IPv6 network of 64 bits; proxies that are trusted
    /// have as many as they like.
    #[arg(long, default_value_t = ServerLimits::default().of_one, value_name = "CONNECTIONS", value_parser = read_connections)]
    pub source_connections: usize,
    /// Most seconds that the head of a call may take, or the wait for the next one.
    #[arg(long, default_value_t = ServerLimits::default().head.as_secs(), value_name = "SECONDS",
        value_parser = clap::value_parser!(u64).range(1..=3_600))]
    pub head_limit: u64,
    /// Keys that open nothing and that one address may try at once; then one in three seconds.
    #[arg(long, default_value_t = ServerLimits::default().wrong_keys, value_name = "KEYS",
        value_parser = clap::value_parser!(u32).range(1..))]
    pub wrong_keys: u32,
}

impl ServerOptions {
    /// The certificate that it is served with.
    pub(crate) fn tls(&self) -> Option<TlsFiles> {
        Some(TlsFiles { chain: self.tls_cert.clone()?, key: self.tls_key.clone()? })
    }

    /// The same as the service has it.
    pub(crate) fn limits(&self) -> ServerLimits {
        ServerLimits {
            connections: self.connections,
            of_one: self.source_connections,
            head: Duration::from_secs(self.head_limit),
            wrong_keys: self.wrong_keys,
        }
    }
}

/// What one look may cost, whatever a zone publishes.
#[derive(Args)]
pub(crate) struct BudgetOptions {
    /// Most seconds in which the zone and its servers are looked for.
    #[arg(long, default_value_t = SurveyLimits::default().walk.as_secs(), value_parser = clap::value_parser!(u64).range(1..))]
    pub walk_limit: u64,
    /// Most questions that are asked for that.
    #[arg(long, default_value_t = SurveyLimits::default().questions, value_parser = clap::value_parser!(u32).range(10..))]
    pub walk_questions: u32,
    /// Most seconds in which the zone is read, once it is found.
    #[arg(long, default_value_t = SurveyLimits::default().readings.as_secs(), value_parser = clap::value_parser!(u64).range(1..))]
    pub reading_limit: u64,
    /// The same for a name server that limits how fast it is asked: it is asked again slower.
    #[arg(long, default_value_t = SurveyLimits::default().patience.as_secs(), value_parser = clap::value_parser!(u64).range(1..))]
    pub slow_server_limit: u64,
    /// Most seconds for which a quick look at many domains waits for the zones that are not known.
    #[arg(long, default_value_t = SurveyLimits::default().quick.as_secs(), value_parser = clap::value_parser!(u64).range(1..))]
    pub quick_limit: u64,
    /// Most addresses of a zone's name servers that are asked.
    #[arg(long, default_value_t = SurveyLimits::default().servers, value_parser = clap::value_parser!(u32).range(2..=1_000))]
    pub most_servers: u32,
    /// Most name servers of one domain whose addresses are looked for.
    #[arg(long, default_value_t = SurveyLimits::default().lookups, value_parser = clap::value_parser!(u32).range(2..=1_000))]
    pub most_lookups: u32,
    /// Most records of one answer that are read.
    #[arg(long, default_value_t = SurveyLimits::default().records, value_parser = clap::value_parser!(u32).range(10..=5_000))]
    pub most_records: u32,
    /// Most octets of answers that are read.
    #[arg(long, default_value_t = SurveyLimits::default().octets, value_parser = clap::value_parser!(u32).range(10_000..))]
    pub most_octets: u32,
    /// Most connections by TCP, each for all that is fetched from one name server.
    #[arg(long, default_value_t = SurveyLimits::default().connections, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub most_connections: u32,
    /// Most aliases that are followed out of the zone, one after the other.
    #[arg(long, default_value_t = SurveyLimits::default().aliases, value_parser = clap::value_parser!(u32).range(1..=100))]
    pub most_aliases: u32,
    /// Most addresses of others that are visited for one domain.
    #[arg(long, default_value_t = Policy::default().most_visited, value_parser = read_least)]
    pub most_visited: usize,
    /// Most connections in a minute to one network of others, whatever leads there.
    #[arg(long, default_value_t = 60, value_parser = clap::value_parser!(u32).range(1..))]
    pub visits_a_minute: u32,
}

impl BudgetOptions {
    /// The same as the surveyor has it.
    pub(crate) fn limits(&self) -> SurveyLimits {
        SurveyLimits {
            walk: Duration::from_secs(self.walk_limit),
            questions: self.walk_questions,
            readings: Duration::from_secs(self.reading_limit),
            patience: Duration::from_secs(self.slow_server_limit),
            quick: Duration::from_secs(self.quick_limit),
            servers: self.most_servers,
            lookups: self.most_lookups,
            records: self.most_records,
            octets: self.most_octets,
            connections: self.most_connections,
            aliases: self.most_aliases,
        }
    }
}

/// Which addresses customers' zones may lead to.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum EgressRule {
    /// Publicly routed addresses only.
    Public,
    /// Loopback only, for a closed test world.
    Loopback,
    /// Nothing but what --egress-list names.
    Listed,
}

/// A default of the rules for claims, in whole seconds.
fn rule(of: impl Fn(&Rules) -> TimeDelta) -> u32 {
    u32::try_from(of(&Rules::default()).num_seconds()).unwrap_or(u32::MAX)
}

/// What the policy has for an option that is left out.
fn seconds(of: impl Fn(&Policy) -> TimeDelta) -> u32 {
    u32::try_from(of(&Policy::default()).num_seconds()).unwrap_or(u32::MAX)
}

/// A number outside of what an option takes.
#[derive(Debug, Error)]
#[error("{given} is not {what}. Use a number from {least} to {most}.")]
struct OutOfRange {
    given: String,
    what: &'static str,
    least: f64,
    most: f64,
}

fn read_within<T: FromStr + PartialOrd + Into<f64> + Copy>(
    given: &str,
    what: &'static str,
    range: RangeInclusive<T>,
) -> Result<T, OutOfRange> {
    let number = given.parse().ok().filter(|number| range.contains(number));
    number.ok_or_else(|| OutOfRange {
        given: given.to_owned(),
        what,
        least: (*range.start()).into(),
        most: (*range.end()).into(),
    })
}

fn read_share(given: &str) -> Result<f64, OutOfRange> {
    read_within(given, "a share", 0.0..=1.0)
}

fn read_calls(given: &str) -> Result<usize, OutOfRange> {
    read_within::<u16>(given, "a number of calls", 1..=100).map(usize::from)
}

fn read_least(given: &str) -> Result<usize, OutOfRange> {
    read_within::<u16>(given, "a number of cases", 2..=1_000).map(usize::from)
}

fn read_connections(given: &str) -> Result<usize, OutOfRange> {
    read_within::<u32>(given, "a number of connections", 10..=1_000_000).map(|number| number as usize)
}

fn read_window(given: &str) -> Result<usize, OutOfRange> {
    read_within::<u16>(given, "a number of questions", 1..=10_000).map(usize::from)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_outside_of_what_an_option_takes_are_refused() {
        assert_eq!(read_share("0.5").expect("a share"), 0.5);
        let refused = read_share("1.5").expect_err("too much").to_string();
        assert_eq!(refused, "1.5 is not a share. Use a number from 0 to 1.");
        assert_eq!(read_calls("100").expect("calls"), 100);
        assert!(read_calls("0").is_err() && read_window("x").is_err());
    }
}

/// How much must be known of a DNS operator before anything is said of it.
#[derive(Args)]
pub(crate) struct LearnedOptions {
    /// Domains that something must be known of before it is said of their DNS operator.
    #[arg(long, default_value_t = Enough::default().cases, value_name = "DOMAINS", value_parser = read_least)]
    pub learn_from: usize,
    /// Accounts that these must be of, so that nothing is told of any one.
    #[arg(long, default_value_t = Enough::default().accounts, value_name = "ACCOUNTS", value_parser = read_least)]
    pub learn_accounts: usize,
    /// Share of the domains there from which on customers are warned of a mistake, 0 to 1.
    #[arg(long, default_value_t = Enough::default().usual, value_name = "SHARE", value_parser = read_share)]
    pub usual_share: f64,
}

impl LearnedOptions {
    /// The same as the service has it.
    pub(crate) fn enough(&self) -> Enough {
        Enough { cases: self.learn_from, accounts: self.learn_accounts, usual: self.usual_share }
    }
}

/// For how long what happened is kept, in days.
#[derive(Args)]
pub(crate) struct KeptOptions {
    /// Days for which what happened to domains is kept.
    #[arg(long, default_value_t = Retention::default().events.num_days(), value_name = "DAYS",
        value_parser = clap::value_parser!(i64).range(1..=MOST_DAYS))]
    pub events_kept: i64,
    /// Days for which it is kept how routing spread over the vantages.
    #[arg(long, default_value_t = Retention::default().spreads.num_days(), value_name = "DAYS",
        value_parser = clap::value_parser!(i64).range(1..=MOST_DAYS))]
    pub spreads_kept: i64,
    /// Days for which the steps of orders are kept.
    #[arg(long, default_value_t = Retention::default().steps.num_days(), value_name = "DAYS",
        value_parser = clap::value_parser!(i64).range(1..=MOST_DAYS))]
    pub steps_kept: i64,
    /// Days for which orders are kept; budgets at the CA are counted from a week of them.
    #[arg(long, default_value_t = Retention::default().orders.num_days(), value_name = "DAYS",
        value_parser = clap::value_parser!(i64).range(8..=MOST_DAYS))]
    pub orders_kept: i64,
    /// Days for which it is kept who changed what.
    #[arg(long, default_value_t = Retention::default().audit.num_days(), value_name = "DAYS",
        value_parser = clap::value_parser!(i64).range(1..=MOST_DAYS))]
    pub audit_kept: i64,
    /// Days for which jobs and sessions that have ended are kept.
    #[arg(long, default_value_t = Retention::default().jobs.num_days(), value_name = "DAYS",
        value_parser = clap::value_parser!(i64).range(1..=MOST_DAYS))]
    pub jobs_kept: i64,
}

impl KeptOptions {
    /// The same as the service has it.
    pub(crate) fn retention(&self) -> Retention {
        Retention {
            events: TimeDelta::days(self.events_kept),
            spreads: TimeDelta::days(self.spreads_kept),
            steps: TimeDelta::days(self.steps_kept),
            orders: TimeDelta::days(self.orders_kept),
            audit: TimeDelta::days(self.audit_kept),
            jobs: TimeDelta::days(self.jobs_kept),
        }
    }
}

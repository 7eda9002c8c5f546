//! What can be typed.

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use nomenta_certs::keypair::KeyKind;
use nomenta_core::judge::gate::Stage;
use nomenta_core::judge::policy::Fronting;
use nomenta_core::reading::method::Method;
use nomenta_dns::Vantage;
use nomenta_service::Role;
use nomenta_world::customer::Mistake;

/// Custom-domain onboarding: what to publish, what is wrong, what to do.
///
/// Exit status: 0 done, 1 failed, 2 wrong call, 3 not yet.
#[derive(Parser)]
#[command(name = "nomenta", version, propagate_version = true)]
pub(crate) struct Arguments {
    /// Base URL of the service.
    #[arg(long, env = "NOMENTA_URL", default_value = "http://127.0.0.1:8640", global = true)]
    pub url: String,
    /// Access key.
    #[arg(long, env = "NOMENTA_KEY", default_value = "", hide_env_values = true, global = true)]
    pub key: String,
    /// Shape of the output.
    #[arg(long = "as", value_enum, default_value_t = Shape::Table, global = true)]
    pub shape: Shape,
    #[command(subcommand)]
    pub verb: Verb,
}

/// Shape of the output.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Shape {
    /// For people.
    Table,
    /// For programs.
    Json,
    /// For spreadsheets (RFC 4180).
    Csv,
    /// Plain text for a mail; sheets only.
    Text,
    /// Markdown; sheets and the list of findings only.
    Markdown,
    /// Lines of a master file (RFC 1035); sheets and baselines only.
    Zone,
}

#[derive(Subcommand)]
pub(crate) enum Verb {
    /// Run the service.
    Serve(Box<ServeOptions>),
    /// Run the whole world on loopback with made-up customers.
    Demo(DemoOptions),
    /// Print the OpenAPI document of the API.
    Openapi,
    /// List every finding there can be, and what it means.
    Findings,
    /// Accounts of the platform.
    #[command(subcommand)]
    Account(AccountVerb),
    /// Sites of the accounts.
    #[command(subcommand)]
    Site(SiteVerb),
    /// Where traffic must land.
    #[command(subcommand)]
    Ingress(IngressVerb),
    /// Access keys.
    #[command(subcommand)]
    Key(KeyVerb),
    /// Take a domain in, and print what the customer must publish.
    Enrol(EnrolOptions),
    /// Print what the customer must publish, with every choice.
    Sheet(SheetOptions),
    /// Print the customer's records as they were at enrolment, beside now.
    Baseline {
        /// The domain.
        host: String,
    },
    /// Judge a zone file before anything is changed, and amend it.
    Rehearse(RehearseOptions),
    /// Look at a domain now, and print every answer.
    Survey(SurveyOptions),
    /// Say where a domain stands, what is wrong, and what to do.
    Explain {
        /// The domain.
        host: String,
    },
    /// List domains and where they stand.
    Roster(RosterOptions),
    /// Print what happened to a domain.
    History {
        /// The domain.
        host: String,
    },
    /// Certificates: of one domain, and of the fleet.
    #[command(subcommand)]
    Certificate(CertificateVerb),
    /// Let a domain leave the platform; its certificate is revoked.
    Release {
        /// The domain.
        host: String,
    },
}

#[derive(Subcommand)]
pub(crate) enum CertificateVerb {
    /// List the fleet's certificates, first those that run out first.
    List {
        /// Only those that run out within so many days.
        #[arg(long, value_name = "DAYS")]
        within: Option<u32>,
        /// Only this account.
        #[arg(long)]
        account: Option<String>,
    },
    /// Print the account at the CA, as CAA records may name it.
    Account,
    /// Print a domain's certificate and the story of its latest order.
    Show {
        /// The domain.
        host: String,
    },
    /// Print a domain's chain as PEM, its own certificate first; no key.
    Chain {
        /// The domain.
        host: String,
    },
    /// Ask everything that the CA will ask, and order nothing.
    Preflight {
        /// The domain.
        host: String,
    },
    /// Renew a certificate now.
    Renew {
        /// The domain.
        host: String,
        /// Longest wait for the new one, in seconds.
        #[arg(long, default_value_t = 120, value_name = "SECONDS")]
        within: u64,
    },
    /// Revoke a domain's certificates; a new one is ordered, with another key.
    Revoke {
        /// The domain.
        host: String,
        /// unspecified, keyCompromise, superseded or cessationOfOperation.
        #[arg(long)]
        reason: String,
    },
    /// Serve a certificate that the customer brings.
    Bring {
        /// The domain.
        host: String,
        /// PEM file of the chain, the domain's own certificate first.
        #[arg(long, value_name = "FILE")]
        chain: PathBuf,
        /// PEM file of the private key (PKCS #8).
        #[arg(long, value_name = "FILE")]
        private_key: PathBuf,
    },
}

#[derive(Subcommand)]
pub(crate) enum AccountVerb {
    /// Add an account.
    Add {
        /// Short name.
        name: String,
        /// Name for people.
        #[arg(long)]
        title: Option<String>,
    },
    /// List accounts.
    List,
}

#[derive(Subcommand)]
pub(crate) enum SiteVerb {
    /// Add a site to an account.
    Add {
        /// Short name, the first label of its default host.
        name: String,
        /// Account that it belongs to.
        #[arg(long)]
        account: String,
        /// Ingress that its traffic lands on.
        #[arg(long)]
        ingress: String,
        /// Where visitors enter.
        #[arg(long, default_value = "/", value_name = "PATH")]
        entry_path: String,
        /// What they get when something is missing.
        #[arg(long, default_value = "/", value_name = "PATH")]
        error_path: String,
    },
    /// List sites.
    List,
}

#[derive(Subcommand)]
pub(crate) enum IngressVerb {
    /// Add an ingress.
    Add(IngressOptions),
    /// Give an ingress other targets; its domains are looked at again.
    Revise(IngressOptions),
    /// List ingresses.
    List,
}

#[derive(Args)]
pub(crate) struct IngressOptions {
    /// Short name.
    pub name: String,
    /// IPv4 address; repeat for each.
    #[arg(long, required = true)]
    pub ipv4: Vec<String>,
    /// IPv6 address; repeat for each.
    #[arg(long)]
    pub ipv6: Vec<String>,
    /// Canonical host, with {site} for one per site.
    #[arg(long)]
    pub canonical: String,
    /// Name server to which a whole zone may be delegated; repeat for each.
    #[arg(long)]
    pub name_server: Vec<String>,
    /// Let subdomains have a CNAME only, never the addresses.
    #[arg(long)]
    pub cname_only: bool,
}

#[derive(Subcommand)]
pub(crate) enum KeyVerb {
    /// Make a key; its secret is shown this once.
    Add {
        /// What it is for.
        name: String,
        /// viewer, operator, admin or edge.
        #[arg(long)]
        role: Role,
    },
    /// List keys.
    List,
    /// Make a key open nothing from now on.
    Revoke {
        /// The key's id, as listed.
        id: String,
    },
}

/// How long to wait for a stage.
#[derive(Args)]
pub(crate) struct Waiting {
    /// Wait until the domain has come this far, showing progress.
    #[arg(long, value_name = "STAGE")]
    pub until: Option<Stage>,
    /// Longest wait, in seconds.
    #[arg(long, default_value_t = 600, value_name = "SECONDS", requires = "until")]
    pub within: u64,
}

#[derive(Args)]
pub(crate) struct EnrolOptions {
    /// The domain, as the customer typed or pasted it; "*.name" for a wildcard.
    pub host: String,
    /// The site that it will show.
    #[arg(long)]
    pub site: String,
    /// Take the same name with "www." before it, or without it, in too; the
    /// one given is the primary, to which the other leads.
    #[arg(long)]
    pub pair: bool,
    #[command(flatten)]
    pub waiting: Waiting,
}

#[derive(Args)]
pub(crate) struct RehearseOptions {
    /// The domain.
    pub host: String,
    /// The zone as a master file (RFC 1035), or - for standard input.
    #[arg(long, value_name = "FILE")]
    pub zone: PathBuf,
    /// Write the file with the changes made, and nothing else touched, here.
    #[arg(long, value_name = "FILE")]
    pub amended: Option<PathBuf>,
}

#[derive(Args)]
pub(crate) struct SheetOptions {
    /// The domain.
    pub host: String,
    /// Show the token, which is masked in tables and JSON otherwise.
    #[arg(long)]
    pub reveal: bool,
    /// Replace the token by a new one first.
    #[arg(long)]
    pub rotate: bool,
}

#[derive(Args)]
pub(crate) struct SurveyOptions {
    /// The domain.
    pub host: String,
    #[command(flatten)]
    pub waiting: Waiting,
}

#[derive(Args)]
pub(crate) struct RosterOptions {
    /// Only this stage: ownership, routing, certificate, serving or live.
    #[arg(long)]
    pub stage: Option<Stage>,
    /// Only this account.
    #[arg(long)]
    pub account: Option<String>,
    /// Only names that contain this.
    #[arg(long)]
    pub text: Option<String>,
}

#[derive(Args)]
#[command(args_conflicts_with_subcommands = true)]
pub(crate) struct DemoOptions {
    #[command(subcommand)]
    pub verb: Option<DemoVerb>,
    #[command(flatten)]
    pub place: Place,
    /// Forget what earlier runs left.
    #[arg(long)]
    pub fresh: bool,
    /// Write how to reach the demo to this file, as JSON, once it serves.
    #[arg(long, value_name = "FILE")]
    pub ready_file: Option<PathBuf>,
}

/// Which demo.
#[derive(Args)]
pub(crate) struct Place {
    /// State folder.
    #[arg(long, default_value = "/var/tmp/nomenta-demo")]
    pub state: PathBuf,
    /// First of its row of ports.
    #[arg(long, default_value_t = 8630, value_parser = clap::value_parser!(u16).range(1024..=60000))]
    pub base_port: u16,
}

#[derive(Subcommand)]
pub(crate) enum DemoVerb {
    /// Play the customer of a domain in the running demo.
    Customer {
        /// The domain; register a new one under .example or .test at will.
        host: String,
        /// Take back what was published.
        #[arg(long, conflicts_with = "mistake")]
        take_back: bool,
        /// Publish it wrongly in this way; rightly if left out.
        #[arg(long)]
        mistake: Option<Mistake>,
        #[command(flatten)]
        place: Place,
    },
}

#[derive(Args)]
pub(crate) struct ServeOptions {
    /// Where API and console are served.
    #[arg(long, default_value = "127.0.0.1:8640")]
    pub listen: SocketAddr,
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
    /// Zone under which a CNAME to <token>.<zone> proves ownership.
    #[arg(long)]
    pub proof_zone: Option<String>,
    /// Zone to which customers point _acme-challenge for wildcards.
    #[arg(long)]
    pub acme_zone: Option<String>,
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
    /// Port of authority servers.
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
    #[arg(long, default_value_t = 64, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub server_window: u32,
    /// Most questions in a second to one DNS server; 0 for no limit.
    #[arg(long, default_value_t = 1000)]
    pub server_rate: u32,
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
    /// Share of vantages that must see the routing, 0 to 1.
    #[arg(long, default_value_t = 2.0 / 3.0, value_parser = read_share)]
    pub quorum: f64,
    /// Seconds to the next look after a change.
    #[arg(long, default_value_t = 5)]
    pub look_first: u32,
    /// Most seconds to the next look while nothing moves.
    #[arg(long, default_value_t = 1800)]
    pub look_most: u32,
    /// Seconds between looks at a live domain.
    #[arg(long, default_value_t = 21600)]
    pub look_live: u32,
    /// Quick looks between two full ones, while nothing moves.
    #[arg(long, default_value_t = 3)]
    pub quick_looks: u16,
    /// Seconds in which nothing moves until a domain counts as stalled.
    #[arg(long, default_value_t = 604_800)]
    pub stalled_after: u32,
    /// Most seconds that one look may take before it is tried again.
    #[arg(long, default_value_t = 120, value_parser = clap::value_parser!(u32).range(1..))]
    pub look_limit: u32,
    /// Most seconds that one try to bring an order to its end may take.
    #[arg(long, default_value_t = 300, value_parser = clap::value_parser!(u32).range(1..))]
    pub order_limit: u32,
    /// Most calls to the CA at once.
    #[arg(long, default_value_t = 6, value_parser = clap::value_parser!(u16).range(1..=100))]
    pub ca_calls: u16,
    /// Most seconds that one call to the CA may take.
    #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..))]
    pub ca_call_limit: u32,
    /// Seconds to the next order after a refusal; doubles each time.
    #[arg(long, default_value_t = 300)]
    pub order_retry: u32,
    /// Most orders in a week for the names under one registered domain.
    #[arg(long, default_value_t = 40, value_parser = clap::value_parser!(u32).range(1..))]
    pub domain_orders: u32,
    /// Most orders in three hours with the account at the CA.
    #[arg(long, default_value_t = 250, value_parser = clap::value_parser!(u32).range(1..))]
    pub account_orders: u32,
    /// Seconds that a gate may be lapsed before it counts as not passed.
    #[arg(long, default_value_t = 259_200)]
    pub grace: u32,
    /// Seconds that one of a pair waits for the other, to share a certificate.
    #[arg(long, default_value_t = 60)]
    pub pair_hold: u32,
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

fn read_share(text: &str) -> Result<f64, String> {
    let share = text.parse().ok().filter(|s| (0.0..=1.0).contains(s));
    share.ok_or_else(|| format!("{text} is not a share. Use a number from 0 to 1, such as 0.67."))
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_definition_is_sound() {
        super::Arguments::command().debug_assert();
    }

    #[test]
    fn shares_are_read() {
        assert!(super::read_share("1.5").is_err() && super::read_share("0.5").is_ok());
    }
}

//! Accounts, sites, ingresses and keys.

use clap::{Args, Subcommand};
use nomenta_api::role::Role;

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

//! Accounts, sites, ingresses and keys.

use chrono::{DateTime, Utc};
use clap::{Args, Subcommand};
use nomenta_api::registry::Grant;
use nomenta_api::role::Role;
use thiserror::Error;
use uuid::Uuid;

#[derive(Subcommand)]
pub(crate) enum AccountVerb {
    /// Add an account.
    Add {
        /// Short name.
        name: String,
        #[command(flatten)]
        known: AccountOptions,
    },
    /// List accounts.
    List {
        /// Only those whose name or title contains this.
        #[arg(long)]
        text: Option<String>,
    },
    /// Print one account with its sites.
    Show {
        /// Short name.
        name: String,
    },
    /// Change what is known of an account; what is left out stays.
    Change {
        /// Short name.
        name: String,
        #[command(flatten)]
        known: AccountOptions,
    },
    /// Withdraw the routes of an account and look at nothing of it; nothing is lost.
    Suspend {
        /// Short name.
        name: String,
    },
    /// Give a suspended account its routes back.
    Resume {
        /// Short name.
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct AccountOptions {
    /// Name for people.
    #[arg(long)]
    pub title: Option<String>,
    /// Mail address to write to; empty for none.
    #[arg(long, value_name = "ADDRESS")]
    pub contact: Option<String>,
    /// The language that it is written to in, such as en or pt-BR.
    #[arg(long, value_name = "TAG")]
    pub language: Option<String>,
    /// What the platform's staff should know.
    #[arg(long)]
    pub notes: Option<String>,
    /// How many domains its plan grants: a number, 0 for none, or unlimited.
    #[arg(long, value_name = "NUMBER", value_parser = read_grant)]
    pub allowance: Option<Grant>,
}

/// What was given is no number of domains.
#[derive(Debug, Error)]
#[error("{0} is no number of domains. Give one, or the word unlimited.")]
pub(crate) struct NoGrant(String);

fn read_grant(given: &str) -> Result<Grant, NoGrant> {
    match given {
        "unlimited" => Ok(Grant::Unlimited),
        number => number.parse().map(Grant::Domains).map_err(|_| NoGrant(number.to_owned())),
    }
}

#[derive(Subcommand)]
pub(crate) enum SiteVerb {
    /// Add a site to an account, which is named by --account.
    Add {
        /// Short name, the first label of its default host.
        name: String,
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
    List {
        /// Only those whose name or default host contains this.
        #[arg(long)]
        text: Option<String>,
    },
    /// Change a site; what is left out stays.
    Change {
        /// Short name.
        name: String,
        /// Another short name. The former default host leads to the new one, and no
        /// customer has anything to publish anew.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        /// Where visitors enter.
        #[arg(long, value_name = "PATH")]
        entry_path: Option<String>,
        /// What they get when something is missing.
        #[arg(long, value_name = "PATH")]
        error_path: Option<String>,
    },
}

#[derive(Subcommand)]
pub(crate) enum OperatorVerb {
    /// List those of which something was learned, those with most domains first.
    List,
    /// Print one.
    Show {
        /// Its name in the book, or the domain of its name servers.
        name: String,
    },
}

#[derive(Subcommand)]
pub(crate) enum IngressVerb {
    /// Add an ingress.
    Add(IngressOptions),
    /// Give an ingress other targets; its domains are looked at again.
    Revise(IngressOptions),
    /// List ingresses.
    List,
    /// Print what a DNS operator is given for one click (Domain Connect): the templates and the
    /// public key, as JSON.
    Templates {
        /// Short name.
        name: String,
    },
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
    /// Make a key; its secret is shown this once. With --account it opens that account
    /// alone.
    Add {
        /// What it is for.
        name: String,
        /// viewer, operator, admin or edge.
        #[arg(long)]
        role: Role,
        /// Another account that it opens, and no further one; repeat for each.
        #[arg(long = "also", value_name = "ACCOUNT")]
        accounts: Vec<String>,
        /// From when on it opens nothing (RFC 3339), such as 2027-01-04T06:00:00Z.
        #[arg(long, value_name = "TIME")]
        expires: Option<DateTime<Utc>>,
    },
    /// List keys.
    List,
    /// Make a key open nothing from now on.
    Revoke {
        /// The key's id, as listed.
        id: String,
    },
}

#[derive(Subcommand)]
pub(crate) enum SessionVerb {
    /// List sessions of the console that have not ended.
    List,
    /// End a session, with all that it has opened.
    End {
        /// The session's id, as listed.
        id: Uuid,
    },
}

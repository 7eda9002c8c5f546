//! What can be typed.

mod contest;
mod domain;
mod fleet;
mod handoff;
mod notice;
mod publish;
mod registry;
mod serve;

use std::path::PathBuf;

use clap::{Parser, Subcommand, ValueEnum};

pub(crate) use self::contest::ContestVerb;
pub(crate) use self::domain::{
    EnrolOptions, MoveOptions, RehearseOptions, RosterOptions, SheetOptions, SurveyOptions, Waiting,
};
pub(crate) use self::fleet::{AuditOptions, BulkVerb, IntakeOptions, JobVerb};
pub(crate) use self::handoff::{HandoffVerb, ReceptionOptions};
pub(crate) use self::notice::{HookVerb, NoticeOptions, NoticeVerb};
pub(crate) use self::publish::PublishVerb;
pub(crate) use self::registry::{
    AccountOptions, AccountVerb, IngressOptions, IngressVerb, KeyVerb, OperatorVerb, SessionVerb, SiteVerb,
};
pub(crate) use self::serve::{EgressRule, ServeOptions};

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
    /// PEM file of roots that the service's certificate may lead to, beside the usual ones.
    #[arg(long, env = "NOMENTA_ROOTS", value_name = "FILE", global = true)]
    pub roots: Option<PathBuf>,
    /// Shape of the output.
    #[arg(long = "as", value_enum, default_value_t = Shape::Table, global = true)]
    pub shape: Shape,
    /// Whose: of a listing, only what is of this account; of a domain that several
    /// claim, the claim that is meant.
    #[arg(long, value_name = "ACCOUNT", global = true)]
    pub account: Option<String>,
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
    /// For programs, a line for each: listings only.
    Lines,
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
    /// Who runs customers' DNS, and what was learned of them: how long it takes there, and what
    /// goes wrong.
    #[command(subcommand)]
    Operator(OperatorVerb),
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
        /// Show the token in full.
        #[arg(long)]
        reveal: bool,
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
    /// Change what a domain shows, now or at an hour.
    Move(MoveOptions),
    /// Leave a domain alone: nothing is looked at or ordered.
    Pause {
        /// The domain.
        host: String,
    },
    /// Go on with a domain that was paused.
    Resume {
        /// The domain.
        host: String,
    },
    /// Names that two accounts have proved, and whose they are.
    #[command(subcommand)]
    Contest(ContestVerb),
    /// Let a domain leave the platform; its certificate is revoked.
    Release {
        /// The domain.
        host: String,
    },
    /// Take many domains in, from a table (CSV) with a line for each.
    Intake(IntakeOptions),
    /// Do the same to many domains: to all that the filters of the roster leave.
    #[command(subcommand)]
    Bulk(BulkVerb),
    /// Jobs: bulk work, and how far it has come.
    #[command(subcommand)]
    Job(JobVerb),
    /// Links by which customers see what to do, and how it goes.
    #[command(subcommand)]
    Handoff(HandoffVerb),
    /// Write what a customer must publish to their zone for them, under a key that they give.
    #[command(subcommand)]
    Publish(PublishVerb),
    /// Systems of the platform that are called when something happens.
    #[command(subcommand)]
    Hook(HookVerb),
    /// What was told to whom, and who is written to.
    #[command(subcommand)]
    Notice(NoticeVerb),
    /// Sessions of the console.
    #[command(subcommand)]
    Session(SessionVerb),
    /// List what people have changed: who, from where, what was and what is.
    Audit(AuditOptions),
}

#[derive(Subcommand)]
pub(crate) enum CertificateVerb {
    /// List the fleet's certificates, first those that run out first.
    List {
        /// Only those that run out within so many days.
        #[arg(long, value_name = "DAYS")]
        within: Option<u32>,
        /// Only those of this issuer, by its distinguished name.
        #[arg(long)]
        issuer: Option<String>,
    },
    /// Print the account at the CA, as CAA records may name it.
    Account {
        /// Give it another key first; the one before opens nothing from then on.
        #[arg(long)]
        change_key: bool,
    },
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

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_definition_is_sound() {
        super::Arguments::command().debug_assert();
    }
}

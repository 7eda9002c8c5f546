//! Many domains at once, and who changed what.

use std::path::PathBuf;

use chrono::{DateTime, Utc};
use clap::{Args, Subcommand};
use nomenta_api::job::{Act, ItemResult, Selection};
use uuid::Uuid;

use super::domain::RosterFilter;

#[derive(Args)]
pub(crate) struct IntakeOptions {
    /// The table as CSV in UTF-8, or - for standard input. Its first line names the columns:
    /// host and site, and account, pair and by_zone where they are wanted.
    #[arg(value_name = "FILE")]
    pub table: PathBuf,
    /// Judge the rows, and take none in.
    #[arg(long)]
    pub dry_run: bool,
}

#[derive(Args)]
pub(crate) struct BulkOptions {
    #[command(flatten)]
    pub filter: RosterFilter,
    /// Do it without asking; otherwise it is only said what would be done.
    #[arg(long)]
    pub yes: bool,
    /// Do not wait until the job is done.
    #[arg(long, requires = "yes")]
    pub leave: bool,
}

#[derive(Subcommand)]
pub(crate) enum BulkVerb {
    /// Look at them again.
    Look(BulkOptions),
    /// Leave them alone: nothing is looked at or ordered.
    Pause(BulkOptions),
    /// Go on with those that were paused.
    Resume(BulkOptions),
    /// Let them leave the platform; their certificates are revoked.
    Release(BulkOptions),
    /// Show another site of their account.
    Move {
        /// The site.
        #[arg(long, value_name = "SITE")]
        to: String,
        #[command(flatten)]
        options: BulkOptions,
    },
    /// Replace their tokens.
    Rotate(BulkOptions),
}

impl BulkVerb {
    /// What is done, and to which domains.
    pub(crate) fn parts(self) -> (Act, BulkOptions) {
        match self {
            Self::Look(options) => (Act::Look {}, options),
            Self::Pause(options) => (Act::Pause {}, options),
            Self::Resume(options) => (Act::Resume {}, options),
            Self::Release(options) => (Act::Release {}, options),
            Self::Move { to, options } => (Act::Move { site: to }, options),
            Self::Rotate(options) => (Act::Rotate {}, options),
        }
    }
}

#[derive(Subcommand)]
pub(crate) enum JobVerb {
    /// List jobs, newest first.
    List,
    /// Print a job, and what it did to each domain.
    Show {
        /// The job's id, as listed.
        id: Uuid,
        /// Only domains with this result: changed, unchanged or refused.
        #[arg(long)]
        result: Option<ItemResult>,
    },
    /// Wait until a job is done, showing progress.
    Follow {
        /// The job's id, as listed.
        id: Uuid,
    },
    /// Stop a job; what it has done stays done.
    Stop {
        /// The job's id, as listed.
        id: Uuid,
    },
}

#[derive(Args)]
pub(crate) struct AuditOptions {
    /// Only changes by keys of this name.
    #[arg(long, value_name = "KEY")]
    pub by: Option<String>,
    /// Only changes to the record with this name, such as a domain.
    #[arg(long)]
    pub name: Option<String>,
    /// Only changes of that time or later (RFC 3339), such as 2027-01-04T06:00:00Z.
    #[arg(long, value_name = "TIME")]
    pub since: Option<DateTime<Utc>>,
    /// Most lines; all of them if left out.
    #[arg(long, value_name = "LINES")]
    pub most: Option<usize>,
}

impl RosterFilter {
    /// The same as a job has it.
    pub(crate) fn selection(self, account: Option<&str>) -> Selection {
        Selection {
            stage: self.stage,
            account: account.map(str::to_owned),
            site: self.site,
            ingress: self.ingress,
            operator: self.operator,
            finding: self.finding,
            text: self.text,
            older_than: self.older_than,
            younger_than: self.younger_than,
        }
    }
}

//! One domain, and many.

use std::path::PathBuf;

use chrono::{DateTime, Utc};
use clap::Args;
use nomenta_api::domain::{RosterQuery, RosterSort};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::Stage;

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
    /// Prove it by one token at the zone's apex, along with every other such name of
    /// the account in that zone.
    #[arg(long)]
    pub by_zone: bool,
    #[command(flatten)]
    pub waiting: Waiting,
}

#[derive(Args)]
pub(crate) struct MoveOptions {
    /// The domain.
    pub host: String,
    /// Show another site of the same account.
    #[arg(long, value_name = "SITE")]
    pub to: Option<String>,
    /// Make it the primary of its pair, to which the other leads.
    #[arg(long)]
    pub primary: bool,
    /// Where visitors enter; empty for where the site says.
    #[arg(long, value_name = "PATH")]
    pub entry_path: Option<String>,
    /// What visitors get when something is missing; empty for what the site says.
    #[arg(long, value_name = "PATH")]
    pub error_path: Option<String>,
    /// The hour at which it switches (RFC 3339), such as 2027-01-04T06:00:00Z. Before
    /// its first hour a domain leads to the default host.
    #[arg(long, value_name = "TIME")]
    pub at: Option<DateTime<Utc>>,
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

/// Which domains.
#[derive(Args)]
pub(crate) struct RosterFilter {
    /// Only this stage: ownership, routing, certificate, serving, live, paused or
    /// released.
    #[arg(long)]
    pub stage: Option<Stage>,
    /// Only those that show this site.
    #[arg(long)]
    pub site: Option<String>,
    /// Only those behind this ingress.
    #[arg(long)]
    pub ingress: Option<String>,
    /// Only those whose zone's DNS this operator runs.
    #[arg(long)]
    pub operator: Option<String>,
    /// Only those with this finding.
    #[arg(long)]
    pub finding: Option<Code>,
    /// Only names that contain this, as DNS has them or in their own script.
    #[arg(long)]
    pub text: Option<String>,
    /// Only those taken in so many days ago, or longer.
    #[arg(long, value_name = "DAYS")]
    pub older_than: Option<u32>,
    /// Only those taken in within so many days.
    #[arg(long, value_name = "DAYS")]
    pub younger_than: Option<u32>,
}

#[derive(Args)]
pub(crate) struct RosterOptions {
    #[command(flatten)]
    pub filter: RosterFilter,
    /// What it is sorted by: name, stage, enrolled or moved.
    #[arg(long, default_value_t = RosterSort::Name)]
    pub sort: RosterSort,
    /// From the end.
    #[arg(long)]
    pub descending: bool,
    /// Most lines; all of them if left out.
    #[arg(long, value_name = "LINES")]
    pub most: Option<usize>,
    /// Print how many there are of each stage, finding and DNS operator, and no line.
    #[arg(long, conflicts_with_all = ["sort", "descending", "most"])]
    pub counts: bool,
}

impl RosterFilter {
    /// The same as the API has it.
    pub(crate) fn query(self, account: Option<&str>) -> RosterQuery {
        self.selection(account).query()
    }
}

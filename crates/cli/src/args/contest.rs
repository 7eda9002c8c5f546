//! Contests.

use clap::Subcommand;
use nomenta_core::claim::rivals::Side;

#[derive(Subcommand)]
pub(crate) enum ContestVerb {
    /// List contests that are open, oldest first.
    List {
        /// Those that are settled instead, newest first.
        #[arg(long)]
        settled: bool,
    },
    /// Print both sides of a contest.
    Show {
        /// The contest's id, as listed.
        id: String,
    },
    /// Rule whose the name is.
    Rule {
        /// The contest's id, as listed.
        id: String,
        /// holder or challenger.
        #[arg(long = "for", value_name = "SIDE")]
        side: Side,
        /// Why, for the record.
        #[arg(long, value_name = "REASON")]
        because: String,
    },
}

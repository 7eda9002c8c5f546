//! Publishing a customer's list for them.

use std::path::PathBuf;

use clap::Subcommand;
use uuid::Uuid;

#[derive(Subcommand)]
pub(crate) enum PublishVerb {
    /// Keep the key of a domain's zone, once the zone's server has taken it; without a file,
    /// print which one is kept.
    Key {
        /// The domain.
        host: String,
        /// File with the key as algorithm:name:secret, or the server's key statement; - for
        /// standard input.
        file: Option<PathBuf>,
        /// Address of the server that takes updates; the zone's primary if left out.
        #[arg(long, value_name = "ADDRESS")]
        server: Option<String>,
    },
    /// Forget the key of a domain's zone.
    ForgetKey {
        /// The domain.
        host: String,
    },
    /// Print what would be written to the zone now.
    Plan {
        /// The domain.
        host: String,
    },
    /// Write it: all of it, and only while the zone is as it was read.
    Send {
        /// The domain.
        host: String,
        /// Do it without asking.
        #[arg(long)]
        yes: bool,
    },
    /// List what was written for a domain.
    List {
        /// The domain.
        host: String,
    },
    /// Take back what was written, while the zone still holds it.
    Undo {
        /// Its id, as listed.
        id: Uuid,
    },
}

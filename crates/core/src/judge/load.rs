//! What looking costs, as far as the next look has to wait for it.

use chrono::Duration;

/// Times that asking a server takes at the pace that it bears which lie between two looks at one
/// domain at least: one domain takes a tenth of what its servers give.
const STRAIN: i32 = 10;

/// What looking costs just now.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Load {
    /// How much later than it was due a look began.
    pub late: Duration,
    /// How long its questions take at the server that bears the fewest.
    pub strain: Duration,
}

impl Load {
    /// The least wait between two looks.
    pub(crate) fn rest(self) -> Duration {
        self.strain * STRAIN
    }
}

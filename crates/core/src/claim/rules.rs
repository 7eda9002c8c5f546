//! What the platform's operator may set about claims.

use chrono::Duration;

/// How long claims and their holders are waited for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rules {
    /// How long a holder whose token is gone may put it back, once another claim
    /// has proved itself.
    pub contest_grace: Duration,
    /// How long a claim that was never proved is kept beyond its token's end.
    pub patience: Duration,
    /// How long a claim that has ended is kept, for its history.
    pub kept: Duration,
}

impl Default for Rules {
    fn default() -> Self {
        Self { contest_grace: Duration::hours(24), patience: Duration::days(14), kept: Duration::days(400) }
    }
}

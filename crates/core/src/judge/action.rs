//! What a judgement asks of the world outside.

/// What the world outside must do before the domain can get further.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// Fetch the canary through every address, then judge again.
    FetchCanary,
    /// Place a certificate order.
    PlaceOrder {
        /// Whether it covers the other one of the pair too.
        pair: bool,
    },
    /// Probe every address by TLS, then judge again.
    Probe,
    /// Ask the foreign addresses where they send visitors, and whether the
    /// canary arrives through them, then judge again.
    FollowForwards,
}

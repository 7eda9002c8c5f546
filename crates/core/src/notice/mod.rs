//! Notices: of what people are told, when they want to be left alone, and how long it is tried.

mod backoff;
mod quiet;

pub use self::backoff::{again_after, is_over};
pub use self::quiet::{QuietError, QuietHours};

crate::spelled! {
    /// What people are told of.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum NoticeKind: "kind of notice" {
        /// There is a token to be published.
        TokenIssued = "token-issued",
        /// Something is in the way, and this is what to do.
        Blocked = "blocked",
        /// Nothing has moved for longer than was promised.
        WaitingLong = "waiting-long",
        /// Another claim of the name is proved too.
        ClaimedTwice = "claimed-twice",
        /// The domain shows its site.
        Live = "live",
        /// What was there is gone.
        Lapsed = "lapsed",
        /// The certificate runs out soon.
        CertificateExpiring = "certificate-expiring",
        /// The domain has left, and its records are still there.
        LeftBehind = "left-behind",
    }
}

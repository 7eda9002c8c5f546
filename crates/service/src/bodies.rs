//! How large a body may be, in octets.

/// Most bodies.
pub(crate) const MOST_BODY: usize = 1 << 20;
/// A table of domains.
pub(crate) const MOST_TABLE: usize = 16 << 20;
/// A zone file.
pub(crate) const MOST_ZONE: usize = 32 << 20;

//! Signatures of records.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// An RRSIG record of the zone (RFC 4034, section 3).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Signature {
    /// The type of what is signed, by its number.
    pub covered: u16,
    /// Tag of the key that made it.
    pub key_tag: u16,
    /// From when on it holds.
    pub begins: DateTime<Utc>,
    /// Until when it holds.
    pub ends: DateTime<Utc>,
}

//! How many custom domains an account's plan grants.

use serde::{Deserialize, Serialize};

/// How much of its allowance an account uses. The two of a pair count as one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Allowance {
    /// Domains granted; without a number, as many as are wanted.
    pub granted: Option<u32>,
    /// Domains taken in that have not ended.
    pub used: u32,
}

impl Allowance {
    /// Whether there is room for one more.
    pub fn has_room(self) -> bool {
        self.granted.is_none_or(|granted| self.used < granted)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn none_granted_is_told_from_no_limit() {
        assert!(Allowance { granted: None, used: 90 }.has_room());
        assert!(Allowance { granted: Some(2), used: 1 }.has_room());
        assert!(!Allowance { granted: Some(2), used: 2 }.has_room());
        assert!(!Allowance { granted: Some(0), used: 0 }.has_room());
    }
}

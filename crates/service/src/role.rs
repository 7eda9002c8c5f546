//! What a key opens.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a key opens. Each role may do what the one before it may; `edge`
/// stands apart and opens the edge's calls alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Feed, certificates with keys, and challenge answers.
    Edge,
    /// Looks at everything but tokens of keys.
    Viewer,
    /// Enrols domains and asks for looks.
    Operator,
    /// Accounts, sites, ingresses and keys.
    Admin,
}

impl Role {
    /// As it is written.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Edge => "edge",
            Self::Viewer => "viewer",
            Self::Operator => "operator",
            Self::Admin => "admin",
        }
    }
}

impl fmt::Display for Role {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

impl FromStr for Role {
    type Err = String;
    fn from_str(word: &str) -> Result<Self, Self::Err> {
        [Self::Edge, Self::Viewer, Self::Operator, Self::Admin]
            .into_iter()
            .find(|role| role.as_str() == word)
            .ok_or_else(|| format!("{word} is not a role. Use viewer, operator, admin or edge."))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roles_are_read_and_ordered() {
        assert!(Role::Admin > Role::Operator && Role::Operator > Role::Viewer && Role::Viewer > Role::Edge);
        assert_eq!("operator".parse(), Ok(Role::Operator));
        assert!("root".parse::<Role>().is_err());
    }
}

//! What a key opens.

use utoipa::ToSchema;

nomenta_core::spelled! {
    /// What a key opens. Each role may do what the one before it may; `edge`
    /// stands apart and opens the edge's calls alone.
    #[derive(ToSchema)]
    pub enum Role: "role" {
        /// Feed, certificates with keys, and challenge answers.
        Edge = "edge",
        /// Looks at everything but tokens of keys.
        Viewer = "viewer",
        /// Enrols domains and asks for looks.
        Operator = "operator",
        /// Accounts, sites, ingresses and keys.
        Admin = "admin",
    }
}

impl Role {
    /// Whether a key of this role may do what `wanted` may.
    pub fn covers(self, wanted: Self) -> bool {
        match wanted {
            Self::Edge => self == Self::Edge,
            _ => self >= wanted,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_role_covers_those_below_it_and_the_edge_stands_apart() {
        assert!(Role::Admin.covers(Role::Operator) && Role::Operator.covers(Role::Viewer));
        assert!(!Role::Viewer.covers(Role::Operator) && !Role::Edge.covers(Role::Viewer));
        assert!(Role::Edge.covers(Role::Edge) && !Role::Admin.covers(Role::Edge));
        assert_eq!("operator".parse(), Ok(Role::Operator));
        assert!("root".parse::<Role>().is_err());
    }
}

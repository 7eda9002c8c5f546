//! The four gates between a name and a served certificate.

use std::fmt;
use std::str::FromStr;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// A gate's name, in the order in which domains pass them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum GateName {
    /// The authority servers return the token.
    Ownership,
    /// Traffic lands on the platform.
    Routing,
    /// A certificate for the name is held.
    Certificate,
    /// That certificate is what visitors get.
    Serving,
}

impl GateName {
    /// All four, in order.
    pub const ALL: [Self; 4] = [Self::Ownership, Self::Routing, Self::Certificate, Self::Serving];
}

impl fmt::Display for GateName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Ownership => "ownership",
            Self::Routing => "routing",
            Self::Certificate => "certificate",
            Self::Serving => "serving",
        })
    }
}

/// Where a gate stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum GateState {
    /// Nothing is wrong; something is not there yet.
    Waiting,
    /// The evidence is complete.
    Passed,
    /// A finding stands in the way.
    Blocked,
    /// It was passed, and the evidence is gone.
    Lapsed,
}

impl fmt::Display for GateState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Waiting => "waiting",
            Self::Passed => "passed",
            Self::Blocked => "blocked",
            Self::Lapsed => "lapsed",
        })
    }
}

/// A gate of one domain.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Gate {
    /// Which one.
    pub name: GateName,
    /// Where it stands.
    pub state: GateState,
    /// Since when it stands there.
    pub since: DateTime<Utc>,
    /// Why, in one sentence.
    pub reason: String,
}

/// The four gates of one domain, in order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Gates(pub [Gate; 4]);

impl Gates {
    /// All waiting, as at enrolment.
    pub fn new(now: DateTime<Utc>) -> Self {
        let reason = "Not looked at yet.".to_owned();
        Self(GateName::ALL.map(|name| Gate {
            name,
            state: GateState::Waiting,
            since: now,
            reason: reason.clone(),
        }))
    }

    /// One gate.
    pub fn get(&self, name: GateName) -> &Gate {
        &self.0[name as usize]
    }

    /// Whether a gate is passed.
    pub fn passed(&self, name: GateName) -> bool {
        self.get(name).state == GateState::Passed
    }

    /// The first gate not passed, or live.
    pub fn stage(&self) -> Stage {
        match self.0.iter().find(|g| g.state != GateState::Passed) {
            Some(gate) => Stage::At(gate.name),
            None => Stage::Live,
        }
    }
}

/// Where a domain stands as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Stage {
    /// At the first gate it has not passed.
    At(GateName),
    /// All four gates are passed.
    Live,
    /// It has left the platform.
    Released,
}

impl Stage {
    /// All stages of a domain on the platform, in order.
    pub const ALL: [Self; 5] = [
        Self::At(GateName::Ownership),
        Self::At(GateName::Routing),
        Self::At(GateName::Certificate),
        Self::At(GateName::Serving),
        Self::Live,
    ];

    /// How far along: 0 to 4 gates passed in order.
    pub fn rank(self) -> usize {
        match self {
            Self::At(gate) => gate as usize,
            Self::Live => 4,
            Self::Released => 0,
        }
    }
}

impl fmt::Display for Stage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::At(gate) => gate.fmt(f),
            Self::Live => f.write_str("live"),
            Self::Released => f.write_str("released"),
        }
    }
}

impl FromStr for Stage {
    type Err = String;
    fn from_str(word: &str) -> Result<Self, Self::Err> {
        let all = Self::ALL.into_iter().chain([Self::Released]);
        all.into_iter().find(|s| s.to_string() == word).ok_or_else(|| {
            format!("{word} is not a stage. Use ownership, routing, certificate, serving, live or released.")
        })
    }
}

impl TryFrom<String> for Stage {
    type Error = String;
    fn try_from(word: String) -> Result<Self, Self::Error> {
        word.parse()
    }
}

impl From<Stage> for String {
    fn from(stage: Stage) -> Self {
        stage.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_stage_is_the_first_gate_not_passed() {
        let mut gates = Gates::new(DateTime::UNIX_EPOCH);
        for (index, name) in GateName::ALL.into_iter().enumerate() {
            assert_eq!(gates.stage(), Stage::At(name));
            assert_eq!(gates.stage().rank(), index);
            gates.0[index].state = GateState::Passed;
        }
        assert_eq!((gates.stage(), gates.stage().rank()), (Stage::Live, 4));
        gates.0[1].state = GateState::Lapsed;
        assert_eq!(gates.stage(), Stage::At(GateName::Routing));
        assert!(gates.passed(GateName::Serving) && !gates.passed(GateName::Routing));
    }

    #[test]
    fn stages_are_read_as_they_are_written() {
        for stage in Stage::ALL.into_iter().chain([Stage::Released]) {
            assert_eq!(stage.to_string().parse(), Ok(stage));
            let json = serde_json::to_string(&stage).expect("writes");
            assert_eq!(json, format!("\"{stage}\""));
            assert_eq!(serde_json::from_str::<Stage>(&json).expect("reads"), stage);
        }
        let error = "lost".parse::<Stage>().expect_err("unknown");
        assert!(error.contains("Use ownership, routing, certificate, serving, live or released."));
    }

    #[test]
    fn gates_are_stored_as_a_list_of_four() {
        let gates = Gates::new(DateTime::UNIX_EPOCH);
        let json = serde_json::to_value(&gates).expect("writes");
        assert_eq!(json[2]["name"], "certificate");
        assert_eq!(json[2]["state"], "waiting");
        assert_eq!(serde_json::from_value::<Gates>(json).expect("reads"), gates);
    }
}

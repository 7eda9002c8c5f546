//! The four gates between a name and a served certificate.

use std::fmt;
use std::str::FromStr;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::judge::code::Code;
use crate::sheet::line::Purpose;
use crate::spelled::UnknownWord;

crate::spelled! {
    /// A gate's name, in the order in which domains pass them.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum GateName: "gate" {
        /// The authoritative servers return the token.
        Ownership = "ownership",
        /// Traffic lands on the platform.
        Routing = "routing",
        /// A certificate for the name is held.
        Certificate = "certificate",
        /// That certificate is what visitors get.
        Serving = "serving",
    }
}

impl GateName {
    /// The gate that lines of a purpose open.
    pub fn of(purpose: Purpose) -> Self {
        match purpose {
            Purpose::Ownership => Self::Ownership,
            Purpose::Routing => Self::Routing,
            Purpose::Certificate => Self::Certificate,
        }
    }
}

crate::spelled! {
    /// Where a gate stands.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum GateState: "state of a gate" {
        /// Nothing is wrong; something is not there yet.
        Waiting = "waiting",
        /// The evidence is complete.
        Passed = "passed",
        /// A finding stands in the way.
        Blocked = "blocked",
        /// It was passed, and the evidence is gone.
        Lapsed = "lapsed",
    }
}

impl GateState {
    /// Those in which the evidence has been complete at some time.
    pub const REACHED: [Self; 2] = [Self::Passed, Self::Lapsed];

    /// Whether the evidence has been complete at some time.
    pub fn is_reached(self) -> bool {
        Self::REACHED.contains(&self)
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
    /// Since when there is evidence against a gate that is passed; a second look
    /// decides.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub doubted_at: Option<DateTime<Utc>>,
    /// The finding that stands in its way, if one does.
    #[serde(default)]
    pub because: Option<Code>,
    /// Why, in one sentence; of a finding, its remedy.
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
        let names = [GateName::Ownership, GateName::Routing, GateName::Certificate, GateName::Serving];
        Self(names.map(|name| Gate {
            name,
            state: GateState::Waiting,
            since: now,
            doubted_at: None,
            because: None,
            reason: "Not looked at yet.".into(),
        }))
    }

    /// One gate.
    pub fn get(&self, name: GateName) -> &Gate {
        &self.0[name as usize]
    }

    /// The same with one gate as it stands elsewhere.
    #[must_use]
    pub fn with(&self, gate: Gate) -> Self {
        let mut gates = self.clone();
        let at = gate.name as usize;
        gates.0[at] = gate;
        gates
    }

    /// Whether a gate is passed.
    pub fn passed(&self, name: GateName) -> bool {
        self.get(name).state == GateState::Passed
    }

    /// The gates that stand elsewhere than they did, whatever the reasons: each before and now.
    pub fn moved_from<'a>(&'a self, before: &'a Self) -> impl Iterator<Item = (&'a Gate, &'a Gate)> {
        before.0.iter().zip(&self.0).filter(|(before, now)| before.state != now.state)
    }

    /// Whether any gate is passed and in doubt.
    pub fn are_in_doubt(&self) -> bool {
        self.0.iter().any(|gate| gate.doubted_at.is_some())
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum Stage {
    /// At the first gate it has not passed.
    At(GateName),
    /// All four gates are passed.
    Live,
    /// Nothing is looked at or ordered for now.
    Paused,
    /// It has left the platform.
    Released,
}

impl Stage {
    /// All stages of a domain on the platform, in order.
    pub const ALL: [Self; 6] = [
        Self::At(GateName::Ownership),
        Self::At(GateName::Routing),
        Self::At(GateName::Certificate),
        Self::At(GateName::Serving),
        Self::Live,
        Self::Paused,
    ];

    /// Every stage there is.
    pub const WORDS: [Self; 7] =
        [Self::ALL[0], Self::ALL[1], Self::ALL[2], Self::ALL[3], Self::Live, Self::Paused, Self::Released];

    /// Its one spelling.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::At(gate) => gate.as_str(),
            Self::Live => "live",
            Self::Paused => "paused",
            Self::Released => "released",
        }
    }

    /// How far along: 0 to 4 gates passed in order.
    pub fn rank(self) -> usize {
        match self {
            Self::At(gate) => gate as usize,
            Self::Live => 4,
            Self::Paused | Self::Released => 0,
        }
    }
}

impl fmt::Display for Stage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl FromStr for Stage {
    type Err = UnknownWord;

    fn from_str(word: &str) -> Result<Self, Self::Err> {
        let found = Self::WORDS.into_iter().find(|stage| stage.as_str() == word);
        found.ok_or_else(|| UnknownWord::new("stage", word, Self::WORDS.map(Self::as_str).to_vec()))
    }
}

impl TryFrom<String> for Stage {
    type Error = UnknownWord;

    fn try_from(word: String) -> Result<Self, Self::Error> {
        word.parse()
    }
}

impl From<Stage> for String {
    fn from(stage: Stage) -> Self {
        stage.as_str().to_owned()
    }
}

#[cfg(feature = "schema")]
mod schema {
    use utoipa::openapi::{ObjectBuilder, RefOr, Schema, Type};

    use super::Stage;

    impl utoipa::PartialSchema for Stage {
        fn schema() -> RefOr<Schema> {
            let words = Stage::WORDS.map(Stage::as_str);
            let described = "Where a domain stands as a whole: at the first gate it has not passed, live, paused, or gone.";
            let schema = ObjectBuilder::new().schema_type(Type::String).enum_values(Some(words));
            schema.description(Some(described)).into()
        }
    }

    impl utoipa::ToSchema for Stage {}
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_stage_is_the_first_gate_not_passed() {
        let mut gates = Gates::new(DateTime::UNIX_EPOCH);
        for (index, name) in GateName::ALL.iter().enumerate() {
            assert_eq!(gates.stage(), Stage::At(*name));
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
        for stage in Stage::WORDS {
            assert_eq!(stage.to_string().parse(), Ok(stage));
            let json = serde_json::to_string(&stage).expect("writes");
            assert_eq!(json, format!("\"{stage}\""));
            assert_eq!(serde_json::from_str::<Stage>(&json).expect("reads"), stage);
        }
        let error = "lost".parse::<Stage>().expect_err("unknown").to_string();
        assert!(
            error.contains("Use one of: ownership, routing, certificate, serving, live, paused, released.")
        );
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

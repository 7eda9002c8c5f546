//! Contests: two proved claims of one name, until it is settled whose it is.

use chrono::{DateTime, Utc};
use nomenta_core::claim::rivals::{Outcome, Side};
use nomenta_core::judge::gate::{Gate, Gates, Stage};
use nomenta_core::judge::standing::Phase;
use nomenta_core::name::dns::DnsName;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// One side of a contest.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Party {
    /// The account.
    pub account: String,
    /// The site that the name shows, or would.
    pub site: String,
    /// When the claim was made.
    pub enrolled_at: DateTime<Utc>,
    /// Since when it holds the name.
    pub held_since: Option<DateTime<Utc>>,
    /// The claim's stage.
    pub stage: Stage,
    /// The four gates in order.
    #[schema(value_type = Vec<Gate>)]
    pub gates: Gates,
    /// Latest look.
    pub looked_at: Option<DateTime<Utc>>,
}

/// A contest.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Contest {
    /// Identifies it.
    pub id: Uuid,
    /// The name.
    pub host: DnsName,
    /// The name in its own script.
    pub shown: String,
    /// How far it has come.
    pub phase: Phase,
    /// What happens next, in one sentence.
    pub told: String,
    /// Since when.
    pub opened_at: DateTime<Utc>,
    /// Until when the holder may put its token back.
    pub grace_ends_at: Option<DateTime<Utc>>,
    /// What was ruled.
    pub ruling: Option<Ruling>,
    /// When it was settled, and how.
    pub settled: Option<Settled>,
    /// Who has the name, or had it.
    pub holder: Party,
    /// Who has proved itself beside.
    pub challenger: Party,
}

/// A ruling as it was given.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Ruling {
    /// For whom.
    pub side: Side,
    /// When.
    pub at: DateTime<Utc>,
    /// By which key.
    pub by: String,
    /// Why.
    pub because: String,
}

/// How a contest ended.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Settled {
    /// When.
    pub at: DateTime<Utc>,
    /// How.
    pub outcome: Outcome,
}

/// A ruling to give.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "side": "holder", "because": "The lease of the name ran on." }))]
pub struct NewRuling {
    /// For whom.
    #[schema(value_type = Side)]
    pub side: String,
    /// Why, for the record.
    #[schema(
        min_length = 1,
        max_length = 2000,
        pattern = r"^[^\x00-\x08\x0b\x0c\x0e-\x1f\x7f]*[^\s\x00-\x1f\x7f][^\x00-\x08\x0b\x0c\x0e-\x1f\x7f]*$"
    )]
    pub because: String,
}

/// Which contests.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ContestQuery {
    /// Those that are settled, newest first; else those that are open, oldest first.
    #[serde(default)]
    #[param(default = false)]
    pub settled: bool,
    /// Only those after the cursor of the page before.
    #[param(pattern = r"^[0-9]{1,17}\.[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$")]
    pub after: Option<String>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

/// What happens next in a contest, in one sentence.
pub fn told(phase: Phase, grace_ends_at: Option<DateTime<Utc>>, settled: Option<Outcome>) -> String {
    match (settled, phase) {
        (Some(Outcome::Switched), _) => "The challenger has the name.".into(),
        (Some(Outcome::Kept), _) => "The holder keeps the name.".into(),
        (Some(Outcome::Withdrawn), _) => "The challenger is gone, and the holder keeps the name.".into(),
        (None, Phase::Ruling) => "Both tokens stand in the zone. Rule whose the name is.".into(),
        (None, Phase::Grace) => {
            let until = grace_ends_at.map(|at| at.format(" until %Y-%m-%d %H:%M UTC").to_string());
            let until = until.unwrap_or_default();
            format!(
                "The holder's token is gone. It may come back{until}; after that the challenger has the name."
            )
        }
        (None, Phase::Handover) => {
            "Decided for the challenger. The route is switched once its certificate is there.".into()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_state_says_what_comes_next() {
        let mut said: Vec<_> = Phase::ALL.iter().map(|phase| told(*phase, None, None)).collect();
        said.extend(Outcome::ALL.iter().map(|outcome| told(Phase::Ruling, None, Some(*outcome))));
        said.sort();
        said.dedup();
        assert_eq!(said.len(), 6, "{said:?}");
        let grace = told(Phase::Grace, Some(DateTime::UNIX_EPOCH), None);
        assert!(grace.contains("until 1970-01-01 00:00 UTC;"), "{grace}");
    }
}

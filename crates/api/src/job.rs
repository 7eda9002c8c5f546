//! Jobs: bulk work over part of the roster.

use chrono::{DateTime, Utc};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::Stage;
use nomenta_core::name::dns::DnsName;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::domain::{RosterQuery, StageCount};

/// What is done to each domain.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "do", rename_all = "kebab-case", deny_unknown_fields)]
#[schema(example = json!({ "do": "pause" }))]
pub enum Act {
    /// It is looked at.
    Look {},
    /// It is left alone.
    Pause {},
    /// It is gone on with.
    Resume {},
    /// It leaves the platform.
    Release {},
    /// It shows another site of its account.
    Move {
        /// The site.
        #[schema(min_length = 1, max_length = 63)]
        site: String,
    },
    /// Its token is replaced.
    Rotate {},
}

/// What an act would come to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outlook {
    /// The domain would be changed.
    Changes,
    /// Nothing would be different.
    Nothing,
    /// It cannot be done as the domain stands.
    Refused,
}

impl Act {
    /// In words, as what is done to domains.
    pub fn words(&self) -> String {
        match self {
            Self::Look {} => "look at again".into(),
            Self::Pause {} => "pause".into(),
            Self::Resume {} => "resume".into(),
            Self::Release {} => "release".into(),
            Self::Move { site } => format!("move to {site}"),
            Self::Rotate {} => "give a new token".into(),
        }
    }

    /// What it would come to for domains at a stage.
    pub fn outlook(&self, stage: Stage) -> Outlook {
        match (self, stage) {
            (_, Stage::Released) | (Self::Look {}, Stage::Paused) => Outlook::Refused,
            (Self::Pause {}, Stage::Paused) => Outlook::Nothing,
            (Self::Resume {}, Stage::Paused) => Outlook::Changes,
            (Self::Resume {}, _) => Outlook::Nothing,
            _ => Outlook::Changes,
        }
    }
}

/// Which domains, by the filters of the roster.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "stage": "routing", "account": "onswick" }))]
pub struct Selection {
    /// Only those at this stage; without one, those that have not left.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stage: Option<Stage>,
    /// Only those of this account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 63)]
    pub account: Option<String>,
    /// Only those that show this site.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 63)]
    pub site: Option<String>,
    /// Only those behind this ingress.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 63)]
    pub ingress: Option<String>,
    /// Only those whose zone's DNS this operator runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 253)]
    pub operator: Option<String>,
    /// Only those with this finding.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub finding: Option<Code>,
    /// Only names that contain this, as DNS has them or in their own script.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 253)]
    pub text: Option<String>,
    /// Only those taken in so many days ago, or longer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 36500)]
    pub older_than: Option<u32>,
    /// Only those taken in within so many days.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 0, maximum = 36500)]
    pub younger_than: Option<u32>,
}

impl Selection {
    /// The same as the roster is asked.
    pub fn query(&self) -> RosterQuery {
        RosterQuery {
            stage: self.stage.map(|stage| stage.to_string()),
            account: self.account.clone(),
            site: self.site.clone(),
            ingress: self.ingress.clone(),
            operator: self.operator.clone(),
            finding: self.finding.map(|code| code.to_string()),
            text: self.text.clone(),
            older_than: self.older_than,
            younger_than: self.younger_than,
            ..RosterQuery::default()
        }
    }

    /// What is asked for, in words; nothing for the whole roster.
    pub fn words(&self) -> Vec<String> {
        let days = |days: Option<u32>| days.map(|days| format!("{days} days"));
        let parts = [
            ("stage", self.stage.map(|stage| stage.to_string())),
            ("account", self.account.clone()),
            ("site", self.site.clone()),
            ("ingress", self.ingress.clone()),
            ("operator", self.operator.clone()),
            ("finding", self.finding.map(|code| code.to_string())),
            ("text", self.text.clone()),
            ("older than", days(self.older_than)),
            ("younger than", days(self.younger_than)),
        ];
        parts.into_iter().filter_map(|(name, value)| Some(format!("{name} {}", value?))).collect()
    }
}

/// A job to begin, or to be shown what it would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "act": { "do": "look" }, "domains": { "stage": "routing" } }))]
pub struct NewJob {
    /// What is done.
    pub act: Act,
    /// To which domains.
    pub domains: Selection,
}

/// What a job would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobPreview {
    /// How many domains it is about.
    pub total: i64,
    /// Whether there are more than are counted.
    pub is_more: bool,
    /// How many would be changed.
    pub changes: i64,
    /// For how many nothing would be different.
    pub nothing: i64,
    /// For how many it cannot be done as they stand.
    pub refused: i64,
    /// How many stand at each stage.
    pub stages: Vec<StageCount>,
    /// The first of them by name.
    pub first: Vec<DnsName>,
}

nomenta_core::spelled! {
    /// How far a job has come.
    #[derive(ToSchema)]
    pub enum JobState: "state of a job" {
        /// Its domains are gathered.
        Gathering = "gathering",
        /// It is under way.
        Running = "running",
        /// Somebody has stopped it.
        Stopped = "stopped",
        /// It is done.
        Done = "done",
    }
}

/// A job, and how far it has come.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Job {
    /// Identifies it.
    pub id: Uuid,
    /// What is done.
    pub act: Act,
    /// To which domains.
    pub domains: Selection,
    /// The key that began it.
    pub by: Option<String>,
    /// How far it has come.
    pub state: JobState,
    /// How many domains it is about, as far as they are gathered.
    pub total: i32,
    /// How many were changed.
    pub changed: i32,
    /// For how many nothing is different.
    pub unchanged: i32,
    /// For how many it could not be done.
    pub refused: i32,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
}

impl Job {
    /// How many domains are done with.
    pub fn done(&self) -> i32 {
        self.changed + self.unchanged + self.refused
    }
}

nomenta_core::spelled! {
    /// What a job did to a domain.
    #[derive(ToSchema)]
    pub enum ItemResult: "result" {
        /// It was changed.
        Changed = "changed",
        /// Nothing is different.
        Unchanged = "unchanged",
        /// It could not be done.
        Refused = "refused",
    }
}

/// What a job did to one domain.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JobItem {
    /// The domain.
    pub host: DnsName,
    /// What was done; nothing yet, if there is none.
    pub result: Option<ItemResult>,
    /// Why it could not be done.
    pub because: Option<String>,
    /// When.
    pub done_at: Option<DateTime<Utc>>,
}

/// A page of the jobs.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct JobsQuery {
    /// Only those begun before this one: the cursor in the `Link` header.
    pub after: Option<Uuid>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

/// A page of what a job did.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ItemsQuery {
    /// Only those with this result.
    #[param(value_type = Option<ItemResult>)]
    pub result: Option<String>,
    /// Only those after this one: the cursor in the `Link` header.
    #[param(
        max_length = 400,
        pattern = r"^[!-}]{1,253}~[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$"
    )]
    pub after: Option<String>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_act_goes_over_the_wire_by_its_word() {
        for (act, text) in [
            (Act::Look {}, r#"{"do":"look"}"#),
            (Act::Move { site: "onswick".into() }, r#"{"do":"move","site":"onswick"}"#),
        ] {
            assert_eq!(serde_json::to_string(&act).expect("writes"), text);
            assert_eq!(serde_json::from_str::<Act>(text).expect("reads"), act);
        }
        assert!(serde_json::from_str::<Act>(r#"{"do":"look","site":"x"}"#).is_err());
    }

    #[test]
    fn what_is_so_already_is_nothing_and_what_has_left_is_refused() {
        assert_eq!(Act::Pause {}.outlook(Stage::Paused), Outlook::Nothing);
        assert_eq!(Act::Pause {}.outlook(Stage::Live), Outlook::Changes);
        assert_eq!(Act::Resume {}.outlook(Stage::Live), Outlook::Nothing);
        assert_eq!(Act::Look {}.outlook(Stage::Paused), Outlook::Refused);
        assert_eq!(Act::Release {}.outlook(Stage::Released), Outlook::Refused);
    }

    #[test]
    fn a_selection_is_said_in_words() {
        let selection =
            Selection { stage: "routing".parse().ok(), older_than: Some(3), ..Selection::default() };
        assert_eq!(selection.words(), ["stage routing", "older than 3 days"]);
        assert_eq!(selection.query().stage.as_deref(), Some("routing"));
    }
}

//! Intake: many domains taken in at once.

use nomenta_core::intake::judge::RowResult;
use nomenta_core::intake::table::Table;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// How a table is taken in.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct IntakeQuery {
    /// Judges the rows, and takes none in.
    #[serde(default)]
    pub dry_run: bool,
}

/// What became of a table.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Intake {
    /// Whether the rows were only judged.
    pub dry_run: bool,
    /// How many rows came to each result that there is.
    pub results: Vec<ResultCount>,
    /// The rows, in order.
    pub rows: Vec<IntakeRow>,
}

/// How many rows came to a result.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ResultCount {
    /// The result.
    pub result: RowResult,
    /// How many.
    pub count: usize,
}

/// What became of one row.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct IntakeRow {
    /// The line on which it begins, counted from 1.
    pub line: usize,
    /// The domain, as it was typed.
    pub host: String,
    /// The site, as it was typed.
    pub site: String,
    /// What became of it.
    pub result: RowResult,
    /// Why it was not taken in, and what to do.
    #[serde(default)]
    pub because: Option<String>,
}

impl Intake {
    /// Rows with their results counted.
    pub fn of(dry_run: bool, rows: Vec<IntakeRow>) -> Self {
        let counts = RowResult::ALL.iter().map(|result| ResultCount {
            result: *result,
            count: rows.iter().filter(|row| row.result == *result).count(),
        });
        Self { dry_run, results: counts.filter(|one| one.count > 0).collect(), rows }
    }

    /// The table that was given, with columns for what became of each row and why.
    pub fn written(&self, table: &Table) -> String {
        table.with_columns(["result", "because"], |place| {
            let row = &self.rows[place];
            [row.result.to_string(), row.because.clone().unwrap_or_default()]
        })
    }

    /// How many rows came to a result.
    pub fn count(&self, result: RowResult) -> usize {
        self.results.iter().find(|one| one.result == result).map_or(0, |one| one.count)
    }

    /// How many have something about them that has to change first.
    pub fn refused(&self) -> usize {
        self.results.iter().filter(|one| one.result.is_refused()).map(|one| one.count).sum()
    }
}

/// How far an intake has come, as the `progress` event of its stream.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct IntakeProgress {
    /// Rows that are written.
    pub done: usize,
    /// Rows that are to be written.
    pub total: usize,
}

nomenta_core::spelled! {
    /// Events of an intake that is answered as a stream.
    pub enum IntakeEvent: "event" {
        /// How far it has come: an `IntakeProgress`.
        Progress = "progress",
        /// What became of it: an `Intake`.
        Done = "done",
        /// Why it was not done: a problem document.
        Failed = "failed",
    }
}

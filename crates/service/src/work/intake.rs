//! Taking in tables of domains.

use std::sync::Arc;

use chrono::Utc;
use nomenta_api::intake::{Intake, IntakeProgress, IntakeRow};
use nomenta_api::problem::FieldCode;
use nomenta_core::intake::judge::Judgement;
use nomenta_core::intake::row::Columns;
use nomenta_core::intake::table::{Table, TableError};
use nomenta_core::name::token::Token;
use nomenta_store::Row;
use tokio::sync::watch;

use crate::App;
use crate::problem::Refusal;
use crate::reach::Reach;
use crate::token_end;

/// Rows taken at once, if nothing else is set.
pub const MOST_ROWS: usize = 50_000;
/// Letters of a field that an answer repeats.
const MOST_SHOWN: usize = 300;

/// A table, read as rows.
#[derive(Debug)]
pub(crate) struct Rows {
    table: Table,
    columns: Columns,
    rows: Vec<Row>,
}

impl Rows {
    /// Reads a table; a large one takes a while, in which others are to be served.
    ///
    /// # Errors
    /// If it is no table, or has not the columns that are needed.
    pub(crate) async fn read(app: &Arc<App>, octets: Vec<u8>) -> Result<Self, Refusal> {
        let app = app.clone();
        let read = tokio::task::spawn_blocking(move || {
            let table = Table::read(&octets, app.config.most_rows)?;
            let columns = Columns::of(&table)?;
            let row = |row| columns.read(row, &app.config.platform);
            let rows = table.rows.iter().map(|one| (one.line, row(one))).collect();
            Ok(Self { table, columns, rows })
        });
        let read = read.await.map_err(|error| Refusal::internal(error.to_string()))?;
        read.map_err(|error| refused(&error))
    }

    /// Judges the rows, and takes none in.
    ///
    /// # Errors
    /// If the records are not to be had.
    pub(crate) async fn judged(&self, reach: &Reach) -> Result<Intake, Refusal> {
        let (records, whose) = reach.parts();
        Ok(self.told(true, records.judge_rows(&self.rows, whose).await?))
    }

    /// Takes in all rows that are accepted, or none; tells how far it has come.
    ///
    /// # Errors
    /// If the records are not to be had.
    pub(crate) async fn taken_in(
        &self,
        reach: &Reach,
        progress: &watch::Sender<IntakeProgress>,
    ) -> Result<Intake, Refusal> {
        let (records, whose) = reach.parts();
        let intake = nomenta_store::Intake {
            rows: &self.rows,
            whose,
            token_expires_at: token_end(Utc::now()),
            token: &|| Token::from_random(rand::random()),
            told: &|done, total| {
                progress.send_replace(IntakeProgress { done, total });
            },
        };
        let intake = self.told(false, records.take_in(&intake).await?);

        for one in &intake.results {
            let count = u64::try_from(one.count).unwrap_or(u64::MAX);
            metrics::counter!("nomenta_intake_rows_total", "result" => one.result.as_str()).increment(count);
        }
        Ok(intake)
    }

    /// The same rows with what became of them.
    fn told(&self, dry_run: bool, judgements: Vec<Judgement>) -> Intake {
        let rows = self.table.rows.iter().zip(judgements).map(|(row, judgement)| IntakeRow {
            line: row.line,
            host: cut(self.columns.host(row)),
            site: cut(self.columns.site(row)),
            result: judgement.result,
            because: judgement.because,
        });
        Intake::of(dry_run, rows.collect())
    }

    /// The same table with what became of each row.
    pub(crate) fn written(&self, intake: &Intake) -> String {
        intake.written(&self.table)
    }
}

fn cut(text: &str) -> String {
    text.chars().take(MOST_SHOWN).collect()
}

fn refused(error: &TableError) -> Refusal {
    let code = match error {
        TableError::NotText { .. } => FieldCode::Character,
        TableError::Empty => FieldCode::Empty,
        TableError::NoColumn { .. } => FieldCode::Missing,
        TableError::TwiceNamed(_) => FieldCode::Repeated,
        TableError::TooManyRows { .. } => FieldCode::TooLarge,
    };
    Refusal::field("table", code, error).on_line(error.line())
}

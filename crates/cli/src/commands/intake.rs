//! `intake`.

use std::fs;
use std::io::{self, Read};
use std::path::Path;

use anyhow::{Context, bail};
use futures::StreamExt;
use nomenta_api::intake::{Intake, IntakeEvent, IntakeProgress, IntakeQuery, IntakeRow};
use nomenta_api::problem::Problem;
use nomenta_core::intake::judge::RowResult;
use nomenta_core::intake::table::Table;

use crate::Done;
use crate::args::{IntakeOptions, Shape};
use crate::client::Client;
use crate::render::{progress, shown, table};

/// Rows that are printed of those that need a correction; a file has room for all.
const MOST_SHOWN: usize = 40;

pub(crate) async fn run(client: &Client, shape: Shape, options: IntakeOptions) -> anyhow::Result<Done> {
    let IntakeOptions { table, dry_run } = options;
    let octets = read(&table)?;
    let intake = take_in(client, dry_run, octets.clone()).await?;

    match shape {
        Shape::Csv => print!("{}", intake.written(&Table::read(&octets, intake.rows.len())?)),
        other => {
            shown(other, &intake, || print(&intake))?;
        }
    }

    match intake.refused() {
        0 => Ok(Done::Yes),
        1 => bail!("One row needs a correction, and is not taken in."),
        several => bail!("{several} rows need a correction, and are not taken in."),
    }
}

fn read(path: &Path) -> anyhow::Result<Vec<u8>> {
    if path == Path::new("-") {
        let mut octets = Vec::new();
        io::stdin().read_to_end(&mut octets).context("Cannot read the table from standard input")?;
        return Ok(octets);
    }
    fs::read(path).with_context(|| format!("Cannot read {}", path.display()))
}

/// Sends the table, and shows how far it has come until it is done.
async fn take_in(client: &Client, dry_run: bool, octets: Vec<u8>) -> anyhow::Result<Intake> {
    let query = IntakeQuery { dry_run };
    let mut events = client.post_table("intake", &query, octets).await?;
    let bar = progress("rows taken in");

    while let Some(event) = events.next().await {
        let event = event?;
        match event.event.parse() {
            Ok(IntakeEvent::Progress) => {
                let IntakeProgress { done, total } = serde_json::from_str(&event.data)?;
                bar.set_length(u64::try_from(total)?);
                bar.set_position(u64::try_from(done)?);
            }
            Ok(IntakeEvent::Done) => {
                bar.finish_and_clear();
                return Ok(serde_json::from_str(&event.data)?);
            }
            Ok(IntakeEvent::Failed) => {
                bar.finish_and_clear();
                bail!("{}", serde_json::from_str::<Problem>(&event.data)?.detail);
            }
            // Of a newer service.
            Err(_) => {}
        }
    }
    bail!("The service ended the connection. Give the table again: what was taken in is not taken in twice.")
}

fn print(intake: &Intake) {
    println!("{}", summary(intake));
    let refused: Vec<_> = intake.rows.iter().filter(|row| row.result.is_refused()).collect();
    if refused.is_empty() {
        return;
    }

    let line = |row: &&IntakeRow| {
        let because = row.because.clone().unwrap_or_default();
        [row.line.to_string(), row.host.clone(), row.result.to_string(), because]
    };
    println!(
        "\n{}",
        table(["LINE", "DOMAIN", "RESULT", "BECAUSE"], refused.iter().take(MOST_SHOWN).map(line))
    );
    if let Some(more) = refused.len().checked_sub(MOST_SHOWN).filter(|more| *more > 0) {
        println!("And {more} more. --as csv prints every row with its result.");
    }
}

/// How many rows came to what, in one sentence each.
fn summary(intake: &Intake) -> String {
    let said = |result: RowResult, words: &str| match intake.count(result) {
        0 => None,
        count => Some(format!("{count} {words}")),
    };
    let parts = [
        said(RowResult::TakenIn, "taken in"),
        said(RowResult::New, "would be taken in"),
        said(RowResult::AlreadyThere, "already there"),
        said(RowResult::Repeated, "asked for twice"),
        Some(intake.refused()).filter(|count| *count > 0).map(|count| format!("{count} to be corrected")),
    ];
    let parts: Vec<_> = parts.into_iter().flatten().collect();
    match parts.is_empty() {
        true => "The table has no rows.".into(),
        false => format!("{} rows: {}.", intake.rows.len(), parts.join(", ")),
    }
}

//! Output for people and for programs.

mod csv;
pub(crate) mod explain;
pub(crate) mod rehearsal;
pub(crate) mod sheet;

use std::io::IsTerminal;

use chrono::{DateTime, Local, Utc};
use clap::ValueEnum;
use comfy_table::{ContentArrangement, Table, presets};
use indicatif::{ProgressBar, ProgressStyle};
use nomenta_api::event::CloudEvent;
use nomenta_core::judge::edit::Edit;
use nomenta_core::judge::moment::lasting;
use serde::Serialize;

use crate::Done;
use crate::args::Shape;

/// Prints rows as a table, or as they are.
pub(crate) fn listing<T: Serialize, const N: usize>(
    shape: Shape,
    rows: &[T],
    header: [&str; N],
    row: impl Fn(&T) -> [String; N],
) -> anyhow::Result<Done> {
    match shape {
        Shape::Csv => return csv::print(rows),
        Shape::Lines => {
            for row in rows {
                println!("{}", serde_json::to_string(row)?);
            }
            return Ok(Done::Yes);
        }
        _ => {}
    }

    shown(shape, &rows, || {
        if rows.is_empty() {
            println!("None.");
        } else {
            println!("{}", table(header, rows.iter().map(row)));
        }
    })
}

/// Prints one sentence, or what it is about.
pub(crate) fn said<T: Serialize>(shape: Shape, value: &T, sentence: &str) -> anyhow::Result<Done> {
    shown(shape, value, || println!("{sentence}"))
}

/// Prints `value` for programs, or by `print_table` for people.
pub(crate) fn shown<T: Serialize>(
    shape: Shape,
    value: &T,
    print_table: impl FnOnce(),
) -> anyhow::Result<Done> {
    match shape {
        Shape::Json => println!("{}", serde_json::to_string_pretty(value)?),
        Shape::Table => print_table(),
        Shape::Lines | Shape::Csv | Shape::Text | Shape::Markdown | Shape::Zone => {
            let word = shape.to_possible_value();
            let word = word.as_ref().map_or("that", |word| word.get_name());
            anyhow::bail!("This has no form as {word}. Use --as table or --as json.")
        }
    }

    Ok(Done::Yes)
}

/// A bar that shows how much is done of what there is; nothing where nobody looks.
pub(crate) fn progress(of: &'static str) -> ProgressBar {
    let bar = ProgressBar::new(0).with_message(of);
    // The template is known to be one.
    if let Ok(style) = ProgressStyle::with_template("{wide_bar} {pos} of {len} {msg}, {eta} left") {
        bar.set_style(style);
    }
    bar
}

/// A moment, to the minute, where the reader is.
pub(crate) fn moment(at: DateTime<Utc>) -> String {
    at.with_timezone(&Local).format("%Y-%m-%d %H:%M").to_string()
}

pub(crate) fn table<const N: usize>(header: [&str; N], rows: impl IntoIterator<Item = [String; N]>) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(header);
    table.add_rows(rows);

    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }

    table
}

/// One line for each edit: what to do with which record.
fn edit_table(edits: &[Edit]) -> Table {
    let rows = edits.iter().map(|edit| {
        let value = match &edit.was {
            Some(was) => format!("{}\nnow {was}", edit.value),
            None => edit.value.clone(),
        };
        let host = if edit.host_field.is_empty() { "(empty)" } else { edit.host_field.as_str() };
        [format!("  {}", edit.kind), edit.rtype.to_string(), host.to_owned(), value]
    });

    table(["  DO", "TYPE", "HOST", "VALUE"], rows)
}

/// `for 3 h`, as people say it.
pub(crate) fn span(from: DateTime<Utc>, to: DateTime<Utc>) -> String {
    lasting((to - from).num_seconds())
}

pub(crate) fn exact(at: DateTime<Utc>) -> String {
    at.with_timezone(&Local).format("%Y-%m-%d %H:%M:%S").to_string()
}

/// One line of history: the time, and what happened.
pub(crate) fn event_line(event: &CloudEvent) -> String {
    format!("{}  {}", exact(event.time), event.told)
}

/// Indented, and wrapped to the terminal where there is one.
pub(crate) fn wrapped(text: &str) -> String {
    hanging("  ", text)
}

/// Wrapped likewise, its further lines under the first one's text.
pub(crate) fn hanging(head: &str, text: &str) -> String {
    let indent = " ".repeat(head.chars().count());
    let width = if std::io::stdout().is_terminal() { textwrap::termwidth().min(110) } else { usize::MAX };
    textwrap::fill(
        text,
        textwrap::Options::new(width)
            .initial_indent(head)
            .subsequent_indent(&indent)
            .break_words(false)
            .word_splitter(textwrap::WordSplitter::NoHyphenation),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::Duration;

    #[test]
    fn time_is_said_as_people_say_it() {
        let start = DateTime::UNIX_EPOCH;
        for (seconds, want) in [
            (-5, "0 s"),
            (12, "12 s"),
            (150, "3 min"),
            (3600, "60 min"),
            (10_800, "3 h"),
            (400_000, "4 days"),
        ] {
            assert_eq!(span(start, start + Duration::seconds(seconds)), want);
        }
    }
}

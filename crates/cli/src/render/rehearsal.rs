//! What came of a rehearsal.

use std::path::Path;

use nomenta_core::judge::edit::EditKind;
use nomenta_core::rehearsal::{Rehearsal, Rehearsed};

use super::{edit_table, hanging, wrapped};

/// Prints what is wrong in a zone file, and what to change.
pub(crate) fn print(judged: &Rehearsal, file: &Path, amended: Option<&Path>) {
    println!("{} holds {} records of the zone {}.", file.display(), judged.records, judged.zone);
    if judged.todo.iter().all(|edit| edit.kind == EditKind::Keep) && judged.passes {
        println!("It would pass as it is; there is nothing to change.");
        return;
    }

    if judged.findings.is_empty() {
        println!("Nothing in it is wrong; what the sheet asks for is still to be added.");
    }

    for Rehearsed { finding, lines } in &judged.findings {
        println!("\n{}{}", finding.code, on_lines(lines));
        println!("{}", wrapped(&finding.remedy));
        println!("{}", wrapped(&finding.remark));
    }

    println!("\nTo change, in this order:\n");
    println!("{}", edit_table(&judged.todo));
    if judged.passes {
        println!("\nWith these changes the zone passes ownership and routing.");
    } else {
        println!("\nThese changes alone are not enough.");
    }

    for finding in &judged.left {
        println!("\n{} stays. {}", finding.code, finding.remedy);
    }

    if !judged.notes.is_empty() {
        println!();
    }
    for note in &judged.notes {
        println!("{}", hanging("Note: ", note));
    }
    if let Some(amended) = amended {
        println!("\nWrote the amended zone to {}.", amended.display());
    }
}

/// `, line 5` or `, lines 5 to 8 and 12`.
fn on_lines(lines: &[usize]) -> String {
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for line in lines {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == *line => *last = *line,
            _ => runs.push((*line, *line)),
        }
    }

    let words = runs.iter().map(
        |(first, last)| {
            if first == last { first.to_string() } else { format!("{first} to {last}") }
        },
    );

    let words: Vec<_> = words.collect();
    match (lines.len(), words.split_last()) {
        (0, _) | (_, None) => String::new(),
        (1, Some((last, _))) => format!(", line {last}"),
        (_, Some((last, []))) => format!(", lines {last}"),
        (_, Some((last, others))) => format!(", lines {} and {last}", others.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_a_file_are_told_in_runs() {
        for (lines, want) in [
            (&[][..], ""),
            (&[5], ", line 5"),
            (&[5, 6], ", lines 5 to 6"),
            (&[5, 6, 7, 9, 12, 13], ", lines 5 to 7, 9 and 12 to 13"),
        ] {
            assert_eq!(on_lines(lines), want);
        }
    }
}

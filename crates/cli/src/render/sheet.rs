//! Sheets and baselines, as tables.

use nomenta_api::domain::{BaselineView, SheetView};
use nomenta_core::sheet::Sheet;
use nomenta_core::sheet::line::{Choice, Line, Purpose};
use nomenta_core::sheet::rendering;

use super::{exact, hanging, table};

/// Prints what to publish, with every choice.
pub(crate) fn print(view: &SheetView) {
    print_one(&view.sheet);
    if let Some(pair) = &view.pair {
        println!("\nThe other of the pair:\n");
        print_one(&pair.sheet);
        let primary = if pair.is_primary { &pair.sheet } else { &view.sheet };
        let other = if pair.is_primary { &view.sheet } else { &pair.sheet };
        println!(
            "\n{} is the primary; {} leads to it.",
            primary.subject().to_unicode(),
            other.subject().to_unicode()
        );
    }

    if let Some(lookalike) = &view.lookalike {
        println!("\n{}", hanging("Look twice: ", &lookalike.told));
    }
    println!("\nThe token is good until {}.", view.token_expires_at.format("%Y-%m-%d"));
    if view.sheet.lines.iter().any(|line| line.value.contains('…')) {
        println!("It is masked here. To see it whole: nomenta sheet {} --reveal", view.sheet.subject());
    }
}

fn print_one(sheet: &Sheet) {
    println!("To publish for {}, in the zone {}:", sheet.subject().to_unicode(), sheet.zone);
    for purpose in Purpose::ALL {
        let choices = sheet.choices(*purpose);
        match choices.as_slice() {
            [] => {}
            [_] => println!("\n{purpose}"),
            _ => println!("\n{purpose}, one of these"),
        }
        if !choices.is_empty() {
            print_choices(sheet, &choices);
        }
    }

    println!("\n{}", rendering::host_note(sheet));
}

/// Lines in columns, of several choices each under its heading; headings take
/// no column.
fn print_choices(sheet: &Sheet, choices: &[Choice]) {
    let rows = choices.iter().flat_map(|choice| sheet.by(*choice)).map(cells);
    let text = table(["  TYPE", "HOST", "VALUE", "TTL", "FULL NAME"], rows).to_string();
    let mut printed = text.lines();
    println!("{}", printed.next().unwrap_or_default());

    for (index, choice) in choices.iter().enumerate() {
        if choices.len() > 1 {
            let word = if index == 0 { "best" } else { "or" };
            println!("  {word}: {}", choice.words());
        }
        for _ in sheet.by(*choice) {
            println!("{}", printed.next().unwrap_or_default());
        }
    }
}

fn cells(line: &Line) -> [String; 5] {
    [
        format!("  {}", line.editor_type()),
        rendering::host_words(line).to_owned(),
        line.value_field.clone(),
        line.ttl.to_string(),
        line.owner.to_string(),
    ]
}

/// Prints the records of enrolment beside those of now.
pub(crate) fn print_baseline(view: &BaselineView) {
    let Some(baseline) = &view.baseline else {
        println!("Not taken yet: the zone has not been read since the domain was taken in.");
        return;
    };

    println!("Records of {} as they were at {}, beside now:\n", baseline.zone, exact(baseline.at));
    if view.compared.is_empty() {
        println!("The zone cannot be read now. As it was:\n\n{}", view.zone_lines);
        return;
    }

    let rows = view.compared.iter().map(|compared| {
        let record = &compared.record;
        [
            compared.since.to_string(),
            record.data.type_name().to_owned(),
            record.owner.relative_to(&baseline.zone),
            record.data.to_string(),
            record.ttl.to_string(),
        ]
    });

    println!("{}", table(["NOW", "TYPE", "HOST", "VALUE", "TTL"], rows));
    println!("\nAs lines to put back: nomenta baseline {} --as zone", baseline.zone);
}

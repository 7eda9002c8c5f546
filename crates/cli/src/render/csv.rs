//! Listings for spreadsheets.

use nomenta_core::sheet::rendering::csv_field;
use serde::Serialize;
use serde_json::Value;

use crate::Done;

/// Prints rows as CSV (RFC 4180), a column for each field.
pub(super) fn print<T: Serialize>(rows: &[T]) -> anyhow::Result<Done> {
    let rows: Vec<Value> = rows.iter().map(serde_json::to_value).collect::<Result<_, _>>()?;
    let rows: Vec<_> = rows.iter().map(columns).collect();

    if let Some(first) = rows.first() {
        print_line(first.iter().map(|(name, _)| name));
    }

    for row in &rows {
        print_line(row.iter().map(|(_, cell)| cell));
    }

    Ok(Done::Yes)
}

fn print_line<'a>(fields: impl Iterator<Item = &'a String>) {
    let fields: Vec<_> = fields.map(|field| csv_field(field)).collect();
    println!("{}", fields.join(","));
}

/// Name and cell of each column. What has fields of its own gives a column for
/// each, and a list of gates one for each gate, with its state: no cell holds
/// more than a program reads at once.
fn columns(row: &Value) -> Vec<(String, String)> {
    let mut columns = Vec::new();
    for (name, value) in row.as_object().into_iter().flatten() {
        match value {
            Value::Object(_) => columns.extend(self::columns(value)),
            Value::Array(list) if list.iter().any(Value::is_object) => {
                columns.extend(list.iter().map(|one| (cell(&one["name"]), cell(&one["state"]))));
            }
            other => columns.push((name.clone(), cell(other))),
        }
    }

    columns
}

/// A plain value; a list of them joined by spaces.
fn cell(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        Value::Array(list) => list.iter().map(cell).collect::<Vec<_>>().join(" "),
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn no_cell_holds_json() {
        let row = json!({
            "host": "onswick.example",
            "gates": [{ "name": "ownership", "state": "passed" }, { "name": "routing", "state": "waiting" }],
            "facts": { "serial": "1", "names": ["a", "b"] },
            "spread": 0.5,
            "looked_at": null,
        });

        let mut read = columns(&row);
        read.sort();
        let want = [
            ("host", "onswick.example"),
            ("looked_at", ""),
            ("names", "a b"),
            ("ownership", "passed"),
            ("routing", "waiting"),
            ("serial", "1"),
            ("spread", "0.5"),
        ];

        assert_eq!(read, want.map(|(name, cell)| (name.to_owned(), cell.to_owned())));
    }
}

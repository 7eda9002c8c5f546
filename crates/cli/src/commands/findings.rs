//! `findings`: the catalogue, which needs no service.

use nomenta_api::domain::CatalogueEntry;
use nomenta_core::judge::finding::{Entry, Yields};
use nomenta_core::judge::findings::CATALOGUE;
use nomenta_core::judge::gate::GateName;

use crate::Done;
use crate::args::Shape;
use crate::render::listing;

pub(crate) fn run(shape: Shape) -> anyhow::Result<Done> {
    if shape == Shape::Markdown {
        print!("{}", markdown());
        return Ok(Done::Yes);
    }

    let rows: Vec<_> = CATALOGUE.iter().map(|entry| row(entry)).collect();
    listing(shape, &rows, ["FINDING", "SEVERITY", "GATE", "MEANS"], |row| {
        [row.code.to_string(), row.severity.to_string(), row.gate.to_string(), row.about.into()]
    })
}

fn row(entry: &Entry) -> CatalogueEntry {
    CatalogueEntry { code: entry.code, severity: entry.severity, gate: entry.gate, about: entry.about }
}

/// Codes of the findings that explain it, each in backticks.
fn explained_by(entry: &Entry) -> String {
    match entry.yields {
        Yields::To(codes) => codes.iter().map(|code| format!("`{code}`")).collect::<Vec<_>>().join(", "),
        Yields::AnyBlocker => "any blocker".into(),
    }
}

fn markdown() -> String {
    let mut text = String::from(
        "# Findings\n\nEvery problem that Nomenta diagnoses, by the gate that it concerns. A **blocker** keeps its gate \
         from passing, a **warning** works but not for everyone or not for long, a **note** is worth knowing. One mistake \
         gives one finding: where one explains another, only the first is shown.\n\nMade from the catalogue by \
         `cargo xtask generate`.\n",
    );

    for gate in GateName::ALL {
        let entries: Vec<_> = CATALOGUE.iter().filter(|entry| entry.gate == *gate).collect();
        if entries.is_empty() {
            continue;
        }

        text.push_str(&format!("\n## {gate}\n\n| finding | severity | what it means | explained by |\n| --- | --- | --- | --- |\n"));
        for entry in entries {
            text.push_str(&format!(
                "| `{}` | {} | {} | {} |\n",
                entry.code,
                entry.severity,
                entry.about,
                explained_by(entry)
            ));
        }
    }

    text
}

//! `findings`: the catalogue, which needs no service.

use nomenta_core::judge::finding::Entry;
use nomenta_core::judge::findings::CATALOGUE;
use nomenta_core::judge::gate::GateName;
use serde::Serialize;

use crate::Done;
use crate::args::Shape;
use crate::render::{listing, word_of};

/// An entry as it is listed.
#[derive(Serialize)]
struct Row {
    code: &'static str,
    severity: String,
    gate: String,
    about: &'static str,
}

pub(crate) fn run(shape: Shape) -> anyhow::Result<Done> {
    if shape == Shape::Markdown {
        print!("{}", markdown());
        return Ok(Done::Yes);
    }
    let rows: Vec<Row> = CATALOGUE.iter().map(|entry| row(entry)).collect();
    listing(shape, &rows, ["FINDING", "SEVERITY", "GATE", "MEANS"], |r| {
        [r.code.into(), r.severity.clone(), r.gate.clone(), r.about.into()]
    })
}

fn row(entry: &Entry) -> Row {
    let Entry { code, severity, gate, about, .. } = entry;
    Row { code, severity: word_of(severity), gate: gate.to_string(), about }
}

fn markdown() -> String {
    let mut text = String::from(
        "# Findings\n\nEvery problem that Nomenta diagnoses, by the gate that it concerns. A **blocker** keeps its gate \
         from passing, a **warning** works but not for everyone or not for long, a **note** is worth knowing. One mistake \
         gives one finding: where one explains another, only the first is shown.\n\nMade from the catalogue by \
         `cargo xtask generate`.\n",
    );
    for gate in GateName::ALL {
        let entries: Vec<_> = CATALOGUE.iter().filter(|e| e.gate == gate).collect();
        if entries.is_empty() {
            continue;
        }
        text.push_str(&format!("\n## {gate}\n\n| finding | severity | what it means | explained by |\n| --- | --- | --- | --- |\n"));
        for entry in entries {
            let explained: Vec<_> = entry.yields_to.iter().map(|code| format!("`{code}`")).collect();
            let Row { code, severity, about, .. } = row(entry);
            text.push_str(&format!("| `{code}` | {severity} | {about} | {} |\n", explained.join(", ")));
        }
    }
    text
}

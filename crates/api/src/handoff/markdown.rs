//! What a handoff link shows, as Markdown for a ticket and as plain text for a mail.

use std::fmt::Write as _;

use super::{CustomerDomain, HandoffView, Piece, Row, Said, Step};

impl HandoffView {
    /// As Markdown (CommonMark).
    pub fn markdown(&self) -> String {
        let mut text = format!("# {}\n", marked(&self.title));
        if let Some(intro) = &self.intro {
            let _ = write!(text, "\n{}\n", marked(intro));
        }
        for domain in &self.domains {
            self.domain(&mut text, domain);
        }

        for said in self.more.iter().chain(&self.ask).chain([&self.expires]) {
            let _ = write!(text, "\n{}\n", marked(said));
        }
        text
    }

    fn domain(&self, text: &mut String, domain: &CustomerDomain) {
        let said: Vec<_> = domain.said.iter().chain(&domain.looks).map(marked).collect();
        let _ =
            write!(text, "\n## {}: {}\n\n{}\n", code(&domain.shown), marked(&domain.heading), said.join(" "));
        if let Some(link) = &domain.link {
            let _ = write!(text, "\n[{}]({})\n", link.said.plain(), link.url);
        }

        if !domain.found.is_empty() {
            let _ = write!(text, "\n### {}\n\n", self.labels.found);
            for found in &domain.found {
                let _ = writeln!(text, "* {}", marked(&found.said));
            }
        }

        if !domain.steps.is_empty() {
            let place = &domain.place;
            let said: Vec<_> = [&place.said].into_iter().chain(&place.usual).map(marked).collect();
            let _ = write!(text, "\n### {}\n\n{}\n", marked(&place.heading), said.join(" "));
            if !place.beware.is_empty() {
                let _ = write!(text, "\n{}:\n\n", self.labels.beware);
                for one in &place.beware {
                    let _ = writeln!(text, "* {}", marked(&one.said));
                }
            }
        }
        if let Some(warning) = &domain.warning {
            let _ = write!(text, "\n> {}\n", marked(warning));
        }
        for step in &domain.steps {
            self.step(text, step);
        }

        rows(text, &self.labels.done, &domain.done);
        rows(text, &self.labels.keep, &domain.keep);
    }

    fn step(&self, text: &mut String, step: &Step) {
        let _ = write!(
            text,
            "\n#### {}: {}\n\n{}",
            marked(&step.count),
            marked(&step.heading),
            marked(&step.why)
        );
        for note in &step.notes {
            let _ = write!(text, " {}", marked(note));
        }

        text.push_str("\n\n");
        for one in &step.boxes {
            let value = if one.value.is_empty() { self.labels.empty.clone() } else { code(&one.value) };
            let _ = write!(text, "* {}: {value}", one.label);
            match &one.hint {
                Some(hint) => {
                    let _ = writeln!(text, " ({})", marked(hint).trim_end_matches('.'));
                }
                None => text.push('\n'),
            }
        }
    }
}

fn rows(text: &mut String, heading: &str, rows: &[Row]) {
    if rows.is_empty() {
        return;
    }

    let _ = write!(text, "\n### {heading}\n\n");
    for row in rows {
        let _ = writeln!(text, "* {} {} {}", row.rtype, code(&row.host), code(&row.value));
    }
}

/// A sentence, with records set apart.
fn marked(said: &Said) -> String {
    let pieces = said.0.iter().map(|piece| match piece {
        Piece::Record(record) => code(record),
        Piece::Text(text) | Piece::Name(text) => escaped(text),
        Piece::Time(_) => piece.plain(),
    });
    pieces.collect()
}

/// A span of code, whatever is in it (CommonMark, section 6.1).
fn code(text: &str) -> String {
    let longest = text.split(|letter| letter != '`').map(str::len).max().unwrap_or_default();
    let fence = "`".repeat(longest + 1);
    let pad = if text.starts_with('`') || text.ends_with('`') || text.is_empty() { " " } else { "" };
    format!("{fence}{pad}{text}{pad}{fence}")
}

/// Keeps what strangers have published from being marks.
fn escaped(text: &str) -> String {
    let mut safe = String::new();
    for letter in text.chars() {
        if matches!(letter, '\\' | '`' | '*' | '_' | '[' | ']' | '<' | '>' | '#' | '|') {
            safe.push('\\');
        }
        safe.push(letter);
    }
    safe
}

//! The sheet in the forms in which it is handed over: plain text for a mail,
//! Markdown, CSV, and lines of a master file.

use std::fmt::Write as _;

use crate::reading::record::Record;
use crate::sheet::Sheet;
use crate::sheet::line::{Choice, Line, Purpose};
use crate::zonefile::text;

/// What the lines of a purpose are for, as the customer is told.
fn heading(purpose: Purpose) -> &'static str {
    match purpose {
        Purpose::Ownership => "To prove that the domain is yours",
        Purpose::Routing => "To bring visitors to your site",
        Purpose::Certificate => "To let us renew the certificate",
    }
}

/// Purposes in order, each with its choices.
fn parts(sheet: &Sheet) -> Vec<(Purpose, Vec<Choice>)> {
    let parts = Purpose::ALL.iter().map(|purpose| (*purpose, sheet.choices(*purpose)));
    parts.filter(|(_, choices)| !choices.is_empty()).collect()
}

/// What to type into the host box, in words where it stays empty.
pub fn host_words(line: &Line) -> &str {
    if line.host_field.is_empty() { "(leave it empty)" } else { &line.host_field }
}

/// How the host fields are to be read.
pub fn host_note(sheet: &Sheet) -> String {
    match &sheet.form {
        Some(form) => format!("Typed as the editor of {} wants it.", form.name),
        None => format!(
            "The host is the short one, for editors that add {} by themselves; if yours wants the full name, \
             take that.",
            sheet.zone
        ),
    }
}

/// Plain text, for a mail.
pub fn plain(sheets: &[Sheet]) -> String {
    sheets.iter().map(plain_one).collect::<Vec<_>>().join("\n\n")
}

fn plain_one(sheet: &Sheet) -> String {
    let mut text = format!("DNS records for {}, in the zone {}\n", sheet.subject().to_unicode(), sheet.zone);

    for (purpose, choices) in parts(sheet) {
        let _ = write!(text, "\n{}{}\n", heading(purpose), one_of(&choices));
        for (index, choice) in choices.iter().enumerate() {
            if choices.len() > 1 {
                let lead = if index == 0 { "Best" } else { "Or" };
                let _ = write!(text, "\n  {lead}: {}:\n", choice.words());
            }
            for line in sheet.by(*choice) {
                plain_line(&mut text, sheet, line);
            }
        }
    }

    let note = host_note(sheet);
    let _ = write!(text, "\n{note}\nKeep every mail record (MX, and TXT with v=spf1 or v=DMARC1).\n");
    text
}

fn plain_line(text: &mut String, sheet: &Sheet, line: &Line) {
    let _ = write!(text, "\n  Type:      {}\n  Host:      {}\n", line.editor_type(), host_words(line));
    // Who does not know the editor's form has to pick from both spellings.
    if sheet.form.is_none() {
        let _ = writeln!(text, "  Full name: {}", line.owner);
    }
    let _ = write!(text, "  Value:     {}\n  TTL:       {}\n", line.value_field, line.ttl);
}

/// Markdown, one table for each choice.
pub fn markdown(sheets: &[Sheet]) -> String {
    sheets.iter().map(markdown_one).collect::<Vec<_>>().join("\n")
}

fn markdown_one(sheet: &Sheet) -> String {
    let mut text = format!(
        "# DNS records for {}\n\nIn the zone `{}`. {}\n",
        sheet.subject().to_unicode(),
        sheet.zone,
        host_note(sheet)
    );

    for (purpose, choices) in parts(sheet) {
        let _ = write!(text, "\n## {}{}\n", heading(purpose), one_of(&choices));
        for choice in &choices {
            if choices.len() > 1 {
                let _ = write!(text, "\n{}:\n", capital(choice.words()));
            }
            text.push_str("\n| Type | Host | Full name | Value | TTL |\n| --- | --- | --- | --- | --- |\n");
            for line in sheet.by(*choice) {
                markdown_row(&mut text, line);
            }
        }
    }
    text
}

fn markdown_row(text: &mut String, line: &Line) {
    let _ = writeln!(
        text,
        "| {} | `{}` | `{}` | `{}` | {} |",
        line.editor_type(),
        host_words(line),
        line.owner,
        line.value_field,
        line.ttl
    );
}

/// CSV (RFC 4180) with a header.
pub fn csv(sheets: &[Sheet]) -> String {
    let mut text = String::from("purpose,choice,type,host,full_name,value,ttl,required\r\n");

    for line in sheets.iter().flat_map(|sheet| &sheet.lines) {
        let fields = [
            line.purpose.to_string(),
            line.choice.words().to_owned(),
            line.editor_type().to_string(),
            line.host_field.clone(),
            line.owner.to_string(),
            line.value_field.clone(),
            line.ttl.to_string(),
            line.required.to_string(),
        ];
        text.push_str(&fields.map(|f| csv_field(&f)).join(","));
        text.push_str("\r\n");
    }
    text
}

/// A field of RFC 4180; one that a spreadsheet would run as a formula is kept
/// from it.
pub fn csv_field(text: &str) -> String {
    // Spreadsheets look behind what they take for space.
    let seen = text.trim_start_matches(|letter: char| {
        letter.is_whitespace() || letter.is_control() || letter == '\u{feff}'
    });
    let guarded = match seen.chars().next() {
        Some('=' | '+' | '-' | '@' | '\u{ff1d}' | '\u{ff0b}' | '\u{ff0d}' | '\u{ff20}') if text.len() > 1 => {
            format!("'{text}")
        }
        _ => text.to_owned(),
    };

    if guarded.contains([',', '"', '\n', '\r']) {
        return format!("\"{}\"", guarded.replace('"', "\"\""));
    }
    guarded
}

/// Lines of a master file (RFC 1035, section 5): the preferred choices as
/// records, the others as comments.
pub fn zone(sheets: &[Sheet]) -> String {
    sheets.iter().map(zone_one).collect()
}

fn zone_one(sheet: &Sheet) -> String {
    let mut text = format!("$ORIGIN {}.\n", sheet.zone);

    for (purpose, choices) in parts(sheet) {
        for (index, choice) in choices.iter().enumerate() {
            let is_best = index == 0;
            let lead = if is_best { heading(purpose) } else { "or" };
            let _ = writeln!(text, "; {lead}: {}", choice.words());
            for line in sheet.by(*choice) {
                let _ = writeln!(text, "{}{}", if is_best { "" } else { "; " }, zone_line(sheet, line));
            }
        }
    }
    text
}

fn zone_line(sheet: &Sheet, line: &Line) -> String {
    match line.data() {
        Some(data) => text::line(&sheet.zone, &Record { owner: line.owner.clone(), ttl: line.ttl, data }),
        None => {
            let host = line.owner.relative_to(&sheet.zone);
            format!("{host} {} IN {} {}.", line.ttl, line.editor_type(), line.value)
        }
    }
}

fn one_of(choices: &[Choice]) -> &'static str {
    if choices.len() > 1 { ", one of these" } else { "" }
}

fn capital(words: &str) -> String {
    let mut chars = words.chars();
    chars.next().map(|first| first.to_uppercase().chain(chars).collect()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    #[test]
    fn a_mail_gives_each_choice_and_both_spellings_of_the_host() {
        let text = plain(&[test::sheet("timetable.onswick.example")]);
        assert!(text.starts_with("DNS records for timetable.onswick.example, in the zone onswick.example\n"));
        for part in [
            "To bring visitors to your site, one of these",
            "  Best: a CNAME record:",
            "  Or: all of these addresses, and no others:",
            "  Host:      timetable\n  Full name: timetable.onswick.example\n",
            "Keep every mail record",
        ] {
            assert!(text.contains(part), "{part} is missing in\n{text}");
        }
    }

    #[test]
    fn zone_lines_have_the_preferred_choice_live_and_the_others_in_comments() {
        let text = zone(&[test::sheet("onswick.example")]);
        let live: Vec<_> = text.lines().filter(|l| !l.starts_with(';')).collect();
        assert_eq!(
            live,
            [
                "$ORIGIN onswick.example.",
                "_quaymark-challenge 300 IN TXT \"token=u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h\"",
                "@ 300 IN A 127.77.0.10",
                "@ 300 IN A 127.77.0.11",
                "@ 300 IN AAAA ::1",
            ]
        );
        assert!(text.contains("; @ 300 IN ALIAS onswick.edge.quaymark.example.\n"));
    }

    #[test]
    fn csv_survives_commas_quotes_and_spreadsheets() {
        assert_eq!(csv_field("a,b"), "\"a,b\"");
        assert_eq!(csv_field("say \"hi\""), "\"say \"\"hi\"\"\"");
        assert_eq!(csv_field("=1+1"), "'=1+1");
        for hidden in [" =1+1", "\t=1+1", "\u{feff}@x", "\u{ff1d}1"] {
            assert_eq!(csv_field(hidden), format!("'{hidden}"));
        }
        assert_eq!(csv_field("\r=1+1"), "\"'\r=1+1\"");
        assert_eq!(csv_field("@"), "@", "the apex is no formula");
        let text = csv(&[test::sheet("timetable.onswick.example")]);
        assert_eq!(text.lines().count(), 7);
        let row = text.lines().find(|l| l.contains("CNAME,timetable,")).expect("a row");
        assert!(
            row.starts_with("routing,a CNAME record,CNAME,timetable,timetable.onswick.example,"),
            "{row}"
        );
    }

    #[test]
    fn markdown_has_a_table_for_each_choice() {
        let text = markdown(&[test::sheet("onswick.example")]);
        assert_eq!(text.matches("| Type | Host |").count(), 6, "{text}");
    }
}

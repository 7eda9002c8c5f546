//! What people paste, each with the answer that a person would give.

use nomenta_core::name::plain::LONGEST_SHOWN;
use nomenta_core::name::subject::Subject;

/// Lines of an answer, a tab and a text.
const TABLE: &str = include_str!("pasted.tsv");

/// Most characters of a message, so that it is a line or two of a terminal.
const LONGEST_MESSAGE: usize = 2 * LONGEST_SHOWN + 180;

/// Undoes `\n`, `\\` and `\u{…}`.
fn unescaped(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once('\\') {
        out.push_str(before);
        let kind = after.chars().next().expect("an escape");
        rest = &after[1..];
        match kind {
            't' => out.push('\t'),
            'n' => out.push('\n'),
            'r' => out.push('\r'),
            'u' => {
                let (number, behind) = rest[1..].split_once('}').expect("a closing brace");
                let number = u32::from_str_radix(number, 16).expect("a number");
                out.push(char::from_u32(number).expect("a character"));
                rest = behind;
            }
            other => out.push(other),
        }
    }
    out + rest
}

fn answer(typed: &str) -> String {
    match Subject::parse(typed) {
        Ok(subject) => format!("take {subject}"),
        Err(error) => format!("refuse {}", error.code()),
    }
}

#[test]
fn every_pasted_text_is_read_as_a_person_reads_it() {
    let lines = TABLE.lines().filter(|line| !line.starts_with('#'));
    let mut wrong = Vec::new();
    let mut count = 0;

    for line in lines {
        let (want, text) = line.split_once('\t').expect("an answer and a text");
        let got = answer(&unescaped(text));
        if got != want {
            wrong.push(format!("{text}: {got}, wanted {want}"));
        }
        count += 1;
    }
    assert!(count >= 300, "{count} texts");
    assert!(wrong.is_empty(), "{} of {count}:\n{}", wrong.len(), wrong.join("\n"));
}

#[test]
fn what_is_taken_is_read_again_as_itself() {
    for line in TABLE.lines().filter_map(|line| line.strip_prefix("take ")) {
        let (name, _) = line.split_once('\t').expect("an answer and a text");
        assert_eq!(answer(name), format!("take {name}"));
    }
}

#[test]
fn messages_are_a_line_and_harmless_whatever_was_typed() {
    let texts = TABLE.lines().filter_map(|line| line.split_once('\t')).map(|(_, text)| unescaped(text));
    let long =
        ["x ".repeat(5_000), "\u{1b}]0;x\u{7}".repeat(900), format!("a{}@b.example", "\u{202e}".repeat(999))];
    for typed in texts.chain(long) {
        let Err(error) = Subject::parse(&typed) else { continue };
        let told = error.to_string();
        assert!(told.chars().count() <= LONGEST_MESSAGE, "{told}");
        assert!(!told.chars().any(char::is_control), "{told:?}");
        assert!(told.ends_with('.'), "{told}");
    }
}

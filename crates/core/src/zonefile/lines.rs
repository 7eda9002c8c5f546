//! The words and lines of a master file.

use std::ops::{Range, RangeInclusive};

use super::ZoneError;
use super::fault::Fault;
use crate::name::plain::shown;
use crate::reading::octets;

/// What some programs write before UTF-8, and no name server takes for it.
const BYTE_ORDER_MARK: char = '\u{feff}';

/// A word of the file.
#[derive(Clone, Debug)]
pub(super) struct Token<'a> {
    /// As written, without its quotation marks.
    pub raw: &'a str,
    pub quoted: bool,
    pub span: Range<usize>,
}

impl Token<'_> {
    /// With its escapes undone (RFC 1035, section 5.1).
    pub(super) fn octets(&self) -> Vec<u8> {
        let mut rest = self.raw.as_bytes();
        let mut octets = Vec::with_capacity(rest.len());

        while let Some((octet, length)) = octets::first(rest) {
            octets.push(octet);
            rest = &rest[length..];
        }
        octets
    }

    /// Whether it is this word, in capitals or not; a quoted one is a value.
    pub(super) fn is(&self, word: &str) -> bool {
        !self.quoted && self.raw.eq_ignore_ascii_case(word)
    }
}

/// What parentheses and line ends make one line.
#[derive(Debug)]
pub(super) struct Logical<'a> {
    pub tokens: Vec<Token<'a>>,
    /// Whether it begins with white space, and so without an owner.
    pub indented: bool,
    /// Whether it has parentheses, and so may go on over line ends.
    pub grouped: bool,
    pub lines: RangeInclusive<usize>,
    pub span: Range<usize>,
}

impl Logical<'_> {
    /// To read lines into, one after another.
    pub(super) fn empty() -> Self {
        Self { tokens: Vec::new(), indented: false, grouped: false, lines: 1..=1, span: 0..0 }
    }
}

/// The logical lines of a text that are not empty.
pub(super) struct Lines<'a> {
    text: &'a str,
    at: usize,
    line: usize,
}

impl<'a> Lines<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        Self { text, at: 0, line: 1 }
    }

    /// Reads the next line that is not empty; false behind the last one.
    pub(super) fn read(&mut self, line: &mut Logical<'a>) -> Result<bool, ZoneError> {
        if self.at == 0 && self.text.starts_with(BYTE_ORDER_MARK) {
            return Err(self.wrong(Fault::ByteOrderMark));
        }
        while self.at < self.text.len() {
            self.logical(line)?;
            if !line.tokens.is_empty() {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Reads up to the end of a line that is not inside parentheses.
    fn logical(&mut self, line: &mut Logical<'a>) -> Result<(), ZoneError> {
        let bytes = self.text.as_bytes();
        let start = self.at;
        let first = self.line;
        // Parentheses may stand in one another (as other readers take them).
        let mut depth = 0_usize;
        let mut opened = first;
        line.tokens.clear();
        line.indented = matches!(bytes.get(start), Some(b' ' | b'\t'));
        line.grouped = false;

        while let Some(byte) = bytes.get(self.at) {
            match byte {
                b'\n' => {
                    self.at += 1;
                    self.line += 1;
                    if depth == 0 {
                        break;
                    }
                }
                b' ' | b'\t' => self.at += 1,
                b'\r' => self.line_end()?,
                b';' => self.skip_comment(),
                b'(' => {
                    if depth == 0 {
                        opened = self.line;
                    }
                    line.grouped = true;
                    depth += 1;
                    self.at += 1;
                }
                b')' if depth == 0 => return Err(self.wrong(Fault::Unopened)),
                b')' => {
                    depth -= 1;
                    self.at += 1;
                }
                _ => line.tokens.push(self.token()?),
            }
        }

        if depth > 0 {
            return Err(ZoneError { line: opened, fault: Fault::Unclosed });
        }
        let ended = self.at > start && bytes[self.at - 1] == b'\n';
        line.lines = first..=if ended { self.line - 1 } else { self.line };
        line.span = start..self.at;
        Ok(())
    }

    /// A carriage return goes with the line feed behind it. Alone, one reader
    /// takes it for a space and the next for a line end.
    fn line_end(&mut self) -> Result<(), ZoneError> {
        let rest = &self.text.as_bytes()[self.at..];
        let others = rest.iter().position(|byte| *byte != b'\r').unwrap_or(rest.len());
        match rest.get(others) {
            None | Some(b'\n') => {
                self.at += others;
                Ok(())
            }
            Some(_) => Err(self.wrong(Fault::CarriageReturn)),
        }
    }

    fn skip_comment(&mut self) {
        let rest = &self.text.as_bytes()[self.at..];
        self.at += rest.iter().position(|b| *b == b'\n').unwrap_or(rest.len());
    }

    fn token(&mut self) -> Result<Token<'a>, ZoneError> {
        let bytes = self.text.as_bytes();
        let quoted = bytes[self.at] == b'"';
        let start = self.at;
        let from = start + usize::from(quoted);
        let mut at = from;

        while let Some(byte) = bytes.get(at).copied().filter(|byte| !ends_token(*byte, quoted)) {
            at += match byte {
                b'\\' => self.escape(at)?,
                _ => 1,
            };
        }

        if quoted && bytes.get(at) != Some(&b'"') {
            return Err(self.wrong(Fault::Unquoted));
        }
        self.at = at + usize::from(quoted);
        Ok(Token { raw: &self.text[from..at], quoted, span: start..self.at })
    }

    /// How many bytes an escape takes: three digits for an octet, or a character
    /// that means itself (RFC 1035, section 5.1).
    fn escape(&self, at: usize) -> Result<usize, ZoneError> {
        let rest = &self.text[at..];
        let next = rest.chars().nth(1).filter(|c| !matches!(c, '\n' | '\r'));
        let length = match next {
            Some(c) if c.is_ascii_digit() => octets::decimal(&rest.as_bytes()[1..]).map(|_| 4),
            Some(c) => Some(1 + c.len_utf8()),
            None => None,
        };
        length.ok_or_else(|| self.wrong(Fault::Escape(escape_shown(rest))))
    }

    fn wrong(&self, fault: Fault) -> ZoneError {
        ZoneError { line: self.line, fault }
    }
}

/// An escape that is none, up to the end of its line.
fn escape_shown(rest: &str) -> String {
    let line = rest.lines().next().unwrap_or_default();
    shown(&line.chars().take(4).collect::<String>())
}

fn ends_token(byte: u8, quoted: bool) -> bool {
    if quoted {
        return matches!(byte, b'"' | b'\n');
    }
    matches!(byte, b' ' | b'\t' | b'\r' | b'\n' | b';' | b'(' | b')' | b'"')
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> Vec<(Vec<String>, RangeInclusive<usize>, bool)> {
        let mut lines = Lines::new(text);
        let mut line = Logical::empty();
        let mut found = Vec::new();
        while lines.read(&mut line).expect("reads") {
            assert!(text.is_char_boundary(line.span.start) && text.is_char_boundary(line.span.end));
            let words = line.tokens.iter().map(|t| String::from_utf8_lossy(&t.octets()).into_owned());
            found.push((words.collect(), line.lines.clone(), line.indented));
        }
        found
    }

    fn told(text: &str) -> String {
        let mut lines = Lines::new(text);
        let mut line = Logical::empty();
        loop {
            match lines.read(&mut line) {
                Ok(true) => {}
                Ok(false) => panic!("{text:?} is read"),
                Err(error) => return error.to_string(),
            }
        }
    }

    #[test]
    fn comments_and_empty_lines_are_passed_over_and_parentheses_join() {
        let text = "; head\r\n\n a b ; c\r\nd ( e ; f (\n ( g )\n) h\nlast";
        let own = |list: &[&str]| list.iter().map(|w| (*w).to_owned()).collect::<Vec<_>>();
        assert_eq!(
            words(text),
            [
                (own(&["a", "b"]), 3..=3, true),
                (own(&["d", "e", "g", "h"]), 4..=6, false),
                (own(&["last"]), 7..=7, false),
            ]
        );
    }

    #[test]
    fn quotes_keep_what_would_end_a_word_and_escapes_are_undone() {
        let (tokens, ..) = &words(r#"a "b c;(d)" e\ f "\"g\\" \104i \ü ü"#)[0];
        assert_eq!(tokens[..4], ["a", "b c;(d)", "e f", r#""g\"#]);
        assert_eq!(tokens[4..], ["hi", "ü", "ü"]);
    }

    #[test]
    fn what_is_no_escape_and_no_line_end_is_named() {
        for (text, want) in [
            ("a\\", "\\ is no escape"),
            ("a \\999", "\\999 is no escape"),
            ("a \"\\1\"", "\\1\" is no escape"),
            ("a \\25x", "\\25x is no escape"),
            ("a\\\nb", "\\ is no escape"),
            ("a\rb\n", "carriage return"),
            ("\u{feff}a b", "byte order mark"),
        ] {
            assert!(told(text).contains(want), "{text:?}: {}", told(text));
        }
        assert_eq!(words("a \r\r\nb\r").len(), 2, "before a line end it is part of it");
    }

    #[test]
    fn a_quote_that_is_not_closed_is_no_panic() {
        for text in ["\"", "a \"b\nc\"", "a \"b\r\n"] {
            assert!(told(text).contains("quotation mark"), "{}", told(text));
        }
    }
}

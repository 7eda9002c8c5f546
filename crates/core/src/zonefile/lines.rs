//! The words and lines of a master file.

use std::ops::{Range, RangeInclusive};

use super::ZoneError;
use super::fault::Fault;
use crate::reading::octets;

/// A word of the file.
#[derive(Clone, Debug)]
pub(super) struct Token {
    /// As written, without its quotation marks.
    pub raw: String,
    pub quoted: bool,
    pub span: Range<usize>,
}

impl Token {
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
}

/// What parentheses and line ends make one line.
#[derive(Debug)]
pub(super) struct Logical {
    pub tokens: Vec<Token>,
    /// Whether it begins with white space, and so without an owner.
    pub indented: bool,
    pub lines: RangeInclusive<usize>,
    pub span: Range<usize>,
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

    /// Reads up to the end of a line that is not inside parentheses.
    fn logical(&mut self) -> Result<Logical, ZoneError> {
        let bytes = self.text.as_bytes();
        let start = self.at;
        let first = self.line;
        let indented = bytes.get(start).is_some_and(|b| matches!(b, b' ' | b'\t'));
        let mut tokens = Vec::new();
        let mut open = None;

        while let Some(byte) = bytes.get(self.at) {
            match byte {
                b'\n' => {
                    self.at += 1;
                    self.line += 1;
                    if open.is_none() {
                        break;
                    }
                }
                b' ' | b'\t' | b'\r' => self.at += 1,
                b';' => self.skip_comment(),
                b'(' => {
                    open.get_or_insert(self.line);
                    self.at += 1;
                }
                b')' if open.is_none() => return Err(self.wrong(Fault::Unopened)),
                b')' => {
                    open = None;
                    self.at += 1;
                }
                _ => tokens.push(self.token()?),
            }
        }

        if let Some(line) = open {
            return Err(ZoneError { line, fault: Fault::Unclosed });
        }
        let ended = bytes[..self.at].last() == Some(&b'\n') && self.at > start;
        let last = if ended { self.line - 1 } else { self.line };
        Ok(Logical { tokens, indented, lines: first..=last, span: start..self.at })
    }

    fn skip_comment(&mut self) {
        let rest = &self.text.as_bytes()[self.at..];
        self.at += rest.iter().position(|b| *b == b'\n').unwrap_or(rest.len());
    }

    fn token(&mut self) -> Result<Token, ZoneError> {
        let bytes = self.text.as_bytes();
        let quoted = bytes[self.at] == b'"';
        let start = self.at;
        let from = start + usize::from(quoted);
        let mut at = from;

        while let Some(byte) = bytes.get(at).copied().filter(|byte| !ends_token(*byte, quoted)) {
            // An escaped line end is none.
            at += if byte == b'\\' && bytes.get(at + 1).is_some_and(|b| *b != b'\n') { 2 } else { 1 };
        }
        // An escape may stand before a character of several octets.
        while !self.text.is_char_boundary(at) {
            at += 1;
        }

        let raw = self.text[from..at].to_owned();
        if quoted && bytes.get(at) != Some(&b'"') {
            return Err(self.wrong(Fault::Unquoted));
        }
        self.at = at + usize::from(quoted);
        Ok(Token { raw, quoted, span: start..self.at })
    }

    fn wrong(&self, fault: Fault) -> ZoneError {
        ZoneError { line: self.line, fault }
    }
}

fn ends_token(byte: u8, quoted: bool) -> bool {
    if quoted {
        return matches!(byte, b'"' | b'\n');
    }
    matches!(byte, b' ' | b'\t' | b'\r' | b'\n' | b';' | b'(' | b')' | b'"')
}

impl Iterator for Lines<'_> {
    type Item = Result<Logical, ZoneError>;

    fn next(&mut self) -> Option<Self::Item> {
        while self.at < self.text.len() {
            match self.logical() {
                Ok(line) if line.tokens.is_empty() => {}
                other => {
                    if other.is_err() {
                        self.at = self.text.len();
                    }
                    return Some(other);
                }
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> Vec<(Vec<String>, RangeInclusive<usize>, bool)> {
        let line = |l: Result<Logical, ZoneError>| {
            let Logical { tokens, indented, lines, span } = l.expect("reads");
            assert!(text.is_char_boundary(span.start) && text.is_char_boundary(span.end));
            (
                tokens.iter().map(|token| String::from_utf8_lossy(&token.octets()).into_owned()).collect(),
                lines,
                indented,
            )
        };
        Lines::new(text).map(line).collect()
    }

    #[test]
    fn comments_and_empty_lines_are_passed_over_and_parentheses_join() {
        let text = "; head\r\n\n a b ; c\r\nd ( e ; f (\n g\n) h\nlast";
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
        let (tokens, ..) = &words(r#"a "b c;(d)" e\ f "\"g\\" \104i \999 ü"#)[0];
        assert_eq!(tokens[..4], ["a", "b c;(d)", "e f", r#""g\"#]);
        assert_eq!(tokens[4..], ["hi", "999", "ü"]);
    }

    #[test]
    fn a_lone_backslash_or_quote_at_the_end_is_no_panic() {
        assert_eq!(words("a\\").len(), 1);
        for text in ["\"", "a \"b\\", "a \"b\nc\""] {
            let told = Lines::new(text).find_map(Result::err).expect(text);
            assert!(told.fault.to_string().contains("quotation mark"), "{told}");
        }
    }
}

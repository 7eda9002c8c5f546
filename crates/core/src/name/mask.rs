//! Hiding tokens in what people read, however the tokens got there: whole or in
//! pieces, in capitals, in quotation marks or spaces.

use crate::name::token::Token;

/// Letters in a row that count as a piece of a token.
const PIECE: usize = 8;

/// Hides some tokens.
///
/// ```
/// use nomenta_core::name::mask::Mask;
/// use nomenta_core::name::token::Token;
///
/// let token = Token::from_random([0xa7; 20]);
/// let mask = Mask::of([&token]);
/// assert_eq!(mask.hide("token=U6T2PJ5HU6T2PJ5H at _c"), "token=… at _c");
/// ```
#[derive(Clone, Debug, Default)]
pub struct Mask {
    tokens: Vec<Token>,
}

/// A letter that tokens are made of, and where it stands.
struct Letter {
    letter: u8,
    start: usize,
    end: usize,
}

impl Mask {
    /// Hides these.
    pub fn of<'a>(tokens: impl IntoIterator<Item = &'a Token>) -> Self {
        Self { tokens: tokens.into_iter().cloned().collect() }
    }

    /// Hides those of another mask too.
    #[must_use]
    pub fn and(mut self, other: Self) -> Self {
        self.tokens.extend(other.tokens);
        self
    }

    /// The text without any of the tokens: a whole one shows its ends, a piece
    /// nothing.
    pub fn hide(&self, text: &str) -> String {
        if self.tokens.is_empty() {
            return text.to_owned();
        }
        let mut hidden = String::with_capacity(text.len());
        let mut shown_to = 0;

        for run in runs(text) {
            let mut at = 0;
            while at < run.len() {
                let Some((length, masked)) = self.longest(&run[at..]) else {
                    at += 1;
                    continue;
                };
                hidden.push_str(&text[shown_to..run[at].start]);
                hidden.push_str(&masked);
                shown_to = run[at + length - 1].end;
                at += length;
            }
        }

        hidden.push_str(&text[shown_to..]);
        hidden
    }

    /// The longest piece of a token that these letters begin with, and what is
    /// shown in its place.
    fn longest(&self, letters: &[Letter]) -> Option<(usize, String)> {
        let mut longest = None;
        for token in &self.tokens {
            let length = longest_piece(token.as_str().as_bytes(), letters);
            if length >= PIECE && longest.as_ref().is_none_or(|(known, _)| length > *known) {
                let is_whole = length == token.as_str().len();
                longest = Some((length, if is_whole { token.masked() } else { "…".to_owned() }));
            }
        }
        longest
    }
}

fn longest_piece(token: &[u8], letters: &[Letter]) -> usize {
    let pieces = (0..token.len()).map(|from| {
        let pairs = token[from..].iter().zip(letters);
        pairs.take_while(|(wanted, letter)| **wanted == letter.letter).count()
    });
    pieces.max().unwrap_or(0)
}

/// Letters in a row, over what people and editors put between the pieces of a
/// value.
fn runs(text: &str) -> Vec<Vec<Letter>> {
    let mut runs = vec![Vec::new()];
    for (start, c) in text.char_indices() {
        match c.to_ascii_lowercase() {
            letter @ ('a'..='z' | '2'..='7') => {
                let letter = Letter { letter: letter as u8, start, end: start + 1 };
                if let Some(run) = runs.last_mut() {
                    run.push(letter);
                }
            }
            ' ' | '"' | '\'' | '\\' | '\t' | '\n' => {}
            _ => runs.push(Vec::new()),
        }
    }

    runs.retain(|run| run.len() >= PIECE);
    runs
}

/// What may be a token of any domain in a text: its letters in a row, as many as
/// a token has.
pub fn candidates(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    for run in runs(text) {
        let letters: String = run.iter().map(|letter| char::from(letter.letter)).collect();
        // A word before it, as in `token=`, is parted from it by a sign.
        found.extend((letters.len() == Token::LENGTH).then_some(letters));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    fn token() -> Token {
        Token::from_stored("abcdefghijklmnopqrstuvwxyz234567".into())
    }

    #[test]
    fn a_token_is_hidden_however_it_was_typed() {
        let mask = Mask::of([&token()]);
        for (text, want) in [
            ("token=abcdefghijklmnopqrstuvwxyz234567.", "token=abcd…4567."),
            ("ABCDEFGHIJKLMNOPQRSTUVWXYZ234567", "abcd…4567"),
            ("\"abcdefghijklmnop\" \"qrstuvwxyz234567\"", "\"abcd…4567\""),
            ("it ends in mnopqrstuvwxyz", "it ends in …"),
            ("abcdefg is too short", "abcdefg is too short"),
            ("the records at www", "the records at www"),
            ("", ""),
        ] {
            assert_eq!(mask.hide(text), want);
        }
    }

    #[test]
    fn of_two_tokens_each_is_hidden() {
        let other = Token::from_random([0xa7; 20]);
        let mask = Mask::of([&token(), &other]);
        let text = format!("{} and {}", token().as_str(), other.as_str());
        assert_eq!(mask.hide(&text), format!("{} and {}", token().masked(), other.masked()));
    }

    #[test]
    fn candidates_are_as_long_as_a_token() {
        assert_eq!(candidates("token=ABCDEFGHIJKLMNOPQRSTUVWXYZ234567"), [token().as_str()]);
        assert!(candidates("v=spf1 include:mail.example -all").is_empty());
    }
}

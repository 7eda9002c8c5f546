//! The verification token: proof that whoever edits the zone has been told a
//! secret that only this account holds for this domain.

use std::fmt;

use serde::{Deserialize, Serialize};

/// 160 random bits as 32 lower-case base32 characters (RFC 4648, section 6).
///
/// Base32 keeps the token typeable and free of case: some DNS editors turn
/// values into lower case. `Debug` masks it, so that logs never hold it.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String))]
pub struct Token(String);

/// Letters at either end by which a slip is told from another token.
const LIKE: usize = 6;

impl Token {
    /// Characters in one.
    pub const LENGTH: usize = 32;

    /// Makes a token from random bits; the caller brings the randomness.
    pub fn from_random(bits: [u8; 20]) -> Self {
        Self(data_encoding::BASE32_NOPAD.encode(&bits).to_ascii_lowercase())
    }

    /// Takes a token as it was stored.
    pub fn from_stored(text: String) -> Self {
        Self(text)
    }

    /// The bare token.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The TXT value to publish, in the `token=` form.
    pub fn txt_value(&self) -> String {
        format!("token={}", self.0)
    }

    /// Reads what was published, if it has the form of a token to the letter.
    pub fn of_txt(text: &str) -> Option<Self> {
        let bare = text.strip_prefix("token=")?;
        let sound =
            bare.len() == Self::LENGTH && bare.bytes().all(|c| matches!(c, b'a'..=b'z' | b'2'..=b'7'));
        sound.then(|| Self(bare.to_owned()))
    }

    /// Whether one was likely meant to be the other: they begin or end alike.
    pub fn is_like(&self, other: &Self) -> bool {
        let (one, other) = (self.0.as_bytes(), other.0.as_bytes());
        let is_whole = one.len() == Self::LENGTH && other.len() == Self::LENGTH;
        is_whole && (one[..LIKE] == other[..LIKE] || one.ends_with(&other[other.len() - LIKE..]))
    }

    /// First and last four characters, enough to tell two tokens apart.
    pub fn masked(&self) -> String {
        match self.0.len() {
            12.. => format!("{}…{}", &self.0[..4], &self.0[self.0.len() - 4..]),
            _ => "…".into(),
        }
    }
}

impl fmt::Debug for Token {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Token({})", self.masked())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_is_32_lower_case_characters_and_debug_hides_it() {
        let token = Token::from_random([0xa7; 20]);
        assert_eq!(token.as_str().len(), 32);
        assert!(token.as_str().bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit()));
        assert!(!format!("{token:?}").contains(token.as_str()));
        assert_eq!(token.txt_value(), format!("token={}", token.as_str()));
    }

    #[test]
    fn the_form_of_a_token_is_known_and_a_slip_is_told_from_another() {
        let token = Token::from_random([0xa7; 20]);
        assert_eq!(Token::of_txt(&token.txt_value()), Some(token.clone()));
        for text in ["token=abc", "", &token.txt_value().to_uppercase(), token.as_str()] {
            assert_eq!(Token::of_txt(text), None, "{text}");
        }

        let slip = Token::from_stored(format!("{}x", &token.as_str()[..31]));
        assert!(token.is_like(&slip) && !token.is_like(&Token::from_random([9; 20])));
    }
}

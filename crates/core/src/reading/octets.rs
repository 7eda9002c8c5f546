//! Octets as zones hold them: the strings of TXT and CAA records may be
//! anything (RFC 1035, section 3.3; RFC 8659, section 4.1).
//!
//! They are kept and compared as they are, and shown so that neither a terminal
//! nor a table nor a database stumbles over them: what is no plain text is
//! escaped as master files escape it (RFC 1035, section 5.1).

use std::fmt::{self, Write as _};

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::name::plain::is_plain;

/// Any octets, shown with escapes.
///
/// ```
/// use nomenta_core::reading::octets::Octets;
///
/// let octets = Octets::from(b"caf\xc3\xa9 \"\0\"".to_vec());
/// assert_eq!(octets.to_string(), "café \\\"\\000\\\"");
/// assert_eq!(Octets::unescaped(&octets.to_string()), octets);
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String, example = "token=abc"))]
pub struct Octets(Vec<u8>);

impl Octets {
    /// Reads text with escapes: `\DDD` for an octet, and a backslash before a
    /// character that means itself. Never fails: what is no escape stays as it
    /// is.
    pub fn unescaped(text: &str) -> Self {
        let mut rest = text.as_bytes();
        let mut octets = Vec::with_capacity(rest.len());

        while let Some((octet, length)) = first(rest) {
            octets.push(octet);
            rest = &rest[length..];
        }
        Self(octets)
    }

    /// The octets.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// As text, where that is what they are.
    pub fn as_text(&self) -> Option<&str> {
        std::str::from_utf8(&self.0).ok()
    }

    /// As text, with a mark for each octet that is none.
    pub fn to_text(&self) -> String {
        String::from_utf8_lossy(&self.0).into_owned()
    }
}

/// The octet that escaped text begins with, and how many bytes it takes there
/// (RFC 1035, section 5.1).
pub(crate) fn first(escaped: &[u8]) -> Option<(u8, usize)> {
    let byte = *escaped.first()?;
    match escaped.get(1) {
        Some(next) if byte == b'\\' => match decimal(&escaped[1..]) {
            Some(octet) => Some((octet, 4)),
            None => Some((*next, 2)),
        },
        _ => Some((byte, 1)),
    }
}

/// Three digits that make one octet.
pub(crate) fn decimal(bytes: &[u8]) -> Option<u8> {
    let digits = std::str::from_utf8(bytes.get(..3)?).ok()?;
    digits.bytes().all(|digit| digit.is_ascii_digit()).then(|| digits.parse().ok())?
}

impl fmt::Display for Octets {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for chunk in self.0.utf8_chunks() {
            for c in chunk.valid().chars() {
                match c {
                    '"' | '\\' => write!(f, "\\{c}")?,
                    c if is_plain(c) => f.write_char(c)?,
                    c => escape(c.encode_utf8(&mut [0; 4]).as_bytes(), f)?,
                }
            }
            escape(chunk.invalid(), f)?;
        }

        Ok(())
    }
}

fn escape(octets: &[u8], f: &mut fmt::Formatter<'_>) -> fmt::Result {
    octets.iter().try_for_each(|octet| write!(f, "\\{octet:03}"))
}

impl From<Vec<u8>> for Octets {
    fn from(octets: Vec<u8>) -> Self {
        Self(octets)
    }
}

impl From<&str> for Octets {
    /// Text as it is, escapes not read.
    fn from(text: &str) -> Self {
        Self(text.as_bytes().to_vec())
    }
}

impl From<String> for Octets {
    /// Text as it is, escapes not read.
    fn from(text: String) -> Self {
        Self(text.into_bytes())
    }
}

impl Serialize for Octets {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Octets {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Ok(Self::unescaped(&String::deserialize(deserializer)?))
    }
}

impl PartialEq<str> for Octets {
    fn eq(&self, other: &str) -> bool {
        self.0 == other.as_bytes()
    }
}

impl PartialEq<&str> for Octets {
    fn eq(&self, other: &&str) -> bool {
        self == *other
    }
}

impl PartialEq<String> for Octets {
    fn eq(&self, other: &String) -> bool {
        self == other.as_str()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_is_no_plain_text_is_escaped_and_read_back() {
        for (octets, shown) in [
            (&b"token=abc"[..], "token=abc"),
            (b"a\0b", "a\\000b"),
            (b"\x1b[31m", "\\027[31m"),
            (b"say \"hi\" \\", "say \\\"hi\\\" \\\\"),
            (b"\xff\xfe", "\\255\\254"),
            ("fähre".as_bytes(), "fähre"),
            ("a\u{202e}b".as_bytes(), "a\\226\\128\\174b"),
            (b"\\065", "\\\\065"),
            (b"", ""),
        ] {
            let octets = Octets::from(octets.to_vec());
            assert_eq!(octets.to_string(), shown);
            assert_eq!(Octets::unescaped(shown), octets);

            let json = serde_json::to_string(&octets).expect("writes");
            assert!(!json.contains("\\u0000"), "no database keeps it: {json}");
            assert_eq!(serde_json::from_str::<Octets>(&json).expect("reads"), octets);
        }
    }

    #[test]
    fn half_an_escape_stands_for_itself() {
        for (text, octets) in [("a\\", &b"a\\"[..]), ("\\25", b"25"), ("\\999", b"999"), ("\\x", b"x")] {
            assert_eq!(Octets::unescaped(text).as_bytes(), octets);
        }
    }
}

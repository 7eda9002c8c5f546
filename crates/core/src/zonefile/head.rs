//! What stands before a record's type: TTL and class.

use super::fault::Fault;
use super::lines::Token;
use super::values::seconds;
use crate::name::plain::shown;
use crate::reading::record;

/// Classes that no customer's zone is of (RFC 1035, section 3.2.4).
const OTHER_CLASSES: [&str; 6] = ["CH", "CS", "HS", "CLASS2", "CLASS3", "CLASS4"];
/// What stands before a type, and what follows from the type on.
pub(super) struct Head<'a> {
    pub ttl: Option<u32>,
    pub rest: &'a [Token<'a>],
}

/// Reads TTL and class, which come in either order (RFC 1035, section 5.1).
pub(super) fn head<'a>(words: &'a [Token<'a>]) -> Result<Head<'a>, Fault> {
    let mut stated = None;
    let mut has_class = false;
    let mut rest = words;

    while let [token, behind @ ..] = rest {
        if token.quoted {
            break;
        }
        if stated.is_none() && token.raw.starts_with(|c: char| c.is_ascii_digit()) {
            stated = Some(ttl(token.raw).ok_or_else(|| Fault::NoTime(shown(token.raw)))?);
        } else if !has_class && is_internet(token) {
            has_class = true;
        } else if let Some(class) = OTHER_CLASSES.iter().find(|class| token.is(class)) {
            return Err(Fault::Class((*class).to_owned()));
        } else {
            break;
        }
        rest = behind;
    }
    Ok(Head { ttl: stated, rest })
}

/// The class of the Internet, by name or number (RFC 3597, section 5).
fn is_internet(token: &Token<'_>) -> bool {
    token.is("IN") || token.is("CLASS1")
}

/// A TTL in seconds.
pub(super) fn ttl(text: &str) -> Option<u32> {
    seconds(text).map(record::ttl)
}

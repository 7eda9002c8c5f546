//! Searching names: what of a name is looked through, and what is looked for in it.
//!
//! A name is found by any part of it, as it stands in DNS or in its own script. Both
//! sides are written in ASCII, other letters by their number in capitals, which no
//! host name has: so an index of parts works in whatever language a database is.

use std::fmt::Write as _;

use super::international::mapped;
use super::subject::Subject;

/// Longest text that is looked for, in characters.
pub const LONGEST: usize = 253;

/// What a search looks through for a recorded name: the name, and after a space the
/// name in its own script, where that differs.
///
/// ```
/// use nomenta_core::name::sought;
///
/// let record = sought::of("xn--fhre-loa.onswick.example");
/// assert!(record.contains(&sought::text("FÄHRE.ons")));
/// assert!(record.contains(&sought::text("xn--fh")));
/// assert_eq!(sought::of("www.onswick.example"), "www.onswick.example");
/// ```
pub fn of(host: &str) -> String {
    let shown = Subject::kept(host).to_unicode();
    if shown == host { host.to_owned() } else { format!("{host} {}", in_ascii(&shown)) }
}

/// What is looked for when a person types this: lower case, letters put together with
/// their marks, no white space around.
pub fn text(typed: &str) -> String {
    let typed: String = typed.trim().chars().take(LONGEST).collect();
    if typed.is_ascii() { typed.to_ascii_lowercase() } else { in_ascii(&mapped(&typed)) }
}

/// Each other letter by its number, always as long.
fn in_ascii(text: &str) -> String {
    let mut ascii = String::new();
    for letter in text.chars() {
        if letter.is_ascii() {
            ascii.push(letter);
        } else {
            // Writing to a string cannot fail.
            let _ = write!(ascii, "U{:06X}", u32::from(letter));
        }
    }
    ascii
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_found_by_any_part_of_it_in_either_spelling() {
        let found = |host: &str, typed: &str| of(host).contains(&text(typed));
        for (host, typed) in [
            ("www.onswick.example", "wick"),
            ("www.onswick.example", "  WWW.Ons "),
            ("xn--fhre-loa.example", "fähre"),
            ("xn--fhre-loa.example", "fa\u{308}hre"),
            ("xn--fhre-loa.example", "ähr"),
            ("xn--fhre-loa.example", "--fhre"),
            ("*.xn--80aswg.example", "САЙТ"),
            ("xn--80aswg.example", "а"),
        ] {
            assert!(found(host, typed), "{typed} in {host}");
        }
        for (host, typed) in [
            ("www.onswick.example", "wyck"),
            ("xn--fhre-loa.example", "fahre"),
            ("xn--fhre-loa.example", "u0000e4"),
            ("xn--fhre-loa.example", "0e4"),
            ("www.onswick.example", "ä"),
        ] {
            assert!(!found(host, typed), "{typed} in {host}");
        }
    }

    #[test]
    fn no_text_is_too_odd_to_be_looked_for() {
        for typed in ["", "\0", "%_\\", "xn--", "\u{fffd}", "..", "\u{202e}"] {
            assert!(text(typed).is_ascii(), "{typed:?}");
        }
        assert!(text(&"ä".repeat(100_000)).len() <= 7 * LONGEST);
    }
}

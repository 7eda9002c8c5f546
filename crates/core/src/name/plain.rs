//! Showing what strangers wrote: a line at most, and harmless for a terminal.

use std::fmt::Write as _;

/// Most characters of a typed text that a message repeats.
pub const LONGEST_SHOWN: usize = 60;

/// Whether a character shows as itself, and changes nothing about what stands
/// around it: no control, no mark that turns the direction of writing, and
/// nothing that takes no room (Unicode, annex 9 and general category Cf).
pub fn is_plain(c: char) -> bool {
    let is_invisible = matches!(
        c,
        '\u{ad}'
            | '\u{61c}'
            | '\u{180e}'
            | '\u{200b}'..='\u{200f}'
            | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}'
            | '\u{feff}'
            | '\u{fff9}'..='\u{fffb}'
            | '\u{e0000}'..='\u{e0fff}'
    );
    !c.is_control() && !is_invisible
}

/// What was typed, for a message: cut to a line, with what does not show as
/// itself by its number.
///
/// ```
/// use nomenta_core::name::plain::shown;
///
/// assert_eq!(shown("a\u{1b}[2J"), "a\\u{1b}[2J");
/// assert_eq!(shown(&"x".repeat(100)).chars().count(), 60);
/// ```
pub fn shown(typed: &str) -> String {
    let mut text = String::new();
    for c in typed.chars().take(LONGEST_SHOWN) {
        match is_plain(c) {
            true => text.push(c),
            // Writing to a string cannot fail.
            false => drop(write!(text, "{}", c.escape_unicode())),
        }
    }

    if text.chars().count() < LONGEST_SHOWN || typed.chars().count() == text.chars().count() {
        return text;
    }
    text.chars().take(LONGEST_SHOWN - 1).chain(['…']).collect()
}

//! Showing what strangers wrote: a line at most, and harmless for a terminal.

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
    let mut length = 0;
    let mut rest = typed.chars().peekable();

    while let Some(c) = rest.next() {
        let piece = plainly(c);
        length += piece.chars().count();
        // What is cut off has a mark, which takes room too.
        if length + usize::from(rest.peek().is_some()) > LONGEST_SHOWN {
            text.push('…');
            break;
        }
        text.push_str(&piece);
    }
    text
}

/// A whole text in the same way, over as many lines as it has: nothing is cut off.
///
/// ```
/// use nomenta_core::name::plain::escaped;
///
/// assert_eq!(escaped("unknown field a\0b"), "unknown field a\\u{0}b");
/// ```
pub fn escaped(text: &str) -> String {
    text.chars().map(|c| if c == '\n' { c.to_string() } else { plainly(c) }).collect()
}

/// A character as it is, or told by its number.
fn plainly(c: char) -> String {
    if is_plain(c) { c.to_string() } else { c.escape_unicode().to_string() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_shown_has_a_line_at_most_whatever_is_escaped() {
        for length in 0..400 {
            for (one, escaped) in [("x", "x"), ("\u{12}", "\\u{12}"), ("ü", "ü")] {
                let text = shown(&one.repeat(length));
                assert!(text.chars().count() <= LONGEST_SHOWN, "{text}");
                let fits = escaped.chars().count() * length <= LONGEST_SHOWN;
                assert_eq!(text == escaped.repeat(length), fits, "{length}: {text}");
            }
        }
    }
}

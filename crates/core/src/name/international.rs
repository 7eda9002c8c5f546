//! Names in every script: mapped as browsers map them (UTS 46), and held to
//! what registries take (IDNA 2008).

use std::borrow::Cow;

use idna::uts46::{AsciiDenyList, DnsLength, Hyphens, Uts46};
use unicode_properties::{GeneralCategory, UnicodeGeneralCategory};
use unicode_script::{Script, UnicodeScript};

use super::dns::{LONGEST_LABEL, LONGEST_NAME};
use super::plain::{is_plain, shown};
use super::refused::HostnameError;

/// Octets of a label before its marks are put together with their letters: more
/// than any can have whose A-label is not too long.
const LONGEST_UNMAPPED: usize = 4 * LONGEST_LABEL;
/// What begins an A-label (RFC 5890, section 2.3.2.1).
pub(super) const ACE_PREFIX: &str = "xn--";

/// A name in lower-case ASCII, without the final dot: mapped by UTS 46
/// (non-transitional), its labels held to RFC 5892. What ASCII a host name may
/// have is not judged here.
pub(crate) fn to_ascii(host: &str) -> Result<String, HostnameError> {
    let host = host.strip_suffix('.').unwrap_or(host);
    let invalid = || HostnameError::Idna(shown(host));
    if host.len() > 4 * LONGEST_NAME {
        return Err(HostnameError::NameTooLong(host.len()));
    }
    if let Some(label) = host.split('.').find(|label| is_too_long(label)) {
        return Err(HostnameError::LabelTooLong { label: shown(label), length: label.len() });
    }

    let uts46 = Uts46::new();
    let mapped = uts46.to_ascii(host.as_bytes(), AsciiDenyList::EMPTY, Hyphens::Allow, DnsLength::Ignore);
    let ascii = mapped.map_err(|_| culprit(host).unwrap_or_else(invalid))?;

    for label in ascii.split(['.']).filter(|label| label.starts_with(ACE_PREFIX)) {
        // It was judged with the mapping.
        let unicode = idna::punycode::decode_to_string(&label[ACE_PREFIX.len()..]).ok_or_else(invalid)?;
        // What is pure ASCII inside was never to be encoded.
        if unicode.is_ascii() || has_odd_hyphens(&unicode) {
            return Err(invalid());
        }
        if let Some(found) = unregistrable(&unicode) {
            return Err(HostnameError::Unregistrable { label: shown(&unicode), found: named(found) });
        }
    }
    Ok(ascii.into_owned())
}

/// Whether a label is longer than any that could come of it: mapping takes time
/// with the square of its length.
fn is_too_long(label: &str) -> bool {
    label.len() > if label.is_ascii() { LONGEST_LABEL } else { LONGEST_UNMAPPED }
}

/// Hyphens where a U-label has none: at its ends, and two where an A-label has
/// its own (RFC 5891, section 4.2.3.1).
fn has_odd_hyphens(label: &str) -> bool {
    label.starts_with('-') || label.ends_with('-') || label.chars().skip(2).take(2).eq("--".chars())
}

/// A character, named so that it is found again.
pub(super) fn named(c: char) -> String {
    let number = format!("U+{:04X}", u32::from(c));
    if !is_plain(c) {
        return format!("an invisible character ({number})");
    }
    if c.is_ascii() { format!("the character {c}") } else { format!("the character {c} ({number})") }
}

/// Whether it is a digit, of any script.
pub(super) fn is_digit(c: char) -> bool {
    c.is_numeric() && c.general_category() == GeneralCategory::DecimalNumber
}

/// The first character of a name that no label may hold, wherever it stands.
fn culprit(host: &str) -> Option<HostnameError> {
    let mut letters = host.chars().filter(|c| !c.is_ascii());
    let found = letters.find(|c| {
        let alone = mapped(&c.to_string()).into_owned();
        unregistrable(&alone.replace(char::REPLACEMENT_CHARACTER, "")).is_some() || is_unassigned(*c)
    })?;

    let label = host.split('.').find(|label| label.contains(found)).unwrap_or(host);
    Some(HostnameError::Unregistrable { label: shown(label), found: named(found) })
}

/// As UTS 46 maps it, errors left standing.
pub(super) fn mapped(host: &str) -> Cow<'_, str> {
    Uts46::new().to_unicode(host.as_bytes(), AsciiDenyList::EMPTY, Hyphens::Allow).0
}

/// Not a character yet, or never one that is exchanged.
fn is_unassigned(c: char) -> bool {
    use GeneralCategory::{Control, Format, PrivateUse, Unassigned};
    let is_joiner = matches!(c, '\u{200c}' | '\u{200d}');
    !is_joiner && matches!(c.general_category(), Control | Format | PrivateUse | Unassigned)
}

/// The first character of a label that IDNA 2008 does not allow where it
/// stands (RFC 5892, sections 2 and 3, and appendix A).
fn unregistrable(label: &str) -> Option<char> {
    label.char_indices().find(|(at, c)| !is_allowed(label, *at, *c)).map(|(_, c)| c)
}

fn is_allowed(label: &str, at: usize, c: char) -> bool {
    match c {
        'a'..='z' | '0'..='9' | '-' => true,
        // Exceptions (section 2.6).
        'ß' | 'ς' | '\u{6fd}' | '\u{6fe}' | '\u{f0b}' | '〇' => true,
        '\u{640}' | '\u{7fa}' | '\u{302e}' | '\u{302f}' | '\u{3031}'..='\u{3035}' | '\u{303b}' => false,
        // Joiners were judged with the mapping (appendix A.1 and A.2).
        '\u{200c}' | '\u{200d}' => true,
        '·' | '\u{375}' | '\u{5f3}' | '\u{5f4}' | '・' => fits_context(label, at, c),
        '\u{660}'..='\u{669}' => !label.contains(|c| matches!(c, '\u{6f0}'..='\u{6f9}')),
        '\u{6f0}'..='\u{6f9}' => !label.contains(|c| matches!(c, '\u{660}'..='\u{669}')),
        _ => !is_old_or_ignorable(c) && is_letter_or_digit(c),
    }
}

/// Characters that are punctuation but in one place (appendix A.3 to A.7).
fn fits_context(label: &str, at: usize, c: char) -> bool {
    let before = label[..at].chars().next_back();
    let behind = label[at + c.len_utf8()..].chars().next();
    let is_of = |c: Option<char>, script| c.map(|c| c.script()) == Some(script);

    match c {
        '·' => before == Some('l') && behind == Some('l'),
        '\u{375}' => is_of(behind, Script::Greek),
        '\u{5f3}' | '\u{5f4}' => is_of(before, Script::Hebrew),
        _ => {
            label.contains(|c: char| matches!(c.script(), Script::Hiragana | Script::Katakana | Script::Han))
        }
    }
}

/// Conjoining Hangul (section 2.9), and blocks of marks (section 2.4).
fn is_old_or_ignorable(c: char) -> bool {
    matches!(
        c,
        '\u{1100}'..='\u{11ff}'
            | '\u{a960}'..='\u{a97f}'
            | '\u{d7b0}'..='\u{d7ff}'
            | '\u{20d0}'..='\u{20ff}'
            | '\u{1d100}'..='\u{1d1ff}'
            | '\u{1d200}'..='\u{1d24f}'
    )
}

/// Letters, digits and their marks (section 2.1). Capitals are mapped away
/// before.
fn is_letter_or_digit(c: char) -> bool {
    use GeneralCategory::{
        DecimalNumber, LowercaseLetter, ModifierLetter, NonspacingMark, OtherLetter, SpacingMark,
    };

    matches!(
        c.general_category(),
        LowercaseLetter | OtherLetter | DecimalNumber | ModifierLetter | NonspacingMark | SpacingMark
    )
}

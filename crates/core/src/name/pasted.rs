//! What people paste, taken apart: the name in a line of text, without the
//! marks, labels and addresses around it.

use std::borrow::Cow;

use unicode_properties::{GeneralCategory, UnicodeGeneralCategory};

use super::plain::shown;
use super::refused::HostnameError;

/// Schemes that people mistype: what follows one tells a slip from a name.
const SCHEMES: [&str; 2] = ["https", "http"];

/// The name in a pasted text, not judged yet.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Pasted<'a> {
    /// The name, without the asterisk of a wildcard.
    pub host: Cow<'a, str>,
    /// Whether `*.` stood before it.
    pub wildcard: bool,
}

/// Finds the one name that a person would read in `typed`.
pub(super) fn read(typed: &str) -> Result<Pasted<'_>, HostnameError> {
    // Most texts are a name and nothing else.
    if typed.starts_with(char::is_alphanumeric) && typed.chars().all(is_of_name) && !typed.ends_with("..") {
        return Ok(Pasted { host: typed.into(), wildcard: false });
    }

    let text = plain(typed);
    let text = link_target(&text).unwrap_or(&text);
    let word = unlabelled(one_word(text)?);
    if word.ends_with("..") && has_inner_dot(word) {
        return Err(HostnameError::CutOff(shown(word)));
    }

    let address = Address::of(word)?;
    let host = host_of(&address, word)?;
    let host = without_port(host).trim();

    match host.strip_prefix("*.") {
        Some(under) if address.has_scheme => Err(HostnameError::WildcardAddress(shown(under))),
        Some(under) => Ok(Pasted { host: under.to_owned().into(), wildcard: true }),
        None => Ok(Pasted { host: host.to_owned().into(), wildcard: false }),
    }
}

/// Without what cannot be seen, with full-width forms as the ASCII they stand
/// for, and with the dots of names that were made harmless for a mail.
fn plain(typed: &str) -> String {
    let text: String = typed.chars().filter(|c| !is_unseen(*c)).map(narrow).collect();
    // Three dots in one are the mark of what was cut off, and no part of a name.
    text.replace("[.]", ".").replace("(.)", ".").replace('…', "...")
}

/// Letters, digits and dots, hyphens between them, of which all are part of a
/// name wherever they stand.
fn is_of_name(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '.' | '-')
}

/// Marks of writing direction, and what takes no room. Joiners are kept: names
/// in some scripts need them (RFC 5892, appendix A).
fn is_unseen(c: char) -> bool {
    matches!(
        c,
        '\u{ad}'
            | '\u{61c}'
            | '\u{180e}'
            | '\u{200b}'
            | '\u{200e}'..='\u{200f}'
            | '\u{202a}'..='\u{202e}'
            | '\u{2060}'..='\u{2069}'
            | '\u{feff}'
    )
}

fn narrow(c: char) -> char {
    match c {
        '\u{3000}' => ' ',
        '\u{3002}' | '\u{ff61}' => '.',
        '\u{ff01}'..='\u{ff5e}' => char::from_u32(u32::from(c) - 0xfee0).unwrap_or(c),
        _ => c,
    }
}

/// Where a link in Markdown or HTML leads.
fn link_target(text: &str) -> Option<&str> {
    if let Some((_, rest)) = text.split_once("](") {
        return rest.split([')', ' ']).next();
    }

    let (_, rest) = text.split_once("href=")?;
    match rest.chars().next()? {
        quote @ ('"' | '\'') => rest[1..].split(quote).next(),
        _ => rest.split(['>', ' ']).next(),
    }
}

/// The one word that is a name, or is meant as one.
fn one_word(text: &str) -> Result<&str, HostnameError> {
    let words = words(text);
    let names: Vec<_> = words.iter().copied().filter(|word| has_inner_dot(word)).collect();

    match (words.as_slice(), names.as_slice()) {
        ([], _) => Err(HostnameError::Empty),
        ([word], _) => Ok(word),
        (_, [first, rest @ ..]) if !rest.is_empty() => {
            let is_same = rest.iter().all(|other| other.eq_ignore_ascii_case(first));
            if is_same { Ok(first) } else { Err(HostnameError::several(&names)) }
        }
        ([labels @ .., last], [name]) if last == name && is_label(labels, text) => Ok(name),
        ([first, ..], [name]) if first == name && is_aside(name, text) => Ok(name),
        _ => Err(HostnameError::Forbidden { label: shown(text.trim()), found: "a space".into() }),
    }
}

/// The words of a text, without what stands around them; bullets and numbers of
/// a list are none, unless there is nothing else.
fn words(text: &str) -> Vec<&str> {
    let pieces = text.split(|c: char| c.is_whitespace() || matches!(c, ',' | '、' | '،'));
    // A semicolon parts names, or is a slip in an address.
    let parted = pieces.flat_map(|piece| piece.split(if is_slip(piece) { '\0' } else { ';' }));
    let words: Vec<_> = parted.map(trimmed).filter(|word| word.contains(is_meant)).collect();

    let others: Vec<_> = words.iter().copied().filter(|word| !is_marker(word)).collect();
    if others.is_empty() { words } else { others }
}

/// Whether a character is part of an answer, right or wrong.
fn is_meant(c: char) -> bool {
    c.is_alphanumeric() || c.is_control() || matches!(c, '*' | '/' | '\\' | '@' | '_' | '#')
}

/// Whether the words before a name introduce it: `Domain name: …`, `https:// …`.
fn is_label(labels: &[&str], text: &str) -> bool {
    let Some(last) = labels.last() else { return false };
    let behind = text.rsplit_once(last).map_or("", |(_, rest)| rest);
    last.ends_with([':', '/'])
        || behind.trim_start_matches(['*', '_', '"']).trim_start().starts_with([':', '='])
}

/// Whether what follows a name stands in parentheses.
fn is_aside(name: &str, text: &str) -> bool {
    let behind = text.split_once(name).map_or("", |(_, rest)| rest);
    let aside = behind.trim_start_matches(|c: char| c.is_whitespace() || is_mark(c) && c != '(');
    aside.starts_with('(') && aside.trim_end().ends_with(')')
}

/// Bullets, arrows and the numbers of a list.
fn is_marker(word: &str) -> bool {
    let number = word.trim_end_matches('.');
    let is_number = number.len() <= 2 && number.bytes().all(|b| b.is_ascii_digit());
    is_number || !word.chars().any(|c| c.is_alphanumeric() || matches!(c, '/' | '@' | '_'))
}

fn has_inner_dot(word: &str) -> bool {
    word.trim_matches('.').contains('.')
}

/// Without quotation marks, brackets and punctuation of any script, and without
/// the asterisks and underscores of emphasis.
fn trimmed(piece: &str) -> &str {
    // A question mark before it is the tail of an address.
    let mut word = piece.trim_start_matches(|c| is_mark(c) && c != '?').trim_end_matches(is_mark);
    // A sentence may end behind the quotation mark, and a name with its dot before it.
    if let Some(before) = word.strip_suffix('.')
        && before.ends_with(is_mark)
    {
        word = before.trim_end_matches(is_mark);
    }

    for emphasis in ["**", "__", "*", "_"] {
        let inner = word.strip_prefix(emphasis).and_then(|rest| rest.strip_suffix(emphasis));
        if let Some(inner) = inner.filter(|inner| !inner.is_empty()) {
            return trimmed(inner);
        }
    }
    word
}

/// What may stand around a name, and never begins or ends one.
fn is_mark(c: char) -> bool {
    use GeneralCategory::{
        ClosePunctuation, DashPunctuation, FinalPunctuation, InitialPunctuation, MathSymbol, ModifierSymbol,
        OpenPunctuation, OtherPunctuation,
    };

    match c.general_category() {
        OpenPunctuation | ClosePunctuation | InitialPunctuation | FinalPunctuation => true,
        MathSymbol | ModifierSymbol => true,
        DashPunctuation => c != '-',
        // These have a meaning in an address.
        OtherPunctuation => !matches!(c, '.' | ':' | '@' | '/' | '*' | '#' | '%' | '&' | '\\'),
        _ => c.is_whitespace() || matches!(c, '\u{200c}' | '\u{200d}' | '❛'..='❞'),
    }
}

/// Without a label that is glued to the name: `Domain:…`, `host=…`.
fn unlabelled(word: &str) -> &str {
    let Some((label, name)) = word.split_once([':', '=']) else { return word };
    let is_label = !label.is_empty() && label.chars().all(char::is_alphabetic);
    let is_scheme = is_mail(label) || SCHEMES.iter().any(|scheme| label.eq_ignore_ascii_case(scheme));

    let is_name = has_inner_dot(name) && !name.starts_with(['/', '\\']);
    if is_label && is_name && !is_scheme { trimmed(name) } else { word }
}

fn is_mail(label: &str) -> bool {
    label.eq_ignore_ascii_case("mailto")
}

/// A URL or what is left of one, behind its scheme.
struct Address<'a> {
    has_scheme: bool,
    /// Host, port and user.
    authority: &'a str,
}

impl<'a> Address<'a> {
    fn of(word: &'a str) -> Result<Self, HostnameError> {
        let slip = || HostnameError::MistypedAddress { typed: shown(word), host: shown(after_slip(word)) };
        let scheme = word.split_once("://").filter(|(scheme, _)| !scheme.contains(['.', '@', '/']));
        let (has_scheme, rest) = match scheme {
            Some((_, rest)) if rest.starts_with(['/', '\\']) => return Err(slip()),
            Some((_, rest)) => (true, rest),
            None if is_slip(word) => return Err(slip()),
            None => (false, word.strip_prefix("//").unwrap_or(word)),
        };

        if !has_scheme && rest.starts_with(['/', '\\', '?', '#']) {
            return Err(HostnameError::Path(shown(word)));
        }
        let authority = rest.split(['/', '?', '#', '\\']).next().unwrap_or(rest);
        let address = Self { has_scheme, authority };
        match address.second_name(rest) {
            Some(second) => Err(HostnameError::several(&[authority, second])),
            None => Ok(address),
        }
    }

    /// A name behind a slash that is no path: `onswick.example/www.onswick.example`.
    fn second_name(&self, rest: &'a str) -> Option<&'a str> {
        let (_, highest) = self.authority.rsplit_once('.')?;
        let behind = rest.get(self.authority.len() + 1..).filter(|_| !self.has_scheme)?;
        let (_, other) = behind.rsplit_once('.')?;
        (!behind.contains(['/', '?', '#']) && other.eq_ignore_ascii_case(highest)).then_some(behind)
    }
}

/// Whether it begins with a scheme that lacks a colon or a slash, or has other
/// marks in their place.
fn is_slip(word: &str) -> bool {
    let Some(rest) = after_scheme(word) else { return false };
    let marks = &rest[..rest.len() - after_marks(rest).len()];
    marks.contains([':', ';', '/', '\\'])
}

fn after_slip(word: &str) -> &str {
    let rest = after_marks(after_scheme(word).unwrap_or(word));
    let rest = rest.split_once("://").map_or(rest, |(_, rest)| after_marks(rest));
    rest.split(['/', '?', '#', '\\']).next().unwrap_or(rest)
}

fn after_scheme(word: &str) -> Option<&str> {
    let is_scheme =
        |scheme: &&str| word.get(..scheme.len()).is_some_and(|head| head.eq_ignore_ascii_case(scheme));
    SCHEMES.iter().find(|scheme| is_scheme(scheme)).map(|scheme| &word[scheme.len()..])
}

fn after_marks(text: &str) -> &str {
    text.trim_start_matches([':', ';', '/', '\\', '.'])
}

/// The host of an address; a mail address has none, for all it looks like it.
fn host_of<'a>(address: &Address<'a>, word: &str) -> Result<&'a str, HostnameError> {
    let Some((user, host)) = address.authority.rsplit_once('@') else { return Ok(address.authority) };
    if address.has_scheme {
        return Ok(host);
    }

    let user = user.rsplit_once(':').filter(|(label, _)| is_mail(label)).map_or(user, |(_, user)| user);
    let names_host = has_inner_dot(host) && !user.is_empty();
    if names_host {
        return Err(HostnameError::Mail { typed: shown(word), domain: shown(host) });
    }
    Err(HostnameError::AtSign(shown(word)))
}

/// Drops `:443`; leaves IPv6 literals whole, so that they are refused as such.
fn without_port(host: &str) -> &str {
    if host.starts_with('[') || host.matches(':').count() > 1 {
        return host;
    }
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    }
}

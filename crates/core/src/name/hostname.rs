//! The customer's domain as a type.
//!
//! People paste what they see: an address-bar URL, a name in capitals, a name
//! in their own script. [`Hostname::parse`] takes all of these and keeps one
//! spelling: lower-case ASCII (RFC 5890 A-labels), no trailing dot.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::dns::{DnsName, LONGEST_LABEL, LONGEST_NAME};
use super::plain::shown;
use super::{international, pasted};

pub use super::refused::{HostnameCode, HostnameError};

/// A host name that a customer may bring: at least one label under a public
/// suffix, RFC 1123 characters, lower case, without the root dot.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String, example = "timetable.onswick.example"))]
pub struct Hostname(String);

impl Hostname {
    /// Reads what a person pasted: a URL, capitals, a trailing dot, Unicode, and
    /// the marks, labels and links that stand around a name in a text are all
    /// understood.
    ///
    /// ```
    /// use nomenta_core::name::hostname::Hostname;
    ///
    /// let name = Hostname::parse("https://Fähre.Onswick.example./lines").unwrap();
    /// assert_eq!(name.as_str(), "xn--fhre-loa.onswick.example");
    /// assert_eq!(name.to_unicode(), "fähre.onswick.example");
    ///
    /// let error = Hostname::parse("post@onswick.example").unwrap_err();
    /// assert!(error.to_string().ends_with("Type only the part after the @: onswick.example."));
    /// ```
    ///
    /// # Errors
    /// [`HostnameError`] says what was typed wrongly and what to type instead.
    pub fn parse(typed: &str) -> Result<Self, HostnameError> {
        // Most names come as they are kept.
        if is_host(typed) && !may_be_encoded(typed) {
            return Self::registrable(typed.to_owned());
        }

        let pasted = pasted::read(typed)?;
        if pasted.wildcard {
            let label = shown(&format!("*.{}", pasted.host));
            return Err(HostnameError::Forbidden { label, found: "an asterisk".into() });
        }
        Self::judged(&pasted.host)
    }

    /// A name cut out of what was pasted.
    pub(super) fn judged(host: &str) -> Result<Self, HostnameError> {
        if host.trim_end_matches('.').is_empty() {
            return Err(HostnameError::Empty);
        }
        refuse_literal(host)?;

        refuse_number(host)?;
        let ascii = international::to_ascii(host)?;
        refuse_number(&ascii)?;
        check_labels(&ascii)?;
        Self::registrable(ascii)
    }

    fn registrable(ascii: String) -> Result<Self, HostnameError> {
        match psl::domain_str(&ascii) {
            Some(_) => Ok(Self(ascii)),
            None => Err(HostnameError::PublicSuffix(ascii)),
        }
    }

    /// A name as it was recorded: never refused, so that a record that was taken
    /// in under other rules can still be read and removed.
    pub fn kept(name: impl Into<String>) -> Self {
        Self(name.into())
    }

    /// Lower-case ASCII without the root dot.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The name in the customer's own script, for showing.
    pub fn to_unicode(&self) -> String {
        let (shown, result) = idna::domain_to_unicode(&self.0);
        if result.is_ok() { shown } else { self.0.clone() }
    }

    /// The other name of a pair: with `www.` before it, or without.
    ///
    /// # Errors
    /// As for [`parse`](Self::parse), if there is no such name.
    pub fn counterpart(&self) -> Result<Self, HostnameError> {
        match self.0.strip_prefix("www.") {
            Some(bare) => Self::parse(bare),
            None => Self::parse(&format!("www.{}", self.0)),
        }
    }

    /// The registered domain: one label under the public suffix.
    pub fn registered(&self) -> &str {
        psl::domain_str(&self.0).unwrap_or(&self.0)
    }
}

/// Whether a label may be an A-label, which is looked into (RFC 5890, section
/// 2.3.1).
fn may_be_encoded(name: &str) -> bool {
    name.as_bytes().windows(2).any(|pair| pair == b"--")
}

/// Whether a text is a host name already, letter by letter as it is kept.
fn is_host(typed: &str) -> bool {
    let mut length = 0;
    let mut previous = b'.';

    for byte in typed.bytes() {
        match byte {
            b'.' if length == 0 || previous == b'-' => return false,
            b'.' => length = 0,
            b'-' if length == 0 => return false,
            b'a'..=b'z' | b'0'..=b'9' | b'-' => length += 1,
            _ => return false,
        }
        if length > LONGEST_LABEL {
            return false;
        }
        previous = byte;
    }

    length > 0
        && previous != b'-'
        && typed.len() <= LONGEST_NAME
        && !is_number(&typed[typed.len() - length..])
}

/// Refuses IPv6 addresses, with port, brackets or zone (RFC 4007).
fn refuse_literal(host: &str) -> Result<(), HostnameError> {
    // Without a colon it ends in a number, if it is one.
    if !host.contains(':') {
        return Ok(());
    }

    let inner = host.trim_start_matches('[').split([']', '%']).next().unwrap_or(host);
    match IpAddr::from_str(inner.trim_end_matches('.')) {
        Ok(_) => Err(HostnameError::Address(shown(host))),
        Err(_) => Ok(()),
    }
}

/// Refuses names that end in a number: every program reads them as an IPv4
/// address, in whatever notation (URL standard, section 3.5), and no such
/// top-level domain exists (RFC 3696, section 2).
fn refuse_number(host: &str) -> Result<(), HostnameError> {
    let last = last_label(host);
    // Digits written from the right are an error of their own once mapped.
    let is_meant = if last.is_ascii() { is_number(last) } else { last.chars().all(international::is_digit) };
    if is_meant { Err(HostnameError::Address(shown(host))) } else { Ok(()) }
}

/// The highest label of a name, the root's aside.
fn last_label(name: &str) -> &str {
    let name = name.strip_suffix('.').unwrap_or(name);
    // Names are short, and searching in long texts has a price.
    let dot = name.bytes().rposition(|byte| byte == b'.');
    dot.map_or(name, |dot| &name[dot + 1..])
}

/// Whether a label is read as a number: decimal, octal or hexadecimal.
fn is_number(label: &str) -> bool {
    match label.strip_prefix("0x").or_else(|| label.strip_prefix("0X")) {
        Some(digits) => digits.bytes().all(|b| b.is_ascii_hexdigit()),
        None => !label.is_empty() && label.bytes().all(|b| b.is_ascii_digit()),
    }
}

fn check_labels(ascii: &str) -> Result<(), HostnameError> {
    if is_host(ascii) {
        return Ok(());
    }
    if ascii.is_empty() {
        return Err(HostnameError::Empty);
    }
    for label in ascii.split('.') {
        check_label(label)?;
    }
    match ascii.len() {
        0..=LONGEST_NAME => Ok(()),
        length => Err(HostnameError::NameTooLong(length)),
    }
}

fn check_label(label: &str) -> Result<(), HostnameError> {
    if label.is_empty() {
        return Err(HostnameError::EmptyLabel);
    }
    if label.len() > LONGEST_LABEL {
        return Err(HostnameError::LabelTooLong { label: shown(label), length: label.len() });
    }

    match forbidden_in(label) {
        Some(found) => Err(HostnameError::Forbidden { label: shown(label), found }),
        None => Ok(()),
    }
}

/// What of a label a host name may not have, in words (RFC 1123, section 2.1).
fn forbidden_in(label: &str) -> Option<String> {
    match label.chars().find(|c| !c.is_ascii_alphanumeric() && *c != '-') {
        Some('_') => Some("an underscore".into()),
        Some('*') => Some("an asterisk".into()),
        Some(c) if c.is_whitespace() => Some("a space".into()),
        Some(c) => Some(international::named(c)),
        None if label.starts_with('-') || label.ends_with('-') => Some("a hyphen at its end".into()),
        None => None,
    }
}

impl fmt::Display for Hostname {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl FromStr for Hostname {
    type Err = HostnameError;
    fn from_str(typed: &str) -> Result<Self, Self::Err> {
        Self::parse(typed)
    }
}

impl From<String> for Hostname {
    /// As [`Hostname::kept`]: for what was recorded.
    fn from(name: String) -> Self {
        Self::kept(name)
    }
}

impl From<&Hostname> for DnsName {
    fn from(name: &Hostname) -> Self {
        Self::new(&name.0)
    }
}

impl From<Hostname> for String {
    fn from(name: Hostname) -> Self {
        name.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pair_is_a_name_with_www_and_without() {
        let other = |host: &str| Hostname::parse(host).expect("a name").counterpart().map(|h| h.to_string());
        assert_eq!(other("onswick.example").as_deref(), Ok("www.onswick.example"));
        assert_eq!(other("www.onswick.example").as_deref(), Ok("onswick.example"));
        let above = other("www.example").expect_err("nothing is registered there");
        assert_eq!(above.code(), HostnameCode::PublicSuffix);
    }

    #[test]
    fn what_people_paste_becomes_one_spelling() {
        let want = "timetable.onswick.example";
        for typed in [
            "timetable.onswick.example",
            "  Timetable.Onswick.Example. ",
            "https://timetable.onswick.example/",
            "http://timetable.onswick.example:8080/lines?x=1#top",
            "https://user:pw@timetable.onswick.example/a",
            "//timetable.onswick.example",
            "timetable.onswick.example:443",
            "<https://timetable.onswick.example>",
            "timetable.onswick.example/path@home",
        ] {
            assert_eq!(Hostname::parse(typed).expect(typed).as_str(), want, "{typed}");
        }
    }

    #[test]
    fn unicode_is_kept_as_a_labels_and_shown_in_its_script() {
        let name = Hostname::parse("Fähre.Øywind.example").expect("valid");
        assert_eq!(name.as_str(), "xn--fhre-loa.xn--ywind-uua.example");
        assert_eq!(name.to_unicode(), "fähre.øywind.example");
        assert_eq!(Hostname::parse("straße.example").expect("valid").to_unicode(), "straße.example");
    }

    #[test]
    fn each_wrong_input_has_its_own_answer() {
        let long_label = format!("{}.example", "a".repeat(64));
        let long_name = format!("{}example", "abcdefghi.".repeat(26));
        for (typed, code) in [
            ("", "empty"),
            ("   ", "empty"),
            ("https://", "empty"),
            ("192.0.2.7", "ip-address"),
            ("http://[2001:db8::1]/", "ip-address"),
            ("2001:db8::1", "ip-address"),
            ("post@onswick.example", "mail-address"),
            ("example", "public-suffix"),
            ("co.uk", "public-suffix"),
            (&long_label, "label-too-long"),
            (&long_name, "name-too-long"),
            ("www..onswick.example", "empty-label"),
            (".onswick.example", "empty-label"),
            ("my_site.onswick.example", "forbidden-character"),
            ("my site.onswick.example", "forbidden-character"),
            ("*.onswick.example", "forbidden-character"),
            ("-www.onswick.example", "forbidden-character"),
            ("xn--a.example", "not-idna"),
        ] {
            let error = Hostname::parse(typed).expect_err(typed);
            assert_eq!(error.code().as_str(), code, "{typed}: {error}");
        }
    }

    #[test]
    fn messages_say_what_to_type_instead() {
        let error = Hostname::parse("post@onswick.example").expect_err("mail");
        assert!(error.to_string().contains("Type only the part after the @: onswick.example."));
    }
}

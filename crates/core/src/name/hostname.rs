//! The customer's domain as a type.
//!
//! People paste what they see: an address-bar URL, a name in capitals, a name
//! in their own script. [`Hostname::parse`] takes all of these and keeps one
//! spelling: lower-case ASCII (RFC 5890 A-labels), no trailing dot.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::dns::{DnsName, LONGEST_LABEL, LONGEST_NAME};
use super::plain::shown;
use super::platform::Platform;
use super::{international, pasted};

/// A host name that a customer may bring: at least one label under a public
/// suffix, RFC 1123 characters, lower case, without the root dot.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String, example = "timetable.onswick.example"))]
pub struct Hostname(String);

/// Why a typed name is not taken, and what to type instead.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum HostnameError {
    /// Nothing was typed.
    #[error("No name was given. Type the domain that visitors will open, such as www.onswick.example.")]
    Empty,
    /// An IPv4 or IPv6 address was typed.
    #[error("{0} is an IP address, or is read as one. Type the domain name that visitors will open instead.")]
    Address(String),
    /// A mail address was typed.
    #[error("{typed} is a mail address. Type only the part after the @: {domain}.")]
    Mail {
        /// What was typed.
        typed: String,
        /// The part behind the at sign.
        domain: String,
    },
    /// An at sign without a mail address.
    #[error(
        "{0} is no name: an @ stands for the zone itself in a DNS editor, and parts a mail address. Type the name that visitors will open, such as onswick.example."
    )]
    AtSign(String),
    /// A URL whose scheme is mistyped.
    #[error("{typed} is no address that a browser opens: https:// is mistyped. Type only the name: {host}.")]
    MistypedAddress {
        /// What was typed.
        typed: String,
        /// What seems to be the name.
        host: String,
    },
    /// A path without a host.
    #[error("{0} is a path, the part of an address behind the name. Type the name that stands before it.")]
    Path(String),
    /// A wildcard with a scheme before it.
    #[error("An address with https:// opens one name, not every name under one. Type *.{0} alone.")]
    WildcardAddress(String),
    /// More names than one.
    #[error("{first} and {second} are several names. Take them in one by one.")]
    Several {
        /// One of them.
        first: String,
        /// Another.
        second: String,
    },
    /// The name is a public suffix, under which others register.
    #[error(
        "{0} is a public suffix, under which others register names. Type the name registered under it, such as onswick.{0}."
    )]
    PublicSuffix(String),
    /// A label is longer than 63 octets (RFC 1035, section 2.3.4).
    #[error("The part {label} is {length} characters long; a part between dots may have 63. Shorten it.")]
    LabelTooLong {
        /// The offending label, cut for display.
        label: String,
        /// Its length in octets.
        length: usize,
    },
    /// The name is longer than 253 octets (RFC 1035, section 2.3.4).
    #[error("The name is {0} characters long; a domain name may have 253. Shorten it.")]
    NameTooLong(usize),
    /// The end of the name is missing.
    #[error("{0} ends in dots: the rest of the name is missing. Copy the whole of it.")]
    CutOff(String),
    /// Two dots stand side by side, or the name starts with one.
    #[error("There is an empty part between two dots. Remove the extra dot.")]
    EmptyLabel,
    /// A character that host names may not have (RFC 1123, section 2.1).
    #[error(
        "The part {label} has {found}, which a domain name may not have. Use letters, digits and hyphens, with no hyphen at either end."
    )]
    Forbidden {
        /// The offending label.
        label: String,
        /// The character in words.
        found: String,
    },
    /// A character outside of IDNA 2008 (RFC 5892, section 3).
    #[error(
        "The part {label} has {found}, which no registry takes in a domain name. Use letters and digits of the script that the name is written in."
    )]
    Unregistrable {
        /// The offending label, cut for display.
        label: String,
        /// The character, with its number.
        found: String,
    },
    /// UTS 46 refuses the name.
    #[error("{0} is not a valid internationalised name. Copy it again from the address bar of a browser.")]
    Idna(String),
    /// The name lies under the platform's own zone.
    #[error("{name} lies under {zone}, which belongs to the platform. Type a domain of the customer's own.")]
    PlatformZone {
        /// What was typed.
        name: String,
        /// The platform's zone.
        zone: String,
    },
    /// The name is reserved for a special use (RFC 6761).
    #[error(
        "{name} lies under {suffix}, which is {purpose} ({origin}): nobody registers a name there, and no public CA issues certificates for one. Type a registered domain."
    )]
    SpecialUse {
        /// What was typed.
        name: String,
        /// The reserved name.
        suffix: &'static str,
        /// What it is reserved for.
        purpose: &'static str,
        /// Where that is written.
        origin: &'static str,
    },
}

crate::spelled! {
    /// Stable words for why a typed name is not taken.
    pub enum HostnameCode: "reason" {
        /// [`HostnameError::Empty`].
        Empty = "empty",
        /// [`HostnameError::Address`].
        Address = "ip-address",
        /// [`HostnameError::Mail`].
        Mail = "mail-address",
        /// [`HostnameError::AtSign`].
        AtSign = "at-sign",
        /// [`HostnameError::MistypedAddress`].
        MistypedAddress = "mistyped-address",
        /// [`HostnameError::Path`].
        Path = "path",
        /// [`HostnameError::WildcardAddress`].
        WildcardAddress = "wildcard-address",
        /// [`HostnameError::Several`].
        Several = "several-names",
        /// [`HostnameError::PublicSuffix`].
        PublicSuffix = "public-suffix",
        /// [`HostnameError::LabelTooLong`].
        LabelTooLong = "label-too-long",
        /// [`HostnameError::NameTooLong`].
        NameTooLong = "name-too-long",
        /// [`HostnameError::CutOff`].
        CutOff = "cut-off",
        /// [`HostnameError::EmptyLabel`].
        EmptyLabel = "empty-label",
        /// [`HostnameError::Forbidden`].
        Forbidden = "forbidden-character",
        /// [`HostnameError::Unregistrable`].
        Unregistrable = "unregistrable-character",
        /// [`HostnameError::Idna`].
        Idna = "not-idna",
        /// [`HostnameError::PlatformZone`].
        PlatformZone = "platform-zone",
        /// [`HostnameError::SpecialUse`].
        SpecialUse = "special-use",
    }
}

impl HostnameError {
    /// A stable word for machines.
    pub fn code(&self) -> HostnameCode {
        match self {
            Self::Empty => HostnameCode::Empty,
            Self::Address(_) => HostnameCode::Address,
            Self::Mail { .. } => HostnameCode::Mail,
            Self::AtSign(_) => HostnameCode::AtSign,
            Self::MistypedAddress { .. } => HostnameCode::MistypedAddress,
            Self::Path(_) => HostnameCode::Path,
            Self::WildcardAddress(_) => HostnameCode::WildcardAddress,
            Self::Several { .. } => HostnameCode::Several,
            Self::PublicSuffix(_) => HostnameCode::PublicSuffix,
            Self::LabelTooLong { .. } => HostnameCode::LabelTooLong,
            Self::NameTooLong(_) => HostnameCode::NameTooLong,
            Self::CutOff(_) => HostnameCode::CutOff,
            Self::EmptyLabel => HostnameCode::EmptyLabel,
            Self::Forbidden { .. } => HostnameCode::Forbidden,
            Self::Unregistrable { .. } => HostnameCode::Unregistrable,
            Self::Idna(_) => HostnameCode::Idna,
            Self::PlatformZone { .. } => HostnameCode::PlatformZone,
            Self::SpecialUse { .. } => HostnameCode::SpecialUse,
        }
    }

    /// Two of several names, for a message.
    pub(super) fn several(names: &[&str]) -> Self {
        let nth = |index: usize| names.get(index).map(|name| shown(name)).unwrap_or_default();
        Self::Several { first: nth(0), second: nth(1) }
    }
}

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

    /// As [`parse`](Self::parse), and refuses the platform's own names and those
    /// that it takes in nowhere: see [`Platform::admits`].
    ///
    /// # Errors
    /// As for `parse`, [`HostnameError::PlatformZone`] and
    /// [`HostnameError::SpecialUse`].
    pub fn parse_for(typed: &str, platform: &Platform) -> Result<Self, HostnameError> {
        let name = Self::parse(typed)?;
        platform.admits(&name)?;
        Ok(name)
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
    let is_meant = match last.is_ascii() {
        true => is_number(last),
        // Digits written from the right are an error of their own once mapped.
        false => last.chars().all(international::is_digit),
    };
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

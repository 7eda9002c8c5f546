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

use super::dns::{self, DnsName, LONGEST_LABEL};

/// A host name that a customer may bring: at least one label under a public
/// suffix, RFC 1123 characters, lower case, without the root dot.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String, example = "timetable.onswick.example"))]
pub struct Hostname(String);

/// Why a typed name is not taken, and what to type instead.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum HostnameError {
    /// Nothing was typed.
    #[error("No name was given. Type the domain that visitors will open, such as www.onswick.example.")]
    Empty,
    /// An IPv4 or IPv6 address was typed.
    #[error("{0} is an IP address. Type the domain name that visitors will open instead.")]
    Address(IpAddr),
    /// A mail address was typed.
    #[error("{typed} is a mail address. Type only the part after the @: {domain}.")]
    Mail {
        /// What was typed.
        typed: String,
        /// The part behind the at sign.
        domain: String,
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
    /// UTS 46 or IDNA 2008 refuses the name.
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
        /// [`HostnameError::PublicSuffix`].
        PublicSuffix = "public-suffix",
        /// [`HostnameError::LabelTooLong`].
        LabelTooLong = "label-too-long",
        /// [`HostnameError::NameTooLong`].
        NameTooLong = "name-too-long",
        /// [`HostnameError::EmptyLabel`].
        EmptyLabel = "empty-label",
        /// [`HostnameError::Forbidden`].
        Forbidden = "forbidden-character",
        /// [`HostnameError::Idna`].
        Idna = "not-idna",
        /// [`HostnameError::PlatformZone`].
        PlatformZone = "platform-zone",
    }
}

impl HostnameError {
    /// A stable word for machines.
    pub fn code(&self) -> HostnameCode {
        match self {
            Self::Empty => HostnameCode::Empty,
            Self::Address(_) => HostnameCode::Address,
            Self::Mail { .. } => HostnameCode::Mail,
            Self::PublicSuffix(_) => HostnameCode::PublicSuffix,
            Self::LabelTooLong { .. } => HostnameCode::LabelTooLong,
            Self::NameTooLong(_) => HostnameCode::NameTooLong,
            Self::EmptyLabel => HostnameCode::EmptyLabel,
            Self::Forbidden { .. } => HostnameCode::Forbidden,
            Self::Idna(_) => HostnameCode::Idna,
            Self::PlatformZone { .. } => HostnameCode::PlatformZone,
        }
    }
}

impl Hostname {
    /// Reads what a person pasted: surrounding spaces, a scheme, user, port,
    /// path, capitals, a trailing dot and Unicode are all understood.
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
        let host = host_part(typed)?;
        if host.is_empty() {
            return Err(HostnameError::Empty);
        }
        refuse_address(host)?;

        let ascii = to_ascii(host)?;
        check_labels(&ascii)?;
        if psl::domain_str(&ascii).is_none() {
            return Err(HostnameError::PublicSuffix(ascii));
        }
        Ok(Self(ascii))
    }

    /// As [`parse`](Self::parse), and refuses names under the platform's zone.
    ///
    /// # Errors
    /// As for `parse`, and [`HostnameError::PlatformZone`].
    pub fn parse_for(typed: &str, platform_zone: &str) -> Result<Self, HostnameError> {
        let name = Self::parse(typed)?;
        if dns::is_within(&name.0, platform_zone) {
            return Err(HostnameError::PlatformZone { name: name.0, zone: platform_zone.to_owned() });
        }
        Ok(name)
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

/// Cuts a URL down to its host; a bare name passes unchanged.
fn host_part(typed: &str) -> Result<&str, HostnameError> {
    let trimmed = typed.trim().trim_matches(['"', '\'', '<', '>', '`']).trim();
    let after_scheme = trimmed.split_once("://").map(|(_, rest)| rest);
    let rest = after_scheme.unwrap_or_else(|| trimmed.strip_prefix("//").unwrap_or(trimmed));
    let authority = rest.split(['/', '?', '#', '\\']).next().unwrap_or(rest);

    let host = match authority.rsplit_once('@') {
        Some((_, host)) if after_scheme.is_some() => host,
        Some((_, host)) => {
            return Err(HostnameError::Mail { typed: authority.to_owned(), domain: host.to_owned() });
        }
        None => authority,
    };
    Ok(without_port(host).trim())
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

fn refuse_address(host: &str) -> Result<(), HostnameError> {
    let literal = host.trim_start_matches('[').split(']').next().unwrap_or(host);
    match IpAddr::from_str(literal.trim_end_matches('.')) {
        Ok(address) => Err(HostnameError::Address(address)),
        Err(_) => Ok(()),
    }
}

/// UTS 46 mapping, non-transitional, then A-labels. Plain ASCII skips IDNA so
/// that lengths and characters get their own messages.
fn to_ascii(host: &str) -> Result<String, HostnameError> {
    let bare = host.trim_end_matches(['.', '。']);
    if bare.is_ascii() && !bare.to_ascii_lowercase().split('.').any(|l| l.starts_with("xn--")) {
        return Ok(bare.to_ascii_lowercase());
    }

    idna::domain_to_ascii_strict(bare)
        .or_else(|_| idna::domain_to_ascii(bare))
        .map_err(|_| HostnameError::Idna(host.to_owned()))
}

fn check_labels(ascii: &str) -> Result<(), HostnameError> {
    if ascii.is_empty() {
        return Err(HostnameError::Empty);
    }
    for label in ascii.split('.') {
        check_label(label)?;
    }
    match ascii.len() {
        0..=253 => Ok(()),
        length => Err(HostnameError::NameTooLong(length)),
    }
}

fn check_label(label: &str) -> Result<(), HostnameError> {
    if label.is_empty() {
        return Err(HostnameError::EmptyLabel);
    }
    if label.len() > LONGEST_LABEL {
        let shown: String = label.chars().take(16).chain("…".chars()).collect();
        return Err(HostnameError::LabelTooLong { label: shown, length: label.len() });
    }

    match forbidden_in(label) {
        Some(found) => Err(HostnameError::Forbidden { label: label.to_owned(), found }),
        None => Ok(()),
    }
}

/// What of a label a host name may not have, in words (RFC 1123, section 2.1).
fn forbidden_in(label: &str) -> Option<String> {
    match label.chars().find(|c| !c.is_ascii_alphanumeric() && *c != '-') {
        Some('_') => Some("an underscore".into()),
        Some('*') => Some("an asterisk".into()),
        Some(c) if c.is_whitespace() => Some("a space".into()),
        Some(c) => Some(format!("the character {c}")),
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

impl TryFrom<String> for Hostname {
    type Error = HostnameError;
    fn try_from(typed: String) -> Result<Self, Self::Error> {
        Self::parse(&typed)
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
    fn the_platforms_own_names_are_refused() {
        let refuse = |typed| Hostname::parse_for(typed, "quaymark.example").expect_err(typed).code().as_str();
        assert_eq!(refuse("onswick.quaymark.example"), "platform-zone");
        assert_eq!(refuse("Quaymark.example"), "platform-zone");
        assert!(Hostname::parse_for("notquaymark.example", "quaymark.example").is_ok());
    }

    #[test]
    fn messages_say_what_to_type_instead() {
        let error = Hostname::parse("post@onswick.example").expect_err("mail");
        assert!(error.to_string().contains("Type only the part after the @: onswick.example."));
    }
}

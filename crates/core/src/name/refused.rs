//! Why a typed name is not taken, and what to type instead.

use thiserror::Error;

use super::plain::shown;

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
    /// The platform's operator takes no claim of it.
    #[error(
        "{name} lies under {zone}, which is reserved on this platform. Ask its staff if the name is yours."
    )]
    Reserved {
        /// What was typed.
        name: String,
        /// The reserved name.
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
        /// [`HostnameError::Reserved`].
        Reserved = "reserved",
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
            Self::Reserved { .. } => HostnameCode::Reserved,
            Self::SpecialUse { .. } => HostnameCode::SpecialUse,
        }
    }

    /// Two of several names, for a message.
    pub(super) fn several(names: &[&str]) -> Self {
        let nth = |index: usize| names.get(index).map(|name| shown(name)).unwrap_or_default();
        Self::Several { first: nth(0), second: nth(1) }
    }
}

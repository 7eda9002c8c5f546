//! The lines of a sheet: what each is for, which choice it belongs to, and what
//! goes into which box.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::reading::record::{RecordData, RecordType};

crate::spelled! {
    /// What a line is for.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Purpose: "purpose" {
        /// Proves that the account controls the domain.
        Ownership = "ownership",
        /// Brings visitors to the platform.
        Routing = "routing",
        /// Lets the platform prove control to the certification authority.
        Certificate = "certificate",
    }
}

crate::spelled! {
    /// What a customer may choose between for one purpose; one choice is enough,
    /// and it is to be met whole.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(as = Way))]
    pub enum Choice: "choice" {
        /// The token in a TXT record at the challenge label.
        ChallengeTxt = "challenge-txt",
        /// A CNAME at the challenge label to a name that holds the token.
        ChallengeCname = "challenge-cname",
        /// The token in a TXT record at the host itself.
        HostTxt = "host-txt",
        /// A CNAME to the canonical host.
        Cname = "cname",
        /// Every address of the ingress, and no other.
        Addresses = "addresses",
        /// An alias at the apex, which the DNS editor turns into addresses.
        Alias = "alias",
        /// The whole zone at the platform's name servers.
        Delegation = "delegation",
        /// A CNAME of the CA's own challenge label (RFC 8555, section 8.4).
        AcmeCname = "acme-cname",
    }
}

impl Choice {
    /// The heading of this choice.
    pub fn words(self) -> &'static str {
        match self {
            Self::ChallengeTxt => "a TXT record at the challenge label",
            Self::ChallengeCname => "a CNAME at the challenge label",
            Self::HostTxt => "a TXT record at the host, where the editor refuses underscores",
            Self::Cname => "a CNAME record",
            Self::Addresses => "all of these addresses, and no others",
            Self::Alias => "an alias at the apex, where the editor offers one",
            Self::Delegation => "the whole zone at these name servers, set at the registrar",
            Self::AcmeCname => "a CNAME for the certificate",
        }
    }
}

/// A type as DNS editors name it. An alias at the apex has no type of its own in
/// DNS, and one in many editors; and a zone may hold types that Nomenta does not
/// judge.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub enum EditorType {
    /// A type of DNS.
    Of(RecordType),
    /// An alias that the editor turns into addresses.
    Alias,
    /// A type that is not judged, by its name.
    Other(String),
}

impl EditorType {
    /// As editors show it.
    pub fn as_str(&self) -> &str {
        match self {
            Self::Of(rtype) => rtype.as_str(),
            Self::Alias => "ALIAS",
            Self::Other(name) => name,
        }
    }

    /// The type of a record.
    pub fn of(data: &RecordData) -> Self {
        match data.rtype() {
            Some(rtype) => Self::Of(rtype),
            None => Self::Other(data.type_name().to_owned()),
        }
    }
}

impl fmt::Display for EditorType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl From<RecordType> for EditorType {
    fn from(rtype: RecordType) -> Self {
        Self::Of(rtype)
    }
}

impl From<String> for EditorType {
    fn from(name: String) -> Self {
        match name.parse() {
            Ok(rtype) => Self::Of(rtype),
            Err(_) if name == Self::Alias.as_str() => Self::Alias,
            Err(_) => Self::Other(name),
        }
    }
}

impl From<EditorType> for String {
    fn from(rtype: EditorType) -> Self {
        rtype.as_str().to_owned()
    }
}

/// One record to publish.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Line {
    /// What it is for.
    pub purpose: Purpose,
    /// The choice that it belongs to; all lines of one choice go together.
    #[serde(rename = "way")]
    pub choice: Choice,
    /// Record type.
    pub rtype: RecordType,
    /// Full owner name.
    pub owner: DnsName,
    /// What goes into the host box; the short host where the editor is unknown.
    pub host_field: String,
    /// The value, as compared with what is read.
    pub value: String,
    /// What goes into the value box.
    pub value_field: String,
    /// Seconds.
    pub ttl: u32,
    /// Whether there is no other choice for this purpose.
    pub required: bool,
}

impl Line {
    /// Whether a record read at the owner is the one this line asks for.
    pub fn is_met_by(&self, data: &RecordData) -> bool {
        if data.rtype() != Some(self.rtype) {
            return false;
        }
        match data {
            RecordData::A(address) => self.value == address.to_string(),
            RecordData::Aaaa(address) => self.value == address.to_string(),
            RecordData::Cname(name) | RecordData::Ns(name) => self.value == name.as_str(),
            RecordData::Txt(text) => *text == self.value,
            _ => false,
        }
    }

    /// The type as DNS editors name it.
    pub fn editor_type(&self) -> EditorType {
        if self.choice == Choice::Alias { EditorType::Alias } else { self.rtype.into() }
    }

    /// The record as data; `None` for what is no record of this zone.
    pub fn data(&self) -> Option<RecordData> {
        if matches!(self.choice, Choice::Alias | Choice::Delegation) {
            return None;
        }
        match self.rtype {
            RecordType::A => self.value.parse().ok().map(RecordData::A),
            RecordType::Aaaa => self.value.parse().ok().map(RecordData::Aaaa),
            RecordType::Cname => Some(RecordData::Cname(self.value.as_str().into())),
            RecordType::Txt => Some(RecordData::Txt(self.value.as_str().into())),
            _ => None,
        }
    }
}

#[cfg(feature = "schema")]
mod schema {
    use utoipa::openapi::{ObjectBuilder, RefOr, Schema, Type};

    use super::EditorType;

    impl utoipa::PartialSchema for EditorType {
        fn schema() -> RefOr<Schema> {
            let described = "What an editor shows as the type of a record, like CNAME or ALIAS.";
            ObjectBuilder::new().schema_type(Type::String).description(Some(described)).into()
        }
    }

    impl utoipa::ToSchema for EditorType {}
}

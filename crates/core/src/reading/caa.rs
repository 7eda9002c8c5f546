//! What a CAA set allows (RFC 8659), with the parameters that bind it to an
//! account and to validation methods (RFC 8657).
//!
//! Values are read by the grammar to the letter: one that does not fit restricts
//! like one that names nobody (RFC 8659, section 4.2).

use crate::name::plain::shown;
use crate::reading::method::Method;
use crate::reading::octets::Octets;
use crate::reading::record::{Record, RecordData};

/// Set in the flags of a property that must be understood (RFC 8659, section 4.1).
const CRITICAL: u8 = 0x80;
const ISSUE: &str = "issue";
const ISSUEWILD: &str = "issuewild";
const UNDERSTOOD: [&str; 3] = [ISSUE, ISSUEWILD, "iodef"];
/// Binds a property to an account (RFC 8657, section 3).
const ACCOUNT: &str = "accounturi";
/// Binds a property to validation methods (RFC 8657, section 4).
const METHODS: &str = "validationmethods";

/// The certificate that is to be ordered.
#[derive(Clone, Copy, Debug)]
pub struct Wish<'a> {
    /// Names that the certification authority goes by, in lower case.
    pub identities: &'a [String],
    /// Whether it is for a wildcard.
    pub wildcard: bool,
    /// How control will be shown.
    pub method: Method,
    /// URL of the account it is ordered with, once there is one.
    pub account: Option<&'a str>,
}

/// Why a CAA set forbids the certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Objection {
    /// Only other certification authorities may issue, or none.
    Issuer,
    /// Ours may, but only for another account (RFC 8657, section 3).
    Account(String),
    /// Ours may, but only by other methods (RFC 8657, section 4).
    Method(String),
    /// Ours is named with a parameter that may stand once, and stands twice.
    Repeated(&'static str),
    /// Ours is named in a value that breaks the grammar, and so names nobody.
    Malformed(String),
    /// A property that must be understood, and is not.
    Critical(String),
}

/// Judges a relevant set; `None` if it allows the certificate. For a wildcard
/// `issuewild` counts where there is any, else `issue` (RFC 8659, section 4.3).
pub fn objection(records: &[&Record], wish: &Wish<'_>) -> Option<Objection> {
    if let Some(tag) = not_understood(records) {
        return Some(Objection::Critical(tag));
    }

    let mut first = None;
    for value in restricting(records, wish.wildcard) {
        // One property that allows is enough.
        let against = against(value, wish)?;
        match &first {
            None | Some(Objection::Issuer) => first = Some(against),
            Some(_) => {}
        }
    }
    // A set without such a property restricts nothing (section 4.2).
    first
}

/// The first property that must be understood and is not, wherever it stands.
fn not_understood(records: &[&Record]) -> Option<String> {
    records.iter().find_map(|record| match &record.data {
        RecordData::Caa { flags, tag, .. } if flags & CRITICAL != 0 => {
            let tag = tag.to_text().to_ascii_lowercase();
            (!UNDERSTOOD.contains(&tag.as_str())).then(|| shown(&tag))
        }
        _ => None,
    })
}

/// The values that count: of all `issue`, or for a wildcard of all `issuewild` if
/// there are any.
fn restricting<'a>(records: &[&'a Record], wildcard: bool) -> Vec<&'a Octets> {
    let wild = if wildcard { tagged(records, ISSUEWILD) } else { Vec::new() };
    if wild.is_empty() { tagged(records, ISSUE) } else { wild }
}

fn tagged<'a>(records: &[&'a Record], wanted: &str) -> Vec<&'a Octets> {
    let values = records.iter().filter_map(|record| match &record.data {
        RecordData::Caa { tag, value, .. } if tag.as_bytes().eq_ignore_ascii_case(wanted.as_bytes()) => {
            Some(value)
        }
        _ => None,
    });
    values.collect()
}

/// What one property has against the certificate.
fn against(value: &Octets, wish: &Wish<'_>) -> Option<Objection> {
    let Some(grant) = Grant::read(value.as_bytes()) else {
        let is_ours = means_one_of(value, wish.identities);
        return Some(if is_ours {
            Objection::Malformed(shown(&value.to_string()))
        } else {
            Objection::Issuer
        });
    };
    if !wish.identities.contains(&grant.issuer) {
        return Some(Objection::Issuer);
    }

    let account = match grant.only(ACCOUNT) {
        Err(repeated) => return Some(repeated),
        Ok(account) => account,
    };
    if let Some(account) = account.filter(|account| wish.account != Some(account)) {
        return Some(Objection::Account(shown(account)));
    }

    match grant.only(METHODS) {
        Err(repeated) => Some(repeated),
        Ok(Some(methods)) if !lists(methods, wish.method) => Some(Objection::Method(shown(methods))),
        Ok(_) => None,
    }
}

/// Whether a list of methods is one, and has this one in it. Names of methods
/// are compared as they are spelt.
fn lists(methods: &str, method: Method) -> bool {
    let is_label =
        |label: &str| !label.is_empty() && label.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-');
    methods.split(',').all(is_label) && methods.split(',').any(|listed| listed == method.as_str())
}

/// One `issue` or `issuewild` property.
#[derive(Debug)]
struct Grant {
    /// The issuer's name in lower case; empty for nobody.
    issuer: String,
    /// Tags in lower case, with their values.
    parameters: Vec<(String, String)>,
}

impl Grant {
    /// Reads `issuer; tag=value; …` by the grammar of RFC 8659, section 4.2;
    /// `None` for what breaks it.
    fn read(value: &[u8]) -> Option<Self> {
        let (issuer, rest) = match value.iter().position(|byte| *byte == b';') {
            Some(at) => (&value[..at], trimmed(&value[at + 1..])),
            None => (value, &[][..]),
        };

        let issuer = trimmed(issuer);
        if !issuer.is_empty() && !issuer.split(|byte| *byte == b'.').all(is_label) {
            return None;
        }

        let mut parameters = Vec::new();
        if !rest.is_empty() {
            for part in rest.split(|byte| *byte == b';') {
                parameters.push(parameter(trimmed(part))?);
            }
        }
        Some(Self { issuer: lower(issuer), parameters })
    }

    /// The value of a parameter that may stand once.
    fn only(&self, tag: &'static str) -> Result<Option<&str>, Objection> {
        let mut found = self.parameters.iter().filter(|(own, _)| own == tag);
        let first = found.next();
        match found.next() {
            Some(_) => Err(Objection::Repeated(tag)),
            None => Ok(first.map(|(_, value)| value.as_str())),
        }
    }
}

/// Reads `tag=value`, with no white space within the value.
fn parameter(part: &[u8]) -> Option<(String, String)> {
    let at = part.iter().position(|byte| *byte == b'=')?;
    let (tag, value) = (trimmed(&part[..at]), trimmed(&part[at + 1..]));
    let is_plain = value.iter().all(|byte| matches!(byte, 0x21..=0x7e));
    (is_label(tag) && is_plain).then(|| (lower(tag), String::from_utf8_lossy(value).into_owned()))
}

/// Letters and digits, with hyphens between them.
fn is_label(label: &[u8]) -> bool {
    let is_inner = label.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'-');
    let ends = [label.first(), label.last()];
    is_inner && ends.iter().all(|end| end.is_some_and(u8::is_ascii_alphanumeric))
}

/// Without the spaces and tabs around it (WSP of RFC 5234), and no others.
fn trimmed(mut text: &[u8]) -> &[u8] {
    while let [b' ' | b'\t', rest @ ..] | [rest @ .., b' ' | b'\t'] = text {
        text = rest;
    }
    text
}

fn lower(text: &[u8]) -> String {
    String::from_utf8_lossy(text).to_ascii_lowercase()
}

/// Whether a value speaks of one of these issuers, by the grammar or not.
pub fn means_one_of(value: &Octets, identities: &[String]) -> bool {
    let text = value.to_text().to_ascii_lowercase();
    identities.iter().any(|identity| text.contains(identity.as_str()))
}

/// Whether a value lets nobody issue: it names no issuer, or none by the grammar.
pub fn allows_nobody(value: &Octets) -> bool {
    Grant::read(value.as_bytes()).is_none_or(|grant| grant.issuer.is_empty())
}

/// Whether any property names an account, so that ours must be known.
pub fn names_account(records: &[&Record]) -> bool {
    records.iter().any(|record| match &record.data {
        RecordData::Caa { value, .. } => Grant::read(value.as_bytes())
            .is_some_and(|grant| grant.parameters.iter().any(|(tag, _)| tag == ACCOUNT)),
        _ => false,
    })
}

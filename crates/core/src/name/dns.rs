//! DNS names as they are kept inside: absolute, lower case, without the final
//! dot (RFC 1034, section 3.1).
//!
//! Owner names may hold underscores, and what a zone holds may be no host name
//! at all, so a [`DnsName`] is not a [`Hostname`](super::hostname::Hostname).
//! What people trip over is the form: `www` in one box is
//! `www.onswick.example.` in the next. Inside there is one form only; the box
//! gets its own from [`Form`](crate::sheet::form::Form).

use std::borrow::Borrow;
use std::fmt;
use std::ops::Deref;

use serde::{Deserialize, Serialize};

/// Longest name in presentation form (RFC 1035, section 2.3.4).
pub const LONGEST_NAME: usize = 253;
/// Room for most names, in octets.
const USUAL_NAME: usize = 48;
/// Longest label, in octets (RFC 1035, section 2.3.4).
pub const LONGEST_LABEL: usize = 63;

/// An absolute DNS name, lower case, without the final dot; the root is empty.
///
/// It is made of whatever was read, and never refused: a zone holds what it
/// holds.
///
/// ```
/// use nomenta_core::name::dns::DnsName;
///
/// let name = DnsName::new("WWW.Onswick.Example.");
/// assert_eq!(name, "www.onswick.example");
/// assert!(name.is_within("onswick.example"));
/// assert_eq!(name.relative_to("onswick.example"), "www");
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema), schema(value_type = String, example = "www.onswick.example"))]
pub struct DnsName(String);

impl DnsName {
    /// Brings a name into the one form.
    pub fn new(name: impl AsRef<str>) -> Self {
        Self(name.as_ref().trim_end_matches('.').to_ascii_lowercase())
    }

    /// Puts a name together from labels of any octets, the highest last; an octet
    /// that is no printable ASCII, and a dot within a label, as `\DDD` (RFC 1035,
    /// section 5.1), so that every dot parts labels.
    ///
    /// ```
    /// use nomenta_core::name::dns::DnsName;
    ///
    /// assert_eq!(DnsName::from_labels([&b"a.b"[..], b"Example"]), r"a\046b.example");
    /// ```
    pub fn from_labels<'a>(labels: impl IntoIterator<Item = &'a [u8]>) -> Self {
        let mut text = String::with_capacity(USUAL_NAME);

        for label in labels {
            if !text.is_empty() {
                text.push('.');
            }
            // Names are most of what is read, and nearly all labels are plain.
            if let Some(plain) = plain_label(label) {
                let start = text.len();
                text.push_str(plain);
                text[start..].make_ascii_lowercase();
                continue;
            }
            for octet in label {
                match octet {
                    b'.' | b'\\' => text.push_str(&format!("\\{octet:03}")),
                    0x21..=0x7e => text.push(char::from(octet.to_ascii_lowercase())),
                    other => text.push_str(&format!("\\{other:03}")),
                }
            }
        }
        Self(text)
    }

    /// A name of letters, digits, hyphens and underscores, made absolute, which
    /// nearly all are; `None` for what has to be looked at more closely.
    pub(crate) fn of_plain(written: &str, origin: &Self) -> Option<Self> {
        let is_absolute = written.ends_with('.');
        let own = if is_absolute { &written[..written.len() - 1] } else { written };

        let mut label = 0;
        for byte in own.bytes() {
            match byte {
                b'.' if label > 0 => label = 0,
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'*' if label < LONGEST_LABEL => {
                    label += 1
                }
                _ => return None,
            }
        }

        let is_whole = is_absolute || origin.is_root();
        let length = if is_whole { own.len() } else { own.len() + 1 + origin.0.len() };
        if label == 0 || length > LONGEST_NAME {
            return None;
        }

        let mut text = String::with_capacity(length);
        text.push_str(own);
        text.make_ascii_lowercase();
        if !is_whole {
            text.push('.');
            text.push_str(&origin.0);
        }
        Some(Self(text))
    }

    /// The root of the tree.
    pub fn root() -> Self {
        Self::default()
    }

    /// The name one or more labels below this one.
    pub fn child(&self, labels: &str) -> Self {
        match self.is_root() {
            true => Self::new(labels),
            false => Self::new(format!("{labels}.{self}")),
        }
    }

    /// Whether it is the root.
    pub fn is_root(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether it is `zone` or lies under it.
    pub fn is_within(&self, zone: &str) -> bool {
        is_within(&self.0, zone)
    }

    /// What to type into a box that adds the zone by itself: see [`relative`].
    pub fn relative_to(&self, zone: &str) -> String {
        relative(&self.0, zone)
    }

    /// How many octets it has, an escaped one counted once, the dots included.
    pub fn octets(&self) -> usize {
        let escapes = self.0.bytes().filter(|byte| *byte == b'\\').count();
        self.0.len() - 3 * escapes
    }

    /// The name as text, without the final dot.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for DnsName {
    /// Without its final dot; the root, which has nothing else, as `.`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(if self.is_root() { "." } else { &self.0 })
    }
}

impl Deref for DnsName {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl AsRef<str> for DnsName {
    fn as_ref(&self) -> &str {
        &self.0
    }
}

impl Borrow<str> for DnsName {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl From<&str> for DnsName {
    fn from(name: &str) -> Self {
        Self::new(name)
    }
}

impl From<String> for DnsName {
    fn from(name: String) -> Self {
        Self::new(name)
    }
}

impl From<DnsName> for String {
    fn from(name: DnsName) -> Self {
        name.0
    }
}

impl PartialEq<str> for DnsName {
    fn eq(&self, other: &str) -> bool {
        self.0 == other
    }
}

impl PartialEq<&str> for DnsName {
    fn eq(&self, other: &&str) -> bool {
        self.0 == *other
    }
}

impl PartialEq<String> for DnsName {
    fn eq(&self, other: &String) -> bool {
        self.0 == *other
    }
}

impl PartialEq<DnsName> for str {
    fn eq(&self, other: &DnsName) -> bool {
        self == other.0
    }
}

impl PartialEq<DnsName> for &str {
    fn eq(&self, other: &DnsName) -> bool {
        *self == other.0
    }
}

/// Whether `name` is `zone` or lies under it. Both in the one form.
pub fn is_within(name: &str, zone: &str) -> bool {
    zone.is_empty() || name == zone || name.strip_suffix(zone).is_some_and(|rest| rest.ends_with('.'))
}

/// Whether `name` lies under `above`, and is not it. Both in the one form.
pub fn is_below(name: &str, above: &str) -> bool {
    name != above && is_within(name, above)
}

/// The name one label up; the parent of a top-level name is the root.
pub fn parent(name: &str) -> &str {
    name.split_once('.').map_or("", |(_, rest)| rest)
}

/// `name` and each of its ancestors up to the top level, root left out.
pub fn climb(name: &str) -> impl Iterator<Item = &str> {
    std::iter::successors(Some(name), |n| Some(parent(n))).take_while(|n| !n.is_empty())
}

/// What to type into a box that adds the zone by itself: the name without the
/// zone, or `@` at the apex (RFC 1035, section 5.1). A name that lies elsewhere
/// stays whole.
pub fn relative(name: &str, zone: &str) -> String {
    if name == zone {
        return "@".into();
    }
    match name.strip_suffix(zone).and_then(|rest| rest.strip_suffix('.')) {
        Some(host) if !zone.is_empty() => host.to_owned(),
        _ => name.to_owned(),
    }
}

/// A label that is written as it is, but for its case; `None` for one that has to be escaped.
fn plain_label(label: &[u8]) -> Option<&str> {
    let is_plain = label.iter().all(|octet| matches!(octet, 0x21..=0x7e) && !matches!(octet, b'.' | b'\\'));
    if is_plain { str::from_utf8(label).ok() } else { None }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_spelling_becomes_one() {
        for typed in ["WWW.Onswick.example.", "www.onswick.example", "www.onswick.EXAMPLE"] {
            assert_eq!(DnsName::new(typed), "www.onswick.example", "{typed}");
        }
        assert!(DnsName::new(".").is_root());
        assert_eq!(DnsName::root().child("example").child("_c.www"), "_c.www.example");
    }

    #[test]
    fn a_name_is_written_and_read_as_text() {
        let name = DnsName::new("www.onswick.example");
        let json = serde_json::to_string(&name).expect("writes");
        assert_eq!(json, "\"www.onswick.example\"");
        assert_eq!(serde_json::from_str::<DnsName>("\"WWW.onswick.example.\"").expect("reads"), name);
    }

    #[test]
    fn relative_hosts_follow_the_zone() {
        for (name, zone, want) in [
            ("onswick.example", "onswick.example", "@"),
            ("www.onswick.example", "onswick.example", "www"),
            ("_c.www.onswick.example", "onswick.example", "_c.www"),
            ("www.other.example", "onswick.example", "www.other.example"),
            ("myonswick.example", "onswick.example", "myonswick.example"),
        ] {
            assert_eq!(relative(name, zone), want);
        }
    }

    #[test]
    fn within_respects_label_borders() {
        assert!(is_within("a.onswick.example", "onswick.example"));
        assert!(is_within("onswick.example", ""));
        assert!(!is_within("myonswick.example", "onswick.example"));
    }

    #[test]
    fn climbing_ends_at_the_top_level() {
        let names: Vec<_> = climb("www.onswick.example").collect();
        assert_eq!(names, ["www.onswick.example", "onswick.example", "example"]);
    }
}

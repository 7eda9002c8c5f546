//! Names that people take for others: letters of several scripts in one label,
//! or letters of one that look like those of another (UTS 39).

use std::fmt;

use unicode_script::{Script, UnicodeScript};
use unicode_security::RestrictionLevel;
use unicode_security::confusable_detection::skeleton;
use unicode_security::restriction_level::RestrictionLevelDetection;

use super::hostname::Hostname;

/// Why a name may be taken for another. It is a warning: most such names are
/// honest.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Lookalike {
    /// One label mixes scripts that no writing system mixes (UTS 39, section
    /// 5.2).
    MixedScripts {
        /// The label, in its scripts.
        label: String,
        /// The scripts, by their English names.
        scripts: Vec<String>,
        /// The name as DNS has it.
        ascii: String,
    },
    /// One label reads as another of ASCII letters (UTS 39, section 4).
    ReadsAsAscii {
        /// The label, in its script.
        label: String,
        /// What people read.
        reads: String,
        /// The name as DNS has it.
        ascii: String,
    },
}

crate::spelled! {
    /// Stable words for why a name may be taken for another.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum LookalikeKind: "reason" {
        /// [`Lookalike::MixedScripts`].
        MixedScripts = "mixed-scripts",
        /// [`Lookalike::ReadsAsAscii`].
        ReadsAsAscii = "reads-as-ascii",
    }
}

impl Lookalike {
    /// Judges a name, label by label.
    ///
    /// ```
    /// use nomenta_core::name::hostname::Hostname;
    /// use nomenta_core::name::lookalike::Lookalike;
    ///
    /// let of = |typed| Lookalike::of(&Hostname::parse(typed).unwrap());
    /// assert!(of("onswick.example").is_none());
    /// assert!(of("fähre.onswick.example").is_none());
    /// assert!(matches!(of("оnswick.example"), Some(Lookalike::MixedScripts { .. })));
    /// ```
    pub fn of(name: &Hostname) -> Option<Self> {
        if !name.as_str().contains("xn--") {
            return None;
        }

        let unicode = name.to_unicode();
        let labels = unicode.split('.').filter(|label| !label.is_ascii());
        labels.filter_map(|label| Self::of_label(label, name)).next()
    }

    /// A stable word for machines.
    pub fn kind(&self) -> LookalikeKind {
        match self {
            Self::MixedScripts { .. } => LookalikeKind::MixedScripts,
            Self::ReadsAsAscii { .. } => LookalikeKind::ReadsAsAscii,
        }
    }

    fn of_label(label: &str, name: &Hostname) -> Option<Self> {
        let (label, ascii) = (label.to_owned(), name.to_string());
        if label.detect_restriction_level() > RestrictionLevel::HighlyRestrictive {
            let scripts = scripts(&label);
            if scripts.len() > 1 {
                return Some(Self::MixedScripts { label, scripts, ascii });
            }
        }

        let reads: String = skeleton(&label).collect();
        reads.is_ascii().then_some(Self::ReadsAsAscii { label, reads, ascii })
    }
}

/// The scripts of a label in the order in which they come, those left out that
/// several share.
fn scripts(label: &str) -> Vec<String> {
    let mut found = Vec::new();
    for script in label.chars().map(|c| c.script()) {
        let is_own = !matches!(script, Script::Common | Script::Inherited | Script::Unknown);
        let name = script.full_name().replace('_', " ");
        if is_own && !found.contains(&name) {
            found.push(name);
        }
    }
    found
}

impl fmt::Display for Lookalike {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::MixedScripts { label, scripts, ascii } => write!(
                f,
                "{label} mixes {} letters, and may be taken for another name. In DNS it is {ascii}.",
                scripts.join(" and ")
            ),
            Self::ReadsAsAscii { label, reads, ascii } => write!(
                f,
                "{label} looks like {reads} in plain letters, and may be taken for it. In DNS it is {ascii}."
            ),
        }
    }
}

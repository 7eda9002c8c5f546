//! Edits: what the customer does to one record, as data and in a sentence.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::sheet::line::EditorType;

crate::spelled! {
    /// What to do with a record.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum EditKind: "edit" {
        /// Publish it.
        Add = "add",
        /// Give it another value.
        Change = "change",
        /// Take it away.
        Delete = "delete",
        /// Leave it alone.
        Keep = "keep",
    }
}

impl EditKind {
    /// What begins a sentence that tells somebody to do it.
    fn verb(self) -> &'static str {
        match self {
            Self::Add => "Add",
            Self::Change => "Change",
            Self::Delete => "Delete",
            Self::Keep => "Keep",
        }
    }

    /// What is in the way goes before what needs the place comes.
    pub(crate) fn order(self) -> u8 {
        match self {
            Self::Keep => 0,
            Self::Delete => 1,
            Self::Change => 2,
            Self::Add => 3,
        }
    }
}

/// One change in the customer's DNS editor.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Edit {
    /// What to do.
    pub kind: EditKind,
    /// Record type.
    pub rtype: EditorType,
    /// Host box, relative to the zone.
    pub host_field: String,
    /// Full owner name.
    pub owner: DnsName,
    /// The record's value as the editor shows or wants it; for a change, the
    /// new one.
    pub value: String,
    /// For a change, the old value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub was: Option<String>,
}

/// The record that an edit is about: two edits of the same one are one too many.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct About {
    owner: DnsName,
    rtype: EditorType,
    /// Whether it is not there yet.
    is_new: bool,
    value: String,
}

impl Edit {
    /// Which record it is about, as that is now.
    pub fn about(&self) -> About {
        let (owner, rtype) = (self.owner.clone(), self.rtype.clone());
        About { owner, rtype, is_new: self.kind == EditKind::Add, value: self.value_now().to_owned() }
    }

    /// Names the sheet where the token would have to be typed.
    pub fn refer_to_sheet(&mut self, token: &str) {
        self.value = self.value.replace(token, ON_THE_SHEET);
    }

    /// The value before the edit; of one to add, the value after it.
    pub fn value_now(&self) -> &str {
        self.was.as_deref().unwrap_or(&self.value)
    }
}

/// Stands for the token where it is not shown: a masked one is nothing to type.
pub const ON_THE_SHEET: &str = "(the token, see the sheet)";

/// More edits of one kind at one place than this are counted, not told one by
/// one: a table has them.
const MOST_TOLD: usize = 4;

/// `Delete the A record 192.0.2.7 at www.`: one sentence for each edit.
pub fn sentences(edits: &[Edit]) -> String {
    let mut text: Vec<String> = Vec::new();
    for alike in edits.chunk_by(|one, next| one.is_like(next)) {
        match alike {
            [first, ..] if alike.len() > MOST_TOLD => text.push(first.counted(alike.len())),
            _ => text.extend(alike.iter().map(sentence)),
        }
    }

    text.dedup();
    text.join(" ")
}

impl Edit {
    /// Whether it does the same to the same kind of record at the same place.
    fn is_like(&self, other: &Self) -> bool {
        self.kind == other.kind && self.rtype == other.rtype && self.owner == other.owner
    }

    fn counted(&self, count: usize) -> String {
        let verb = self.kind.verb();
        format!("{verb} the {count} {} records at {} that are listed.", self.rtype, self.place())
    }

    /// The host box, or the owner for an editor whose box stays blank for the
    /// zone itself.
    fn place(&self) -> Cow<'_, str> {
        let host = if self.host_field.is_empty() { self.owner.as_str() } else { &self.host_field };
        marked_off(host)
    }
}

fn sentence(edit: &Edit) -> String {
    let rtype = &edit.rtype;
    let verb = edit.kind.verb();
    let value = marked_off(&edit.value);
    let host = edit.place();

    match edit.kind {
        EditKind::Change => format!("{verb} the {rtype} record at {host} to {value}."),
        EditKind::Add | EditKind::Delete | EditKind::Keep => {
            format!("{verb} the {rtype} record {value} at {host}.")
        }
    }
}

/// What is typed with a dot at its end is not to be taken for the end of a
/// sentence.
fn marked_off(typed: &str) -> Cow<'_, str> {
    if typed.ends_with('.') { format!("\"{typed}\"").into() } else { typed.into() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::record::RecordType;

    fn edit(kind: EditKind, value: &str) -> Edit {
        Edit {
            kind,
            rtype: RecordType::A.into(),
            host_field: "www".into(),
            owner: "www.onswick.example".into(),
            value: value.into(),
            was: None,
        }
    }

    #[test]
    fn each_edit_is_one_sentence_that_names_the_record() {
        let edits = [
            edit(EditKind::Delete, "192.0.2.7"),
            edit(EditKind::Add, "192.0.2.8"),
            edit(EditKind::Change, "192.0.2.9"),
            edit(EditKind::Keep, "192.0.2.10"),
            edit(EditKind::Keep, "192.0.2.10"),
        ];
        assert_eq!(
            sentences(&edits),
            "Delete the A record 192.0.2.7 at www. Add the A record 192.0.2.8 at www. \
             Change the A record at www to 192.0.2.9. Keep the A record 192.0.2.10 at www."
        );
    }

    #[test]
    fn a_dot_that_is_typed_is_told_from_the_end_of_the_sentence() {
        let typed = Edit { host_field: "onswick.example.".into(), ..edit(EditKind::Add, "192.0.2.8") };
        assert_eq!(sentences(&[typed]), "Add the A record 192.0.2.8 at \"onswick.example.\".");
    }
}

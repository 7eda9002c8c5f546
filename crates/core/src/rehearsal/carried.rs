//! Carrying a list out on a file.

use std::collections::{HashMap, HashSet};

use super::RehearsalError;
use crate::judge::edit::{Edit, EditKind};
use crate::name::dns::DnsName;
use crate::reading::record::{Record, RecordData};
use crate::sheet::SHEET_TTL;
use crate::zonefile::{self, AmendError, Fate, ZoneFile};

/// Edits by the record that each is about. Thousands may stand at one name.
pub(super) struct ByRecord<'a>(HashMap<DnsName, HashMap<String, &'a Edit>>);

impl<'a> ByRecord<'a> {
    pub(super) fn new(edits: &'a [Edit]) -> Self {
        let mut by_owner: HashMap<DnsName, HashMap<String, &Edit>> = HashMap::new();
        for edit in edits.iter().filter(|edit| edit.kind != EditKind::Add) {
            let shown = format!("{} {}", edit.rtype.as_str(), edit.value_now());
            by_owner.entry(edit.owner.clone()).or_default().entry(shown).or_insert(edit);
        }
        Self(by_owner)
    }

    pub(super) fn find(&self, record: &Record) -> Option<&'a Edit> {
        let at_owner = self.0.get(&record.owner)?;
        at_owner.get(&record.data.typed()).copied()
    }
}

/// Follows edits to the letter, in the text of a zone.
///
/// # Errors
/// [`RehearsalError`] if the text cannot be read, or the edits not carried out.
pub fn apply(text: &str, zone: &DnsName, edits: &[Edit], host: &str) -> Result<String, RehearsalError> {
    let amended = amend(&ZoneFile::parse(text, zone)?, edits, host)?;
    Ok(amended.text().to_owned())
}

/// Carries out edits on the text of a file.
pub(super) fn amend(file: &ZoneFile, edits: &[Edit], host: &str) -> Result<ZoneFile, AmendError> {
    let about = ByRecord::new(edits);
    let fate = |index: usize| about.find(&file.entries[index].record).map_or(Fate::Stays, fate);

    let mut held: HashSet<(&DnsName, &RecordData)> = HashSet::new();
    if edits.iter().any(|edit| edit.kind == EditKind::Add) {
        held.extend(file.records().map(|record| (&record.owner, &record.data)));
    }
    let added = edits.iter().filter_map(added);
    let added: Vec<_> = added.filter(|record| !held.contains(&(&record.owner, &record.data))).collect();

    file.amended(fate, &added, &format!("For {host}"))
}

/// The record that an edit adds.
fn added(edit: &Edit) -> Option<Record> {
    if edit.kind != EditKind::Add {
        return None;
    }
    let data = zonefile::value(edit.rtype.as_str(), &edit.value).ok()?;
    Some(Record { owner: edit.owner.clone(), ttl: SHEET_TTL, data })
}

/// What an edit makes of the record that it is about.
fn fate(edit: &Edit) -> Fate {
    match edit.kind {
        EditKind::Delete => Fate::Gone,
        EditKind::Change => match zonefile::value(edit.rtype.as_str(), &edit.value) {
            Ok(data) => Fate::Becomes(data),
            Err(_) => Fate::Stays,
        },
        EditKind::Add | EditKind::Keep => Fate::Stays,
    }
}

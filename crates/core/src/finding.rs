//! A diagnosed problem, and the case that detectors look at.

use serde::{Deserialize, Serialize};

use crate::domain::Domain;
use crate::evidence::Evidence;
use crate::gate::GateName;
use crate::policy::Policy;
use crate::reading::{Record, RecordData, Source};
use crate::sheet::{Line, Sheet};
use crate::survey::{HostView, Survey};
use crate::verdict::AddressSplit;

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum Severity {
    /// Keeps its gate from passing.
    Blocker,
    /// Works, but not for everyone or not for long.
    Warning,
    /// Worth knowing.
    Note,
}

/// A diagnosed problem.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Finding {
    /// Code in the catalogue.
    pub code: String,
    /// How much it matters.
    pub severity: Severity,
    /// The gate it concerns.
    pub gate: GateName,
    /// What the customer is to do, the record first.
    pub remedy: String,
    /// What the engineer should know.
    pub remark: String,
    /// What was read, and where.
    pub evidence: Vec<Sighting>,
    /// The records to add, change, delete or keep.
    pub edits: Vec<Edit>,
}

/// One piece of evidence.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Sighting {
    /// Who said so.
    pub source: String,
    /// What was said.
    pub said: String,
    /// Seconds left, for a record.
    pub ttl: Option<u32>,
}

/// What to do with a record.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum EditKind {
    /// Publish it.
    Add,
    /// Give it another value.
    Change,
    /// Take it away.
    Delete,
    /// Leave it alone.
    Keep,
}

/// One change in the customer's DNS editor.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Edit {
    /// What to do.
    pub kind: EditKind,
    /// Record type.
    pub rtype: String,
    /// Host box, relative to the zone.
    pub host_field: String,
    /// Full owner name.
    pub owner: String,
    /// The record's value; for a change, the new one.
    pub value: String,
}

/// An entry of the catalogue: one kind of problem.
pub struct Entry {
    /// Code, stable for machines.
    pub code: &'static str,
    /// How much it matters.
    pub severity: Severity,
    /// The gate it concerns.
    pub gate: GateName,
    /// What it means, for the catalogue.
    pub about: &'static str,
    /// Codes whose presence explains this one away.
    pub yields_to: &'static [&'static str],
    /// Looks for it.
    pub detect: fn(&Case<'_>) -> Option<Diagnosis>,
}

/// What a detector found.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Diagnosis {
    /// The gate it concerns, where that depends on the case.
    pub gate: Option<GateName>,
    /// See [`Finding::remedy`].
    pub remedy: String,
    /// See [`Finding::remark`].
    pub remark: String,
    /// See [`Finding::evidence`].
    pub evidence: Vec<Sighting>,
    /// See [`Finding::edits`].
    pub edits: Vec<Edit>,
}

/// Everything a detector may look at.
pub struct Case<'a> {
    /// The domain.
    pub domain: &'a Domain,
    /// Its sheet, relative to the zone that was found.
    pub sheet: &'a Sheet,
    /// What DNS says.
    pub survey: &'a Survey,
    /// What else was learned.
    pub evidence: &'a Evidence,
    /// The operator's settings.
    pub policy: &'a Policy,
}

impl Case<'_> {
    /// The authority servers' views of the host, with the split of addresses,
    /// leaving out those that are an alias.
    pub fn address_views(&self) -> Vec<(&Source, HostView, AddressSplit)> {
        let views = self.survey.authority_views().into_iter();
        let own = views.filter(|(_, view)| view.cname.is_none());
        own.map(|(source, view)| {
            let split = AddressSplit::of(&view, &self.domain.ingress);
            (source, view, split)
        })
        .collect()
    }

    /// The first of those for which `wanted` holds.
    pub fn first_split(&self, wanted: impl Fn(&AddressSplit) -> bool) -> Option<AddressSplit> {
        self.address_views().into_iter().map(|(_, _, split)| split).find(wanted)
    }

    /// Edits that add what the sheet asks for and one kind of address lacks.
    pub fn additions<T: ToString>(&self, rtype: &str, missing: impl IntoIterator<Item = T>) -> Vec<Edit> {
        missing.into_iter().map(|a| self.edit_host(EditKind::Add, rtype, a.to_string())).collect()
    }

    /// Edits that delete addresses.
    pub fn deletions<T: ToString>(&self, rtype: &str, foreign: impl IntoIterator<Item = T>) -> Vec<Edit> {
        foreign.into_iter().map(|a| self.edit_host(EditKind::Delete, rtype, a.to_string())).collect()
    }

    /// An edit at the host itself.
    pub fn edit_host(&self, kind: EditKind, rtype: &str, value: String) -> Edit {
        self.edit(kind, rtype, self.domain.host.as_str(), value)
    }

    /// An edit at any name of the zone.
    pub fn edit(&self, kind: EditKind, rtype: &str, owner: &str, value: String) -> Edit {
        let host_field = self.sheet.host_field(owner);
        Edit { kind, rtype: rtype.to_owned(), host_field, owner: owner.to_owned(), value }
    }

    /// The edit that publishes a line of the sheet.
    pub fn publish(&self, line: &Line) -> Edit {
        self.edit(EditKind::Add, &line.rtype.to_string(), &line.owner, line.value.clone())
    }

    /// What the authority servers hold at the host, as evidence.
    pub fn host_sightings(&self, wanted: impl Fn(&RecordData) -> bool) -> Vec<Sighting> {
        use crate::reading::RecordType::{A, Aaaa};
        let host = self.domain.host.as_str();
        [A, Aaaa]
            .into_iter()
            .flat_map(|rtype| self.survey.authority(host, rtype))
            .flat_map(|(source, records)| records.iter().map(move |r| (source, r)))
            .filter(|(_, record)| wanted(&record.data))
            .map(|(source, record)| sighting(source, record))
            .collect::<Vec<_>>()
            .into_iter()
            .fold(Vec::new(), |mut unique, s| {
                if !unique.contains(&s) {
                    unique.push(s);
                }
                unique
            })
    }
}

/// A record as evidence.
pub fn sighting(source: &Source, record: &Record) -> Sighting {
    let said = format!("{} {} {}", record.owner, record.data.type_name(), record.data);
    Sighting { source: source.to_string(), said, ttl: Some(record.ttl) }
}

/// `Delete the A record 192.0.2.7 at www.`: one sentence for each edit.
pub fn sentences(edits: &[Edit]) -> String {
    let mut text: Vec<String> = edits.iter().map(sentence).collect();
    text.dedup();
    text.join(" ")
}

fn sentence(edit: &Edit) -> String {
    let Edit { rtype, host_field, value, .. } = edit;
    match edit.kind {
        EditKind::Add => format!("Add the {rtype} record {value} at {host_field}."),
        EditKind::Change => format!("Change the {rtype} record at {host_field} to {value}."),
        EditKind::Delete => format!("Delete the {rtype} record {value} at {host_field}."),
        EditKind::Keep => format!("Keep the {rtype} record {value} at {host_field}."),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn edit(kind: EditKind, value: &str) -> Edit {
        let owner = "www.onswick.example".to_owned();
        Edit { kind, rtype: "A".into(), host_field: "www".into(), owner, value: value.into() }
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
    fn evidence_names_source_record_and_ttl() {
        let source = Source::Vantage { name: "north".into() };
        let data = RecordData::A([192, 0, 2, 7].into());
        let seen = sighting(&source, &Record { owner: "www.onswick.example".into(), ttl: 42, data });
        assert_eq!(seen.said, "www.onswick.example A 192.0.2.7");
        assert_eq!((seen.source.as_str(), seen.ttl), ("north", Some(42)));
    }
}

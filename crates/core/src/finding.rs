//! A diagnosed problem, and the case that detectors look at.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::net::IpAddr;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::certificate::Held;
use crate::domain::Domain;
use crate::evidence::Evidence;
use crate::gate::GateName;
use crate::ingress::Platform;
use crate::policy::Policy;
use crate::reading::{Reading, Record, RecordData, RecordType, Source};
use crate::sheet::{Line, Purpose, Sheet, Way};
use crate::survey::{HostView, Survey};
use crate::verdict::{self, AddressSplit, Expected, Verdict};

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

impl EditKind {
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
    pub rtype: String,
    /// Host box, relative to the zone.
    pub host_field: String,
    /// Full owner name.
    pub owner: String,
    /// The record's value; for a change, the new one.
    pub value: String,
    /// For a change, the old value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub was: Option<String>,
}

impl Edit {
    /// Whether this and `other` are about the same record, as it is now.
    pub fn is_about(&self, other: &Self) -> bool {
        let now = |e: &Self| e.was.clone().unwrap_or_else(|| e.value.clone());
        let adds = |e: &Self| e.kind == EditKind::Add;
        self.owner == other.owner
            && self.rtype == other.rtype
            && adds(self) == adds(other)
            && now(self) == now(other)
    }
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
    /// How much it matters, where that depends on the case.
    pub severity: Option<Severity>,
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
    /// The platform's own names.
    pub platform: &'a Platform,
    /// Its sheet, relative to the zone that was found.
    pub sheet: &'a Sheet,
    /// What DNS says.
    pub survey: &'a Survey,
    /// What else was learned.
    pub evidence: &'a Evidence,
    /// The operator's settings.
    pub policy: &'a Policy,
    /// The moment of judging.
    pub now: DateTime<Utc>,
}

impl Case<'_> {
    /// What routing is held against.
    pub fn expected(&self) -> Expected<'_> {
        Expected::new(self.sheet, &self.domain.ingress, self.survey)
    }

    /// What the authority servers as a whole say about routing: the worst of
    /// their verdicts, unreadable without any.
    pub fn verdict(&self) -> Verdict {
        let expected = self.expected();
        let mut verdicts = self.survey.authority_views().into_iter().map(|(_, v)| expected.routing(Some(&v)));
        let first = verdicts.next().unwrap_or(Verdict::Unreadable);
        verdicts.fold(first, |worst, v| if worst == Verdict::Match { v } else { worst })
    }

    /// The certificate that is held, covers the host and has not run out.
    pub fn held(&self) -> Option<&Held> {
        self.evidence.certificate.as_ref().filter(|held| held.covers(&self.domain.routed(), self.now))
    }

    /// Whether foreign addresses stand in the zone, and the canary arrives
    /// through every one of them: a proxy passes visitors on.
    pub fn is_fronted(&self) -> bool {
        let fronts = self.evidence.fronts.as_deref().unwrap_or_default();
        let arrives = !fronts.is_empty() && fronts.iter().all(|fetch| fetch.failure.is_none());
        arrives && !matches!(self.verdict(), Verdict::Match | Verdict::Unreadable)
    }

    /// Whether every authority server leads visitors here.
    pub fn routed(&self) -> bool {
        self.verdict() == Verdict::Match
    }

    /// Whether every authority server that answers returns the token.
    pub fn owned(&self) -> bool {
        let (with, all) = self.owners();
        all > 0 && with == all
    }

    /// How many authority servers return the token, and how many answer.
    pub fn owners(&self) -> (usize, usize) {
        let sources = self.survey.sources().into_iter().filter(|s| s.is_authority());
        let verdicts = sources.map(|s| verdict::ownership(self.sheet, self.survey, s));
        let answered: Vec<_> = verdicts.filter(|v| *v != Verdict::Unreadable).collect();
        (answered.iter().filter(|v| **v == Verdict::Match).count(), answered.len())
    }

    /// The choice of routing that fits what the zone holds: the one begun, one
    /// that leaves mail alone, else the preferred one.
    pub fn way(&self) -> Way {
        let ways = self.sheet.ways(Purpose::Routing);
        let first = ways.first().copied().unwrap_or(Way::Cname);
        let begun =
            self.address_views().iter().any(|(_, _, s)| !s.ours_v4.is_empty() || !s.ours_v6.is_empty());
        let mail = self.has_mail(&self.sheet.routed);
        let alias = self.survey.authority_views().iter().any(|(_, v)| v.cname().is_some());
        if ways.contains(&Way::Addresses) && ((begun && !alias) || mail) { Way::Addresses } else { first }
    }

    /// Whether mail records of its own stand at a name.
    pub fn has_mail(&self, name: &str) -> bool {
        let mut held = self.survey.held(name, RecordType::Mx);
        held.any(|(source, r)| matches!(r.data, RecordData::Mx { .. }) && !self.from_wildcard(source, name))
    }

    /// Whether what `source` says about the host or the challenge comes from a
    /// wildcard (RFC 4592): a name beside it, that nobody publishes, has it too.
    pub fn from_wildcard(&self, source: &Source, name: &str) -> bool {
        let target = self.domain.target(self.platform);
        let (probe, rtype) = match name {
            name if name == target.challenge => (target.token_probe(), RecordType::Txt),
            name if name == target.routed => (target.host_probe(), RecordType::A),
            _ => return false,
        };
        let at = |name: &str| -> BTreeSet<RecordData> {
            let readings = self.survey.of(name, rtype).filter(|r| &r.source == source);
            let records = readings.filter_map(Reading::answer).flatten();
            records.filter(|r| r.owner == name).map(|r| r.data.clone()).collect()
        };
        let beside = at(&probe);
        !beside.is_empty() && at(name) == beside
    }

    /// Whether an HTTPS record leads browsers somewhere else (RFC 9460).
    pub fn is_stray_binding(&self, record: &Record) -> bool {
        let RecordData::Https { target, hints, .. } = &record.data else { return false };
        let names = ["", self.sheet.routed.as_str(), self.sheet.canonical.as_str()];
        let ours = |hint: &IpAddr| match hint {
            IpAddr::V4(a) => self.domain.ingress.ipv4.contains(a),
            IpAddr::V6(a) => self.domain.ingress.ipv6.contains(a),
        };
        !names.contains(&target.as_str()) || !hints.iter().all(ours)
    }

    /// The authority servers' views of the host, with the split of addresses,
    /// leaving out those that are an alias or come from a wildcard.
    pub fn address_views(&self) -> Vec<(&Source, HostView, AddressSplit)> {
        let views = self.survey.authority_views().into_iter();
        let own = views.filter(|(source, view)| {
            view.cname().is_none() && !self.from_wildcard(source, &self.sheet.routed)
        });
        own.map(|(source, view)| {
            let split = AddressSplit::of(&view, &self.domain.ingress);
            (source, view, split)
        })
        .collect()
    }

    /// The first of those for which `wanted` holds, unless visitors arrive all
    /// the same, as by an alias at the apex.
    pub fn first_split(&self, wanted: impl Fn(&AddressSplit) -> bool) -> Option<AddressSplit> {
        let expected = self.expected();
        let wrong =
            |(_, view, _): &(&Source, HostView, AddressSplit)| expected.routing(Some(view)) != Verdict::Match;
        self.address_views().into_iter().filter(wrong).map(|(_, _, split)| split).find(wanted)
    }

    /// Edits that add what the sheet asks for and one kind of address lacks.
    pub fn additions<T: ToString>(&self, rtype: &str, missing: impl IntoIterator<Item = T>) -> Vec<Edit> {
        missing.into_iter().map(|a| self.edit_host(EditKind::Add, rtype, a.to_string())).collect()
    }

    /// Edits that delete addresses.
    pub fn deletions<T: ToString>(&self, rtype: &str, foreign: impl IntoIterator<Item = T>) -> Vec<Edit> {
        foreign.into_iter().map(|a| self.edit_host(EditKind::Delete, rtype, a.to_string())).collect()
    }

    /// Edits that take somebody else's addresses away and publish the sheet's
    /// choice instead.
    pub fn replacements(&self, split: &AddressSplit) -> Vec<Edit> {
        let mut edits = self.deletions("A", &split.foreign_v4);
        edits.extend(self.deletions("AAAA", &split.foreign_v6));
        edits.extend(self.sheet.by(self.way()).map(|line| self.publish(line)));
        edits
    }

    /// An edit at the host itself.
    pub fn edit_host(&self, kind: EditKind, rtype: &str, value: String) -> Edit {
        self.edit(kind, rtype, &self.sheet.routed, value)
    }

    /// An edit at any name of the zone.
    pub fn edit(&self, kind: EditKind, rtype: &str, owner: &str, value: String) -> Edit {
        let host_field = self.sheet.host_field(owner);
        Edit { kind, rtype: rtype.to_owned(), host_field, owner: owner.to_owned(), value, was: None }
    }

    /// An edit of a record as it was read.
    pub fn edit_record(&self, kind: EditKind, record: &Record) -> Edit {
        self.edit(kind, record.data.type_name(), &record.owner, record.data.to_string())
    }

    /// The edit that publishes a line of the sheet.
    pub fn publish(&self, line: &Line) -> Edit {
        self.edit(EditKind::Add, &line.type_words(), &line.owner, line.value.clone())
    }

    /// The edit that gives a record the value of a line of the same type.
    pub fn change(&self, record: &Record, line: &Line) -> Edit {
        let was = Some(record.data.to_string());
        let edit = self.edit(EditKind::Change, record.data.type_name(), &record.owner, line.value.clone());
        Edit { was, ..edit }
    }

    /// What the authority servers hold at the host, as evidence.
    pub fn host_sightings(&self, wanted: impl Fn(&RecordData) -> bool) -> Vec<Sighting> {
        use crate::reading::RecordType::{A, Aaaa};
        let host = self.sheet.routed.as_str();
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
    let (rtype, value) = (&edit.rtype, marked_off(&edit.value));
    // An editor whose box stays blank for the zone itself.
    let host_field = if edit.host_field.is_empty() { &edit.owner } else { &edit.host_field };
    let host_field = marked_off(host_field);
    match edit.kind {
        EditKind::Add => format!("Add the {rtype} record {value} at {host_field}."),
        EditKind::Change => format!("Change the {rtype} record at {host_field} to {value}."),
        EditKind::Delete => format!("Delete the {rtype} record {value} at {host_field}."),
        EditKind::Keep => format!("Keep the {rtype} record {value} at {host_field}."),
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

    fn edit(kind: EditKind, value: &str) -> Edit {
        let owner = "www.onswick.example".to_owned();
        Edit { kind, rtype: "A".into(), host_field: "www".into(), owner, value: value.into(), was: None }
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

    #[test]
    fn evidence_names_source_record_and_ttl() {
        let source = Source::Vantage { name: "north".into() };
        let data = RecordData::A([192, 0, 2, 7].into());
        let seen = sighting(&source, &Record { owner: "www.onswick.example".into(), ttl: 42, data });
        assert_eq!(seen.said, "www.onswick.example A 192.0.2.7");
        assert_eq!((seen.source.as_str(), seen.ttl), ("north", Some(42)));
    }
}

//! A diagnosed problem, and an entry of the catalogue of problems.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::Edit;
use crate::judge::gate::GateName;
use crate::name::dns::DnsName;
use crate::reading::answer::Source;
use crate::reading::record::Record;
use crate::reading::survey::Delegation;

crate::spelled! {
    /// How much a finding matters.
    #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
    pub enum Severity: "severity" {
        /// Keeps its gate from passing.
        Blocker = "blocker",
        /// Works, but not for everyone or not for long.
        Warning = "warning",
        /// Worth knowing.
        Note = "note",
    }
}

/// A diagnosed problem.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Finding {
    /// Code in the catalogue.
    pub code: Code,
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

impl Sighting {
    /// Something that is no record.
    pub fn new(source: impl fmt::Display, said: impl Into<String>) -> Self {
        Self { source: source.to_string(), said: said.into(), ttl: None }
    }

    /// A record, and who said so.
    pub fn of(source: impl fmt::Display, record: &Record) -> Self {
        Self { ttl: Some(record.ttl), ..Self::new(source, record.to_string()) }
    }

    /// Records, each with who said so.
    pub fn of_all(held: &[(&Source, &Record)]) -> Vec<Self> {
        held.iter().map(|(source, record)| Self::of(source, record)).collect()
    }
}

impl Delegation {
    /// What the zone above lists for `zone`, as evidence.
    pub fn sightings(&self, zone: &DnsName) -> Vec<Sighting> {
        let listed = self
            .servers
            .iter()
            .map(|server| Sighting::new(format!("the zone {}", self.parent), format!("{zone} NS {server}")));
        listed.collect()
    }
}

/// An entry of the catalogue: one kind of problem.
pub struct Entry {
    /// Code, stable for machines.
    pub code: Code,
    /// How much it matters.
    pub severity: Severity,
    /// The gate it concerns.
    pub gate: GateName,
    /// What it means, for the catalogue.
    pub about: &'static str,
    /// What explains it away.
    pub yields: Yields,
    /// Looks for it.
    pub detect: fn(&Case<'_>) -> Option<Diagnosis>,
}

/// What explains a finding away, so that one mistake is one finding.
#[derive(Clone, Copy, Debug)]
pub enum Yields {
    /// Any of these.
    To(&'static [Code]),
    /// Whatever keeps a gate from passing.
    AnyBlocker,
}

impl Yields {
    /// Whether one of `found` explains it away.
    pub fn is_explained_by(self, found: &[Finding]) -> bool {
        match self {
            Self::To(codes) => found.iter().any(|finding| codes.contains(&finding.code)),
            Self::AnyBlocker => found.iter().any(|finding| finding.severity == Severity::Blocker),
        }
    }
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::reading::record::RecordData;

    #[test]
    fn evidence_names_source_record_and_ttl() {
        let source = Source::Vantage { name: "north".into() };
        let data = RecordData::A([192, 0, 2, 7].into());
        let seen = Sighting::of(&source, &Record { owner: "www.onswick.example".into(), ttl: 42, data });
        assert_eq!(seen.said, "www.onswick.example A 192.0.2.7");
        assert_eq!((seen.source.as_str(), seen.ttl), ("north", Some(42)));
    }
}

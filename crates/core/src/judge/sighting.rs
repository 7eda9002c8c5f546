//! Evidence: what was read, and who said so.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::name::dns::DnsName;
use crate::reading::answer::{Reading, Source};
use crate::reading::delegation::Delegation;
use crate::reading::record::Record;

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

    /// Why a question got no usable answer.
    pub fn of_failure(reading: &Reading) -> Self {
        let failure = reading.failure().unwrap_or_default();
        Self::new(&reading.source, format!("{} {}: {failure}", reading.name, reading.rtype))
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

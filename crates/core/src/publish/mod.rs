//! Publishing the customer's list for them, by dynamic update (RFC 2136) under a key that they
//! give (RFC 8945).
//!
//! What is changed is told as record sets before and after. Those before are what the update
//! depends on, those after are what it makes; what takes it back depends on what there is by then.

mod key;
mod plan;

use serde::{Deserialize, Serialize};

pub use self::key::{Algorithm, KeyError, UpdateKey};
pub use self::plan::{NotPlanned, plan, questions};
use crate::name::dns::DnsName;
use crate::reading::record::{RecordData, RecordType};

/// A record as a server of the zone holds it, or is to hold it.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Stored {
    /// Seconds.
    pub ttl: u32,
    /// Type and value, as they are judged.
    pub data: RecordData,
    /// The value's octets as they were read: a text may be cut into strings in many ways, and a
    /// value may hold more than is judged. Of a record to be made there are none.
    #[serde(default, with = "hex", skip_serializing_if = "Option::is_none")]
    pub octets: Option<Vec<u8>>,
}

impl PartialEq for Stored {
    /// TTLs count for nothing in an update (RFC 2136, section 1.1.1).
    fn eq(&self, other: &Self) -> bool {
        self.data == other.data
            && (self.octets == other.octets || self.octets.is_none() || other.octets.is_none())
    }
}

impl Eq for Stored {}

/// The records of one name and type, before and after.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SetChange {
    /// Owner name.
    pub owner: DnsName,
    /// Record type.
    pub rtype: RecordType,
    /// What must be there, no more and no less; nothing, if there must be none.
    pub before: Vec<Stored>,
    /// What is there afterwards.
    pub after: Vec<Stored>,
}

impl SetChange {
    /// Whether the set is only depended on.
    pub fn is_kept(&self) -> bool {
        self.gone().next().is_none() && self.added().next().is_none()
    }

    /// Records that are taken away.
    pub fn gone(&self) -> impl Iterator<Item = &Stored> {
        self.before.iter().filter(|record| !self.after.contains(record))
    }

    /// Records that are added.
    pub fn added(&self) -> impl Iterator<Item = &Stored> {
        self.after.iter().filter(|record| !self.before.contains(record))
    }
}

/// One update of a zone: all of it is done, or nothing (RFC 2136, section 3.7).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Update {
    /// The zone's apex.
    pub zone: DnsName,
    /// What is changed, and what else it depends on.
    pub sets: Vec<SetChange>,
}

impl Update {
    /// What takes back as much of it as a zone holds, all or a part or nothing; `None` where the zone
    /// holds what was neither there before nor made: somebody has changed it since.
    pub fn taken_back(&self, read: &[ReadSet]) -> Option<Self> {
        let mut sets = Vec::with_capacity(self.sets.len());
        for set in &self.sets {
            let found = found(read, set)?.records.clone();
            let is_ours = match set.is_kept() {
                true => is_same(&found, &set.before),
                false => found.iter().all(|record| set.before.contains(record) || set.after.contains(record)),
            };
            if !is_ours {
                return None;
            }
            sets.push(SetChange { before: found, after: set.before.clone(), ..set.clone() });
        }
        Some(Self { zone: self.zone.clone(), sets })
    }

    /// Whether it changes nothing.
    pub fn is_nothing(&self) -> bool {
        self.sets.iter().all(SetChange::is_kept)
    }

    /// The names and types that it is about.
    pub fn questions(&self) -> Vec<(DnsName, RecordType)> {
        self.sets.iter().map(|set| (set.owner.clone(), set.rtype)).collect()
    }

    /// Whether a zone holds what it makes.
    pub fn is_met_by(&self, read: &[ReadSet]) -> bool {
        self.sets.iter().all(|set| found(read, set).is_some_and(|found| is_same(&found.records, &set.after)))
    }
}

/// The records of one name and type, as a server of the zone has them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReadSet {
    /// Owner name.
    pub owner: DnsName,
    /// Record type.
    pub rtype: RecordType,
    /// The records; none if there are none.
    pub records: Vec<Stored>,
}

fn found<'a>(read: &'a [ReadSet], set: &SetChange) -> Option<&'a ReadSet> {
    read.iter().find(|found| found.owner == set.owner && found.rtype == set.rtype)
}

fn is_same(one: &[Stored], other: &[Stored]) -> bool {
    one.len() == other.len() && one.iter().all(|record| other.contains(record))
}

/// Octets as hexadecimal digits.
mod hex {
    use data_encoding::HEXLOWER;
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub(super) fn serialize<S: Serializer>(
        octets: &Option<Vec<u8>>,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        octets.as_ref().map(|octets| HEXLOWER.encode(octets)).serialize(serializer)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(
        deserializer: D,
    ) -> Result<Option<Vec<u8>>, D::Error> {
        let digits = Option::<String>::deserialize(deserializer)?;
        digits.map(|digits| HEXLOWER.decode(digits.as_bytes()).map_err(D::Error::custom)).transpose()
    }
}

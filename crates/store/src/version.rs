//! Versions of what people change.

use uuid::Uuid;

use crate::StoreError;

/// A record and which version of it there is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Version {
    /// Key of the record.
    pub id: Uuid,
    /// Grows with each change of what people have set.
    pub number: i64,
}

/// The versions that a change is asked for, each of some record; without them, whichever
/// there is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Expected(pub Option<Vec<Version>>);

impl Expected {
    /// Holds a record, which must be locked, to what is expected.
    ///
    /// # Errors
    /// [`StoreError::Changed`] if it is another one by now.
    pub fn meets(&self, id: Uuid, number: i64) -> Result<(), StoreError> {
        match &self.0 {
            Some(versions) if !versions.contains(&Version { id, number }) => Err(StoreError::Changed),
            _ => Ok(()),
        }
    }
}

//! A sentence in pieces, so that whoever shows it may set records apart, keep names of
//! other scripts from turning the line around, and tell a time as their reader's clock has it.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A piece of a sentence.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Piece {
    /// Words of the sentence itself.
    Text(String),
    /// A name, in a script of its own.
    Name(String),
    /// What is typed or read as it stands: a name of DNS, a value, a type.
    Record(String),
    /// A moment, to be told in the reader's own time.
    Time(DateTime<Utc>),
}

/// A sentence in its pieces, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
pub struct Said(pub Vec<Piece>);

impl Said {
    /// The sentence as plain text, with times in UTC.
    pub fn plain(&self) -> String {
        self.0.iter().map(Piece::plain).collect()
    }
}

impl Piece {
    /// The piece as plain text; a time is told in UTC.
    pub fn plain(&self) -> String {
        match self {
            Self::Text(text) | Self::Name(text) | Self::Record(text) => text.clone(),
            Self::Time(at) => in_utc(*at),
        }
    }
}

/// `2026-11-27 14:20 UTC`.
fn in_utc(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%d %H:%M UTC").to_string()
}

/// What stands in a sentence where its words leave a place.
#[derive(Clone, Debug)]
pub(crate) enum Given {
    Name(String),
    Record(String),
    Time(DateTime<Utc>),
    Count(usize),
}

impl Given {
    /// As a piece; a number is put in by the language itself, as it is counted there.
    pub(crate) fn piece(&self) -> Option<Piece> {
        match self {
            Self::Name(name) => Some(Piece::Name(name.clone())),
            Self::Record(record) => Some(Piece::Record(record.clone())),
            Self::Time(at) => Some(Piece::Time(*at)),
            Self::Count(_) => None,
        }
    }
}

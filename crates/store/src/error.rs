//! What can go wrong with records.

use std::error::Error;
use std::str::FromStr;

use nomenta_core::spelled::UnknownWord;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;
use serde_json::value::{RawValue, to_raw_value};
use sqlx::types::Json;
use thiserror::Error;

/// What PostgreSQL says (SQLSTATE, by how it begins) while it is not to be had: a broken
/// connection, nobody let in, too many connections, or starting, stopping and crashed.
const AWAY: [&str; 5] = ["08", "28", "53300", "55000", "57"];
/// What it says of a statement that took longer than it may.
const CANCELLED: &str = "57014";

/// What can go wrong with records.
#[derive(Debug, Error)]
pub enum StoreError {
    /// Another record has the name already.
    #[error("There is already {what} named {name}. Choose another name.")]
    Taken {
        /// Kind of record, with its article.
        what: &'static str,
        /// The name.
        name: String,
    },
    /// No record has the name.
    #[error("There is no {what} named {name}. Check the spelling.")]
    Missing {
        /// Kind of record.
        what: &'static str,
        /// The name.
        name: String,
    },
    /// Several accounts claim the name, and none was named.
    #[error("{} claim {name}. Say whose is meant.", .accounts.join(" and "))]
    Several {
        /// The name.
        name: String,
        /// Accounts that claim it.
        accounts: Vec<String>,
    },
    /// The claim has ended.
    #[error("The domain has left the platform. Take it in anew first.")]
    Ended,
    /// The domain is paused, or its account suspended.
    #[error("The domain is paused, or its account is suspended. Resume it first.")]
    Resting,
    /// The account's plan grants no more domains.
    #[error("{}", Self::no_room(*.0))]
    NoRoom(u32),
    /// As many are told as may be.
    #[error("{0} are told already, and no more may be. Remove one that is no longer needed")]
    ManyReceivers(i64),
    /// The account is suspended.
    #[error("The account is suspended. Resume it before a domain is taken in for it.")]
    Suspended,
    /// It is another version by now than the change was asked for.
    #[error("It has been changed since it was read. Read it again, and see whether the change still fits.")]
    Changed,
    /// The contest is settled.
    #[error("The contest is settled already. Nothing is left to rule upon.")]
    Settled,
    /// The lease ran out and another process has taken the task.
    #[error("The lease on this task was lost; another process does it.")]
    LeaseLost,
    /// A stored value cannot be read back; nothing that is asked again helps.
    #[error("A stored {what} cannot be read: {cause}")]
    Unreadable {
        /// Kind of value.
        what: &'static str,
        /// Why.
        #[source]
        cause: Box<dyn Error + Send + Sync>,
    },
    /// The database itself; the same call may succeed a moment later.
    #[error("The database failed: {0}")]
    Database(#[from] sqlx::Error),
}

impl StoreError {
    /// Whether the database is away, or has no connection to spare.
    pub fn is_away(&self) -> bool {
        let Self::Database(error) = self else { return false };
        match error {
            sqlx::Error::PoolTimedOut
            | sqlx::Error::PoolClosed
            | sqlx::Error::Io(_)
            | sqlx::Error::Tls(_) => true,
            sqlx::Error::Database(cause) => cause
                .code()
                .is_some_and(|code| AWAY.iter().any(|class| code.starts_with(class)) && code != CANCELLED),
            _ => false,
        }
    }

    /// Whether the same may succeed in another transaction: the database is away, or two
    /// transactions were in each other's way (SQLSTATE class 40).
    pub(crate) fn is_passing(&self) -> bool {
        let Self::Database(error) = self else { return false };
        let code = error.as_database_error().and_then(|cause| cause.code());
        self.is_away() || code.is_some_and(|code| code.starts_with("40"))
    }

    /// Whether a statement took longer than it may.
    pub fn is_overlong(&self) -> bool {
        match self {
            Self::Database(sqlx::Error::Database(cause)) => {
                cause.code().is_some_and(|code| code == CANCELLED)
            }
            _ => false,
        }
    }

    pub(crate) fn missing(what: &'static str, name: &str) -> Self {
        Self::Missing { what, name: name.to_owned() }
    }

    pub(crate) fn unreadable(what: &'static str, cause: impl Into<Box<dyn Error + Send + Sync>>) -> Self {
        Self::Unreadable { what, cause: cause.into() }
    }

    fn no_room(granted: u32) -> String {
        match granted {
            0 => "The account's plan has no custom domains. Raise its allowance first.".into(),
            1 => "The account's plan has one custom domain, and it is in use. Raise its allowance, or release that one.".into(),
            more => format!("The account's plan has {more} custom domains, and all are in use. Raise its allowance, or release one."),
        }
    }

    /// Turns a unique violation into [`Taken`](Self::Taken).
    pub(crate) fn or_taken(error: sqlx::Error, what: &'static str, name: &str) -> Self {
        match error.as_database_error() {
            Some(cause) if cause.is_unique_violation() => Self::Taken { what, name: name.to_owned() },
            _ => error.into(),
        }
    }
}

/// A value that is stored as JSON, written out already.
pub(crate) type Kept = Json<Box<RawValue>>;

/// Writes a value out that is stored as JSON.
pub(crate) fn kept(value: &impl Serialize) -> Result<Kept, StoreError> {
    let text = to_raw_value(value).map_err(|cause| sqlx::Error::Encode(cause.into()))?;
    Ok(Json(text))
}

/// Reads a value that is stored as JSON.
pub(crate) fn read<T: DeserializeOwned>(what: &'static str, stored: Value) -> Result<T, StoreError> {
    serde_json::from_value(stored).map_err(|cause| StoreError::unreadable(what, cause))
}

/// Reads a value that may be missing.
pub(crate) fn read_if<T: DeserializeOwned>(
    what: &'static str,
    stored: Option<Value>,
) -> Result<Option<T>, StoreError> {
    stored.map(|stored| read(what, stored)).transpose()
}

/// Writes a value out that is stored as text, for nobody to ask for a part of it.
pub(crate) fn kept_text(value: &impl Serialize) -> Result<String, StoreError> {
    Ok(serde_json::to_string(value).map_err(|cause| sqlx::Error::Encode(cause.into()))?)
}

/// Reads such a value, which may be missing.
pub(crate) fn read_text<T: DeserializeOwned>(
    what: &'static str,
    stored: Option<String>,
) -> Result<Option<T>, StoreError> {
    let read =
        |text: String| serde_json::from_str(&text).map_err(|cause| StoreError::unreadable(what, cause));
    stored.map(read).transpose()
}

/// Reads a word of one of the enums that spell theirs once.
pub(crate) fn word<T: FromStr<Err = UnknownWord>>(what: &'static str, stored: &str) -> Result<T, StoreError> {
    stored.parse().map_err(|cause| StoreError::unreadable(what, cause))
}

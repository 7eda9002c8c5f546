//! What can go wrong with records.

use thiserror::Error;

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
    /// The lease ran out and another process has taken the task.
    #[error("The lease on this task was lost; another process does it.")]
    LeaseLost,
    /// A stored value cannot be read back.
    #[error("A stored {what} cannot be read: {cause}")]
    Unreadable {
        /// Kind of value.
        what: &'static str,
        /// Why.
        cause: String,
    },
    /// The database itself.
    #[error("The database failed: {0}")]
    Database(#[from] sqlx::Error),
}

impl StoreError {
    pub(crate) fn missing(what: &'static str, name: &str) -> Self {
        Self::Missing { what, name: name.to_owned() }
    }

    pub(crate) fn unreadable(what: &'static str, cause: impl ToString) -> Self {
        Self::Unreadable { what, cause: cause.to_string() }
    }

    /// Turns a unique violation into [`Taken`](Self::Taken).
    pub(crate) fn or_taken(error: sqlx::Error, what: &'static str, name: &str) -> Self {
        match error.as_database_error() {
            Some(e) if e.is_unique_violation() => Self::Taken { what, name: name.to_owned() },
            _ => error.into(),
        }
    }
}

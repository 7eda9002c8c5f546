//! Listings: whose records they show, and where a page begins.

use chrono::{DateTime, Utc};
use nomenta_core::judge::code::Code;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Whose records are shown: everybody's, or those of some accounts.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Whose {
    /// The whole fleet's.
    Everybodys,
    /// Those of these accounts; nothing, if there are none.
    Of(Vec<Uuid>),
    /// The same part of them, for somebody who sees the whole fleet's.
    PartOf(Vec<Uuid>),
}

/// Nobody's: whoever forgets to say whose sees nothing.
impl Default for Whose {
    fn default() -> Self {
        Self::NOBODYS
    }
}

impl Whose {
    /// Nobody's: for whoever has no key, and sees what is told of one domain alone.
    pub const NOBODYS: Self = Self::Of(Vec::new());

    /// The accounts, where only theirs are shown.
    pub(crate) fn accounts(&self) -> Option<&[Uuid]> {
        match self {
            Self::Everybodys => None,
            Self::Of(accounts) | Self::PartOf(accounts) => Some(accounts),
        }
    }

    /// Whether what tells of domains of other accounts is shown.
    pub(crate) fn sees_others(&self) -> bool {
        !matches!(self, Self::Of(_))
    }

    /// The accounts whose receivers are shown: those of the platform's staff are for staff alone.
    pub(crate) fn own(&self) -> Option<&[Uuid]> {
        self.accounts().filter(|_| !self.sees_others())
    }

    /// Codes of findings that are not shown.
    pub(crate) fn unseen(&self) -> Vec<String> {
        let codes = Code::OF_OTHERS.iter().filter(|code| self.seen(**code).is_none());
        codes.map(|code| code.as_str().to_owned()).collect()
    }

    /// A finding, unless it tells of what is not shown.
    pub(crate) fn seen(&self, finding: Code) -> Option<Code> {
        Some(finding).filter(|finding| self.sees_others() || !finding.is_of_others())
    }

    /// Whether only some accounts' are shown.
    pub fn is_narrow(&self) -> bool {
        self.accounts().is_some()
    }

    /// Whether an account's are among them.
    pub fn has(&self, account: Uuid) -> bool {
        self.accounts().is_none_or(|accounts| accounts.contains(&account))
    }

    /// Of these records those of one account; nothing, if they have none of it.
    pub fn of_account(&self, account: Uuid) -> Option<Self> {
        match self {
            _ if !self.has(account) => None,
            Self::Of(_) => Some(Self::Of(vec![account])),
            Self::Everybodys | Self::PartOf(_) => Some(Self::PartOf(vec![account])),
        }
    }
}

/// Where a page of a listing begins: after the row with this key, by what the listing is
/// sorted by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place<K> {
    /// What it is sorted by.
    pub by: K,
    /// Key of the record, among those that are alike by that.
    pub id: Uuid,
}

impl<K> Place<K> {
    /// After a row.
    pub fn after(by: K, id: Uuid) -> Self {
        Self { by, id }
    }
}

/// A page of a listing in which names may be gone along.
#[derive(Clone, Debug)]
pub struct Page<T, P> {
    /// Its lines.
    pub rows: Vec<T>,
    /// Where to go on, where the page ends for another reason than that it is full.
    pub beyond: Option<P>,
}

/// A row that is found where names are gone along.
pub(crate) trait Passed {
    /// Whether it is no line of the page, but the name at which that ended.
    fn is_end(&self) -> bool;
}

/// Where to go on behind rows that names were gone along for, where those end before the page is
/// full; the row that says so is taken away.
pub(crate) fn beyond<T: Passed, P>(rows: &mut Vec<T>, place: impl Fn(&T) -> P) -> Option<P> {
    rows.pop_if(|last| last.is_end()).map(|last| place(&last))
}

/// Rows of a table by name among as many as `walked()` says, and if they do not fill a page, the
/// one at which that ended: what `$statement` finds after a name, for a pattern and a limit.
macro_rules! gone_along {
    ($statement:ident, $table:literal, $pool:expr, $after:expr, $pattern:expr, $limit:expr) => {
        $statement!(@gone_along $pool; $after, $pattern, $limit =>
            "WITH found AS MATERIALIZED (
                 SELECT w.id, w.name, false AS is_end FROM (
                     SELECT id, name, sought FROM " + $table + " WHERE name > $1 ORDER BY name LIMIT walked()) w
                 WHERE w.sought LIKE $2 ORDER BY w.name LIMIT $3)
             SELECT * FROM found
             UNION ALL SELECT e.*, true FROM (
                 SELECT id, name FROM " + $table + " WHERE name > $1 ORDER BY name OFFSET walked() - 1 LIMIT 1) e
             WHERE (SELECT count(*) FROM found) < $3")
    };
}
pub(crate) use gone_along;

/// A pattern for LIKE that finds a text anywhere.
pub(crate) fn containing(text: &str) -> String {
    format!("%{}%", text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_"))
}

/// A comparison with a place always has one: without any, it is one that lies before, or
/// behind, every row. So an index is entered where the page begins, and not read up to it.
pub(crate) trait Ends {
    /// Before every row.
    fn first() -> Self;
    /// Behind every row.
    fn last() -> Self;
}

impl Ends for String {
    fn first() -> Self {
        Self::new()
    }

    fn last() -> Self {
        // Behind every letter of a host name or a short name.
        "\u{7f}".into()
    }
}

impl Ends for DateTime<Utc> {
    fn first() -> Self {
        Self::UNIX_EPOCH
    }

    fn last() -> Self {
        // The year 9999.
        Self::from_timestamp(253_402_300_799, 0).unwrap_or(Self::UNIX_EPOCH)
    }
}

/// The place that was given, or the end at which the listing begins.
pub(crate) fn or_end<K: Ends + Clone>(given: Option<&Place<K>>, is_descending: bool) -> Place<K> {
    match given {
        Some(place) => place.clone(),
        None if is_descending => Place { by: K::last(), id: Uuid::max() },
        None => Place { by: K::first(), id: Uuid::nil() },
    }
}

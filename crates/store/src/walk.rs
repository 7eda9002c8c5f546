//! Searches for a text that many names have.
//!
//! A text that few names have is found by its parts, and what is found is sorted. Of one that
//! thousands have, that would take as long as there are thousands; so the names are gone along
//! in the order of the listing instead, up to a number for each page. A page may be shorter
//! than it might be for that, and says where to go on.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};

use crate::Store;
use crate::StoreError;
use crate::places::{Page, Place, Whose, beyond, or_end};
use crate::roster::{Order, RosterColumns, RosterFilter, RosterRow, Sort, lines};

/// A text that more rows are reckoned to have is common.
const COMMON: i64 = 900;
/// How long a reckoning holds: whoever reads one page after another looks for the same.
const HELD: Duration = Duration::from_secs(60);
/// Reckonings that are held at most.
const MOST_HELD: usize = 1_000;

/// What is looked through for a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Among {
    Domains,
    Accounts,
    Sites,
}

/// Which texts were reckoned to be common a moment ago.
#[derive(Debug, Default)]
pub(crate) struct Reckoned {
    held: Mutex<HashMap<(Among, String), (Instant, bool)>>,
}

impl Reckoned {
    fn get(&self, among: Among, pattern: &str) -> Option<bool> {
        let held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        let (at, is_common) = *held.get(&(among, pattern.to_owned()))?;
        (at.elapsed() < HELD).then_some(is_common)
    }

    fn keep(&self, among: Among, pattern: &str, is_common: bool) {
        let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        if held.len() >= MOST_HELD {
            held.clear();
        }
        held.insert((among, pattern.to_owned()), (Instant::now(), is_common));
    }
}

/// The lines of one page among as many names as `walked()` says, and if it is not full, the row
/// at which names were gone along no further.
macro_rules! walked {
    ($store:expr, $place:expr, $pattern:expr, $limit:expr, $is_descending:expr, $column:literal) => {
        if $is_descending {
            walked!(@to $store, $place, $pattern, $limit, $column, "<", "DESC")
        } else {
            walked!(@to $store, $place, $pattern, $limit, $column, ">", "ASC")
        }
    };
    (@to $store:expr, $place:expr, $pattern:expr, $limit:expr, $column:literal, $past:literal, $direction:literal) => {
        lines!($store.pool, $direction, "p.is_end"; $place.by, $place.id, $pattern, $limit =>
            "WITH found AS MATERIALIZED (
                 SELECT w.id, w.by, false AS is_end FROM (
                     SELECT id, " + $column + " AS by, sought FROM domains
                     WHERE ended_at IS NULL AND (" + $column + ", id) " + $past + " ($1, $2)
                     ORDER BY " + $column + " " + $direction + ", id " + $direction + " LIMIT walked()) w
                 WHERE w.sought LIKE $3 ORDER BY w.by " + $direction + ", w.id " + $direction + " LIMIT $4)
             SELECT * FROM found
             UNION ALL SELECT e.*, true FROM (
                 SELECT id, " + $column + " AS by FROM domains
                 WHERE ended_at IS NULL AND (" + $column + ", id) " + $past + " ($1, $2)
                 ORDER BY " + $column + " " + $direction + ", id " + $direction + " OFFSET walked() - 1 LIMIT 1) e
             WHERE (SELECT count(*) FROM found) < $4")
    };
}

impl Store {
    /// A page of the roster for whoever reads one page after another: at most `limit` lines,
    /// and where to go on if there may be more.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn roster_page(
        &self,
        filter: &RosterFilter,
        order: &Order,
        limit: i64,
    ) -> Result<Page<RosterRow, Sort>, StoreError> {
        let pattern = filter.pattern().filter(|_| filter.is_of_text_alone());
        if let Some(pattern) = pattern
            && self.is_common(Among::Domains, &pattern).await?
            && let Some(page) = self.walk(&pattern, order, limit).await?
        {
            return Ok(page);
        }
        Ok(Page { rows: self.roster(filter, order, limit).await?, beyond: None })
    }

    /// Whether so many domains have the text of a filter that it leaves more than others do; not
    /// asked where another leaves less anyway.
    pub(crate) async fn is_of_common_text(&self, filter: &RosterFilter) -> Result<bool, StoreError> {
        match filter.searched() {
            Some(pattern) => self.is_common(Among::Domains, &pattern).await,
            None => Ok(false),
        }
    }

    /// Whether so many accounts have a text that they are better gone along.
    pub(crate) async fn is_common_to_accounts(&self, pattern: &str) -> Result<bool, StoreError> {
        self.is_common(Among::Accounts, pattern).await
    }

    /// The same of sites.
    pub(crate) async fn is_common_to_sites(&self, pattern: &str) -> Result<bool, StoreError> {
        self.is_common(Among::Sites, pattern).await
    }

    async fn is_common(&self, among: Among, pattern: &str) -> Result<bool, StoreError> {
        if let Some(known) = self.reckoned.get(among, pattern) {
            return Ok(known);
        }

        let count = match among {
            Among::Domains => {
                let count = sqlx::query_scalar!(r#"SELECT reckoned_domains($1) AS "n!""#, pattern);
                count.fetch_one(&self.pool).await?
            }
            Among::Accounts => {
                let count = sqlx::query_scalar!(r#"SELECT reckoned_accounts($1) AS "n!""#, pattern);
                count.fetch_one(&self.pool).await?
            }
            Among::Sites => {
                let count = sqlx::query_scalar!(r#"SELECT reckoned_sites($1) AS "n!""#, pattern);
                count.fetch_one(&self.pool).await?
            }
        };
        self.reckoned.keep(among, pattern, count > COMMON);
        Ok(count > COMMON)
    }

    /// `None` for an order in which names cannot be gone along: stages are gone through by
    /// name, one after the other.
    async fn walk(
        &self,
        pattern: &str,
        order: &Order,
        limit: i64,
    ) -> Result<Option<Page<RosterRow, Sort>>, StoreError> {
        let is_descending = order.is_descending;
        let (rows, beyond) = match &order.by {
            Sort::Stage(_) => return Ok(None),
            Sort::Name(place) => {
                let place: Place<String> = or_end(place.as_ref(), is_descending);
                let mut rows = walked!(self, place, pattern, limit, is_descending, "host");
                let last = beyond(&mut rows, |row| Place::after(row.host.clone(), row.id));
                (rows, last.map(|last| Sort::Name(Some(last))))
            }
            Sort::Enrolled(place) => {
                let place: Place<DateTime<Utc>> = or_end(place.as_ref(), is_descending);
                let mut rows = walked!(self, place, pattern, limit, is_descending, "enrolled_at");
                let last = beyond(&mut rows, |row| Place::after(row.enrolled_at, row.id));
                (rows, last.map(|last| Sort::Enrolled(Some(last))))
            }
            Sort::Moved(place) => {
                let place: Place<DateTime<Utc>> = or_end(place.as_ref(), is_descending);
                let mut rows = walked!(self, place, pattern, limit, is_descending, "moved_at");
                let last = beyond(&mut rows, |row| Place::after(row.moved_at, row.id));
                (rows, last.map(|last| Sort::Moved(Some(last))))
            }
        };

        let rows = rows.into_iter().map(|row| row.read(&Whose::Everybodys)).collect::<Result<_, _>>()?;
        Ok(Some(Page { rows, beyond }))
    }
}

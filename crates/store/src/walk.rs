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
use crate::places::{Place, or_end};
use crate::roster::{Order, RosterColumns, RosterFilter, RosterRow, Sort};

/// A text that more rows are reckoned to have is common.
const COMMON: i64 = 900;
/// Names that are gone along for one page.
const WALKED: i64 = 6_000;
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

/// A page of the roster.
#[derive(Clone, Debug)]
pub struct RosterPage {
    /// Its lines.
    pub rows: Vec<RosterRow>,
    /// Where to go on, where the page ends for another reason than that it is full.
    pub beyond: Option<Sort>,
}

/// The lines of one page, and where the names that were gone along end.
macro_rules! walked {
    ($store:expr, $place:expr, $pattern:expr, $limit:expr, $column:literal, $past:literal, $direction:literal) => {{
        let rows = sqlx::query_as!(
            RosterColumns,
            r#"SELECT d.id, d.host, (SELECT name FROM accounts WHERE id = d.account_id) AS "account!",
                      (SELECT name FROM sites WHERE id = d.site_id) AS "site!", d.held_since, d.stage,
                      d.ownership, d.routing, d.certificate, d.serving, d.codes, d.operator, d.spread,
                      d.enrolled_at, d.moved_at, d.looked_at
               FROM (SELECT w.id, w.by FROM (
                         SELECT id, "#
                + $column
                + " AS by, sought FROM domains
                         WHERE ended_at IS NULL AND ("
                + $column
                + ", id) "
                + $past
                + " ($1, $2)
                         ORDER BY "
                + $column
                + " "
                + $direction
                + ", id "
                + $direction
                + " LIMIT $5) w
                     WHERE w.sought LIKE $3 ORDER BY w.by "
                + $direction
                + ", w.id "
                + $direction
                + " LIMIT $4) p
               CROSS JOIN LATERAL (SELECT * FROM domains WHERE id = p.id OFFSET 0) d
               ORDER BY p.by "
                + $direction
                + ", p.id "
                + $direction,
            $place.by,
            $place.id,
            $pattern,
            $limit,
            WALKED
        )
        .fetch_all(&$store.pool)
        .await?;

        let is_full = i64::try_from(rows.len()).is_ok_and(|found| found >= $limit);
        let last = match is_full {
            true => None,
            false => {
                sqlx::query!(
                    "SELECT id, "
                        + $column
                        + " AS by FROM domains
                     WHERE ended_at IS NULL AND ("
                        + $column
                        + ", id) "
                        + $past
                        + " ($1, $2)
                     ORDER BY "
                        + $column
                        + " "
                        + $direction
                        + ", id "
                        + $direction
                        + " OFFSET $3 LIMIT 1",
                    $place.by,
                    $place.id,
                    WALKED - 1
                )
                .fetch_optional(&$store.pool)
                .await?
            }
        };
        (rows, last.map(|last| Place::after(last.by, last.id)))
    }};
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
    ) -> Result<RosterPage, StoreError> {
        // Stages are gone through by name, one after the other.
        let is_walked = filter.is_of_text_alone() && !matches!(order.by, Sort::Stage(_));
        let pattern = filter.pattern().filter(|_| is_walked);
        if let Some(pattern) = pattern
            && self.is_common(Among::Domains, &pattern).await?
        {
            return self.walk(&pattern, order, limit).await;
        }
        Ok(RosterPage { rows: self.roster(filter, order, limit).await?, beyond: None })
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

    async fn walk(&self, pattern: &str, order: &Order, limit: i64) -> Result<RosterPage, StoreError> {
        let is_descending = order.is_descending;
        let (rows, beyond) = match &order.by {
            Sort::Enrolled(place) => {
                let place: Place<DateTime<Utc>> = or_end(place.as_ref(), is_descending);
                let (rows, last) = match is_descending {
                    true => walked!(self, place, pattern, limit, "enrolled_at", "<", "DESC"),
                    false => walked!(self, place, pattern, limit, "enrolled_at", ">", "ASC"),
                };
                (rows, last.map(|last| Sort::Enrolled(Some(last))))
            }
            Sort::Moved(place) => {
                let place: Place<DateTime<Utc>> = or_end(place.as_ref(), is_descending);
                let (rows, last) = match is_descending {
                    true => walked!(self, place, pattern, limit, "moved_at", "<", "DESC"),
                    false => walked!(self, place, pattern, limit, "moved_at", ">", "ASC"),
                };
                (rows, last.map(|last| Sort::Moved(Some(last))))
            }
            Sort::Stage(_) => return Ok(RosterPage { rows: Vec::new(), beyond: None }),
            Sort::Name(place) => {
                let place: Place<String> = or_end(place.as_ref(), is_descending);
                let (rows, last) = match is_descending {
                    true => walked!(self, place, pattern, limit, "host", "<", "DESC"),
                    false => walked!(self, place, pattern, limit, "host", ">", "ASC"),
                };
                (rows, last.map(|last| Sort::Name(Some(last))))
            }
        };

        let rows = rows.into_iter().map(RosterColumns::read).collect::<Result<_, _>>()?;
        Ok(RosterPage { rows, beyond })
    }
}

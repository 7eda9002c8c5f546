//! The roster: which domains there are, and where they stand.
//!
//! A listing is read along one index, from the place where its page begins: there is one
//! for each order, of the whole fleet and of what a filter is about most narrowly. The
//! statement is another for each of them, so that no plan has to fit them all; what else
//! is filtered by is looked at row by row.

use chrono::{DateTime, Utc};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::{GateName, GateState, Stage};
use nomenta_core::name::sought;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;
use crate::places::{Passed, Place, Whose, containing, or_end};

/// Which domains to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct RosterFilter {
    /// Only those at this stage; without one, those that have not left.
    pub stage: Option<Stage>,
    /// Only those of these accounts.
    pub whose: Whose,
    /// Only those that show this site.
    pub site: Option<String>,
    /// Only those behind this ingress.
    pub ingress: Option<String>,
    /// Only those whose DNS this operator runs.
    pub operator: Option<String>,
    /// Only those with this finding; of those that have left too.
    pub finding: Option<Code>,
    /// Only those whose name contains this, in either spelling.
    pub text: Option<String>,
    /// Only those taken in before then.
    pub before: Option<DateTime<Utc>>,
    /// Only those taken in at that time or later.
    pub since: Option<DateTime<Utc>>,
}

/// What a roster is sorted by, and the place where its page begins.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Sort {
    /// By name.
    Name(Option<Place<String>>),
    /// By stage in the order in which they are passed, and by name.
    Stage(Option<(Stage, Place<String>)>),
    /// By when they were taken in.
    Enrolled(Option<Place<DateTime<Utc>>>),
    /// By when anything about them moved last.
    Moved(Option<Place<DateTime<Utc>>>),
}

/// A sort and its direction.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Order {
    /// By what.
    pub by: Sort,
    /// From the end.
    pub is_descending: bool,
}

impl Default for Order {
    fn default() -> Self {
        Self { by: Sort::Name(None), is_descending: false }
    }
}

/// One line of the roster.
#[derive(Clone, Debug)]
pub struct RosterRow {
    /// Key of the record.
    pub id: Uuid,
    /// The name.
    pub host: String,
    /// The account.
    pub account: String,
    /// Since when it holds the name.
    pub held_since: Option<DateTime<Utc>>,
    /// The site.
    pub site: String,
    /// The stage.
    pub stage: Stage,
    /// How each gate stands, in order.
    pub gates: [(GateName, GateState); 4],
    /// Codes of open findings.
    pub findings: Vec<Code>,
    /// Who runs its DNS.
    pub operator: Option<String>,
    /// Share of vantages that see the routing.
    pub spread: Option<f64>,
    /// When it was taken in.
    pub enrolled_at: DateTime<Utc>,
    /// When anything about it moved last.
    pub moved_at: DateTime<Utc>,
    /// Latest look.
    pub looked_at: Option<DateTime<Utc>>,
}

pub(crate) struct RosterColumns {
    pub id: Uuid,
    pub host: String,
    pub account: String,
    pub held_since: Option<DateTime<Utc>>,
    pub site: String,
    pub stage: String,
    pub ownership: String,
    pub routing: String,
    pub certificate: String,
    pub serving: String,
    pub codes: Vec<String>,
    pub operator: Option<String>,
    pub spread: Option<f64>,
    pub enrolled_at: DateTime<Utc>,
    pub moved_at: DateTime<Utc>,
    pub looked_at: Option<DateTime<Utc>>,
    /// Whether it is no line, but where names were gone along no further.
    pub is_end: bool,
}

impl Passed for RosterColumns {
    fn is_end(&self) -> bool {
        self.is_end
    }
}

impl RosterColumns {
    pub(crate) fn read(self, whose: &Whose) -> Result<RosterRow, StoreError> {
        let state = |stored: &str| word("state of a gate", stored);
        let codes: Vec<Code> =
            self.codes.iter().map(|code| word("finding", code)).collect::<Result<_, _>>()?;

        Ok(RosterRow {
            id: self.id,
            host: self.host,
            account: self.account,
            held_since: self.held_since,
            site: self.site,
            stage: word("stage", &self.stage)?,
            gates: [
                (GateName::Ownership, state(&self.ownership)?),
                (GateName::Routing, state(&self.routing)?),
                (GateName::Certificate, state(&self.certificate)?),
                (GateName::Serving, state(&self.serving)?),
            ],
            findings: codes.into_iter().filter_map(|code| whose.seen(code)).collect(),
            operator: self.operator,
            spread: self.spread,
            enrolled_at: self.enrolled_at,
            moved_at: self.moved_at,
            looked_at: self.looked_at,
        })
    }
}

/// What the statement goes along: the filter that leaves least.
#[derive(Clone, Copy)]
pub(crate) enum Along {
    Text,
    Site,
    Account,
    Finding,
    Operator,
    Ingress,
    Fleet,
}

impl RosterFilter {
    /// The pattern of a text that may leave least: of what has left, nothing is searched.
    pub(crate) fn searched(&self) -> Option<String> {
        let is_narrow = self.site.is_some() || self.whose.is_narrow() || self.finding.is_some();
        self.pattern().filter(|_| !is_narrow && self.stage != Some(Stage::Released))
    }

    /// A text that many names have leaves more than any other filter.
    pub(crate) fn along(&self, is_common: bool) -> Along {
        if !is_common && self.searched().is_some() {
            return Along::Text;
        }

        let filters = [
            (self.site.is_some(), Along::Site),
            (self.whose.is_narrow(), Along::Account),
            (self.finding.is_some(), Along::Finding),
            (self.operator.is_some(), Along::Operator),
            (self.ingress.is_some(), Along::Ingress),
        ];
        filters.into_iter().find(|(is_given, _)| *is_given).map_or(Along::Fleet, |(_, along)| along)
    }

    /// Whether nothing but a text is asked for.
    pub(crate) fn is_of_text_alone(&self) -> bool {
        let is_narrow = self.stage.is_some() || self.whose.is_narrow() || self.site.is_some();
        let is_filtered = self.ingress.is_some() || self.operator.is_some() || self.finding.is_some();
        let is_dated = self.before.is_some() || self.since.is_some();
        self.text.is_some() && !(is_narrow || is_filtered || is_dated)
    }

    /// The stages that are listed. A finding is of those that have left, too.
    pub(crate) fn stages(&self) -> Vec<Stage> {
        match self.stage {
            Some(stage) => vec![stage],
            None if self.finding.is_some() => Stage::WORDS.to_vec(),
            None => Stage::ALL.to_vec(),
        }
    }

    /// The code of the finding that is asked for; of one that is not shown, a code that no domain has.
    pub(crate) fn code(&self) -> Option<&'static str> {
        self.finding.map(|finding| self.whose.seen(finding).map_or("", Code::as_str))
    }

    /// The later one of a place and of where the age that is asked for begins.
    fn within_age(&self, place: Place<DateTime<Utc>>, is_descending: bool) -> Place<DateTime<Utc>> {
        match (is_descending, self.since, self.before) {
            (false, Some(since), _) if place.by < since => Place::after(since, Uuid::nil()),
            (true, _, Some(before)) if place.by > before => Place::after(before, Uuid::nil()),
            _ => place,
        }
    }

    /// What is looked for, as a pattern for LIKE; nothing, where it has no letters.
    pub(crate) fn pattern(&self) -> Option<String> {
        let text = self.text.as_deref().map(sought::text).filter(|text| !text.is_empty());
        text.map(|text| containing(&text))
    }
}

/// A filter, and how the statement for it is put.
struct Asked<'a> {
    filter: &'a RosterFilter,
    along: Along,
    /// Empty along what holds every stage, where all are listed.
    stages: Vec<String>,
}

impl<'a> Asked<'a> {
    fn of(filter: &'a RosterFilter, is_common: bool) -> Self {
        let along = filter.along(is_common);
        // Of all that have not left there is an index that holds every stage.
        let is_of_all = filter.stage.is_none() && matches!(along, Along::Text | Along::Fleet);
        let stages = if is_of_all { Vec::new() } else { filter.stages() };
        Self { filter, along, stages: stages.iter().map(|stage| stage.as_str().to_owned()).collect() }
    }
}

/// Lines of the roster: of the rows that a statement finds, each with its key and with what
/// they are sorted by; `$is_end` tells where a walk ends.
macro_rules! lines {
    ($pool:expr, $direction:literal, $is_end:literal; $($given:expr),+ => $($found:tt)+) => {
        sqlx::query_as!(
            RosterColumns,
            // Row by row, once it is known which: a join by hash would read the tables whole.
            r#"SELECT d.id, d.host, (SELECT name FROM accounts WHERE id = d.account_id) AS "account!",
                      (SELECT name FROM sites WHERE id = d.site_id) AS "site!", d.held_since, d.stage,
                      d.ownership, d.routing, d.certificate, d.serving, d.codes, d.operator, d.spread,
                      d.enrolled_at, d.moved_at, d.looked_at, "# + $is_end + r#" AS "is_end!"
               FROM ("# + $($found)+ + ") p
               CROSS JOIN LATERAL (SELECT * FROM domains WHERE id = p.id OFFSET 0) d
               ORDER BY p.by " + $direction + ", p.id " + $direction + r#", "is_end!""#,
            $($given),+
        )
        .fetch_all(&$pool)
        .await?
    };
}
pub(crate) use lines;

/// One page of the roster: the statement for an order and for what it goes along.
///
/// `$given` is what is asked for, the place and the limit; `$order` the column that is
/// sorted by, how rows behind the place compare with it, the direction, and how the age is
/// asked for.
macro_rules! page {
    ($store:expr, $given:tt, $order:tt, $asked:expr) => {
        match $asked.along {
            Along::Text => page!(@all $store.search, $given, $order, "id = ANY(ARRAY(SELECT t.id FROM named_like($5) AS t (id)))"),
            Along::Fleet if $asked.filter.stage.is_none() => page!(@all $store.pool, $given, $order, "ended_at IS NULL"),
            Along::Fleet => page!(@each $store.pool, $given, $order, "", "true"),
            Along::Site => page!(@each $store.pool, $given, $order, "", "site_id = (SELECT id FROM sites WHERE name = $7)"),
            Along::Operator => page!(@each $store.pool, $given, $order, "", "operator = $9"),
            Along::Account => page!(@each $store.pool, $given, $order, "CROSS JOIN unnest($6::uuid[]) AS w (id)", "account_id = w.id"),
            Along::Ingress => {
                page!(@each $store.pool, $given, $order, "", "ingress_id = (SELECT id FROM ingresses WHERE name = $8)")
            }
            Along::Finding => page!(@finding $store.pool, $given, $order),
        }
    };
    // Along an index that holds every stage.
    (@all $pool:expr, $given:tt, $order:tt, $along:literal) => {
        page!(@lines $pool, $given, $order, "FROM", "", "", "ended_at IS NULL AND (cardinality($1::text[]) = 0 OR stage = ANY($1))", $along)
    };
    // Along an index that is sorted within each stage.
    (@each $pool:expr, $given:tt, $order:tt, $each:literal, $along:literal) => {
        page!(@lines $pool, $given, $order, "FROM unnest($1::text[]) AS s (of) ", $each, " CROSS JOIN LATERAL", "stage = s.of", $along)
    };
    (@lines $pool:expr, $given:tt, ($column:literal, $past:literal, $direction:literal, $age:literal),
     $from:literal, $each:literal, $lateral:literal, $stage:literal, $along:literal) => {
        page!(@rows $pool, $given, $direction, $from + $each + $lateral + " (
                 SELECT id, " + $column + " AS by FROM domains
                 WHERE " + $along + " AND " + $stage + " AND (" + $column + ", id) " + $past + " ($2, $3)
                   AND ($5::text IS NULL OR sought LIKE $5)
                   AND ($6::uuid[] IS NULL OR account_id = ANY($6))
                   AND ($7::text IS NULL OR site_id = (SELECT id FROM sites WHERE name = $7))
                   AND ($8::text IS NULL OR ingress_id = (SELECT id FROM ingresses WHERE name = $8))
                   AND ($9::text IS NULL OR operator = $9)
                   AND ($10::text IS NULL OR codes @> ARRAY[$10])
                   AND " + $age + "
                 ORDER BY " + $column + " " + $direction + ", id " + $direction + " LIMIT $4) l")
    };
    // Along the findings, which carry what those who have them are sorted by.
    (@finding $pool:expr, $given:tt, ($column:literal, $past:literal, $direction:literal, $age:literal)) => {
        page!(@rows $pool, $given, $direction,
            "FROM unnest($1::text[]) AS s (of)
             CROSS JOIN LATERAL (
                 SELECT f.domain_id AS id, f." + $column + " AS by FROM findings f
                 WHERE f.code = $10 AND f.stage = s.of AND (f." + $column + ", f.domain_id) " + $past + " ($2, $3)
                   AND " + $age + "
                   AND (coalesce($5::text, $7::text, $8::text, $9::text) IS NULL AND $6::uuid[] IS NULL
                        OR EXISTS (SELECT FROM domains d WHERE d.id = f.domain_id
                                   AND ($5::text IS NULL OR d.sought LIKE $5)
                                   AND ($6::uuid[] IS NULL OR d.account_id = ANY($6))
                                   AND ($7::text IS NULL OR d.site_id = (SELECT id FROM sites WHERE name = $7))
                                   AND ($8::text IS NULL OR d.ingress_id = (SELECT id FROM ingresses WHERE name = $8))
                                   AND ($9::text IS NULL OR d.operator = $9)))
                 ORDER BY f." + $column + " " + $direction + ", f.domain_id " + $direction + " LIMIT $4) l")
    };
    (@rows $pool:expr, ($asked:expr, $place:expr, $limit:expr), $direction:literal, $($from:tt)+) => {{
        let filter = $asked.filter;
        lines!($pool, $direction, "false"; &$asked.stages, $place.by, $place.id, $limit, filter.pattern(),
            filter.whose.accounts(), filter.site, filter.ingress, filter.operator, filter.code(),
            filter.before, filter.since => "SELECT l.id, l.by " + $($from)+ + " ORDER BY l.by " + $direction + ", l.id " + $direction + " LIMIT $4")
    }};
}

/// A page in an order that has nothing to do with the age, which is then asked of each row:
/// as a range it would seem narrow, and be gone along in place of the order.
macro_rules! page_of_any_age {
    ($store:expr, $given:tt, $column:literal, $past:literal, $direction:literal, $asked:expr) => {
        page!(
            $store,
            $given,
            (
                $column,
                $past,
                $direction,
                "($11::timestamptz IS NULL OR enrolled_at < $11) AND ($12::timestamptz IS NULL OR enrolled_at >= $12)"
            ),
            $asked
        )
    };
}

impl Store {
    /// A page of the roster, at most `limit` lines.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn roster(
        &self,
        filter: &RosterFilter,
        order: &Order,
        limit: i64,
    ) -> Result<Vec<RosterRow>, StoreError> {
        let asked = Asked::of(filter, self.is_of_common_text(filter).await?);
        let is_descending = order.is_descending;

        let rows = match &order.by {
            Sort::Stage(place) => return self.by_stage(filter, place.as_ref(), is_descending, limit).await,
            Sort::Name(place) => {
                let place = or_end(place.as_ref(), is_descending);
                self.page_by_name(&asked, &place, is_descending, limit).await?
            }
            Sort::Enrolled(place) => {
                let place = filter.within_age(or_end(place.as_ref(), is_descending), is_descending);
                self.page_by_enrolment(&asked, &place, is_descending, limit).await?
            }
            Sort::Moved(place) => {
                let place = or_end(place.as_ref(), is_descending);
                self.page_by_move(&asked, &place, is_descending, limit).await?
            }
        };
        rows.into_iter().map(|row| row.read(&filter.whose)).collect()
    }

    /// One stage after the other, each by name.
    async fn by_stage(
        &self,
        filter: &RosterFilter,
        from: Option<&(Stage, Place<String>)>,
        is_descending: bool,
        limit: i64,
    ) -> Result<Vec<RosterRow>, StoreError> {
        let mut stages = filter.stages();
        if is_descending {
            stages.reverse();
        }
        let first =
            from.and_then(|(stage, _)| stages.iter().position(|one| one == stage)).unwrap_or_default();

        let is_common = self.is_of_common_text(filter).await?;
        let mut found = Vec::new();
        for stage in &stages[first..] {
            let left = limit - i64::try_from(found.len()).unwrap_or(limit);
            if left <= 0 {
                break;
            }
            let place = from.filter(|(at, _)| at == stage).map(|(_, place)| place);
            let place = or_end(place, false);
            let of_stage = RosterFilter { stage: Some(*stage), ..filter.clone() };
            let asked = Asked::of(&of_stage, is_common);
            let rows = self.page_by_name(&asked, &place, false, left).await?;
            for row in rows {
                found.push(row.read(&filter.whose)?);
            }
        }
        Ok(found)
    }

    async fn page_by_name(
        &self,
        asked: &Asked<'_>,
        place: &Place<String>,
        is_descending: bool,
        limit: i64,
    ) -> Result<Vec<RosterColumns>, StoreError> {
        Ok(if is_descending {
            page_of_any_age!(self, (asked, place, limit), "host", "<", "DESC", asked)
        } else {
            page_of_any_age!(self, (asked, place, limit), "host", ">", "ASC", asked)
        })
    }

    async fn page_by_enrolment(
        &self,
        asked: &Asked<'_>,
        place: &Place<DateTime<Utc>>,
        is_descending: bool,
        limit: i64,
    ) -> Result<Vec<RosterColumns>, StoreError> {
        Ok(if is_descending {
            page!(
                self,
                (asked, place, limit),
                (
                    "enrolled_at",
                    "<",
                    "DESC",
                    "enrolled_at >= coalesce($12, '-infinity'::timestamptz) AND ($11::timestamptz IS NULL OR enrolled_at < $11)"
                ),
                asked
            )
        } else {
            page!(
                self,
                (asked, place, limit),
                (
                    "enrolled_at",
                    ">",
                    "ASC",
                    "enrolled_at < coalesce($11, 'infinity'::timestamptz) AND ($12::timestamptz IS NULL OR enrolled_at >= $12)"
                ),
                asked
            )
        })
    }

    async fn page_by_move(
        &self,
        asked: &Asked<'_>,
        place: &Place<DateTime<Utc>>,
        is_descending: bool,
        limit: i64,
    ) -> Result<Vec<RosterColumns>, StoreError> {
        Ok(if is_descending {
            page_of_any_age!(self, (asked, place, limit), "moved_at", "<", "DESC", asked)
        } else {
            page_of_any_age!(self, (asked, place, limit), "moved_at", ">", "ASC", asked)
        })
    }

    /// Writes what a search looks through wherever that is missing, as after a change of
    /// the schema.
    pub(crate) async fn write_sought(&self) -> Result<(), StoreError> {
        const BATCH: i64 = 1000;
        loop {
            let rows = sqlx::query!("SELECT id, host FROM domains WHERE sought IS NULL LIMIT $1", BATCH)
                .fetch_all(&self.pool)
                .await?;
            if rows.is_empty() {
                return Ok(());
            }

            let ids: Vec<_> = rows.iter().map(|row| row.id).collect();
            let texts: Vec<_> = rows.iter().map(|row| sought::of(&row.host)).collect();
            sqlx::query!(
                "UPDATE domains d SET sought = n.sought FROM unnest($1::uuid[], $2::text[]) AS n (id, sought)
                 WHERE d.id = n.id",
                &ids,
                &texts
            )
            .execute(&self.pool)
            .await?;
        }
    }
}

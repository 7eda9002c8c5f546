//! How domains' records came into the world, and what is drawn from that for each DNS
//! operator.

use chrono::{DateTime, Utc};
use nomenta_core::learned::course::Course;
use nomenta_core::learned::lessons::{Enough, Known, Lessons};
use serde_json::{Value, json};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::{self, Kept, read, read_if};
use crate::places::Whose;
use crate::tallies::{Tally, counted_under};

/// Courses of an operator that lessons are drawn from: the latest.
const LATEST: i64 = 1_000;
/// Operators whose lessons are drawn at once.
const MOST: i64 = 50;
/// One process at a time draws them.
const DRAW_LOCK: i64 = 0x6c65_7373;

/// What is known of one DNS operator.
#[derive(Clone, Debug)]
pub struct LessonsRow {
    /// The operator.
    pub operator: String,
    /// Domains with it, of those that are told of.
    pub domains: i64,
    /// What was learned, if enough was to be.
    pub lessons: Option<Lessons>,
    /// Where it stands in the listing.
    pub rank: i64,
}

struct LessonsColumns {
    operator: String,
    domains: i64,
    lessons: Option<Value>,
    rank: i64,
}

impl LessonsColumns {
    fn read(self) -> Result<LessonsRow, StoreError> {
        let lessons = read_if("lessons", self.lessons)?;
        Ok(LessonsRow { operator: self.operator, domains: self.domains, lessons, rank: self.rank })
    }
}

/// Reads a course as it was kept.
pub(crate) fn kept(
    course: Option<Value>,
    begun_at: Option<DateTime<Utc>>,
) -> Result<Option<Course>, StoreError> {
    let course: Option<Course> = read_if("course", course)?;
    Ok(course.map(|course| Course { begun_at, ..course }))
}

/// How far a domain's edit has come, as it is written.
pub(crate) struct CourseRow {
    domain_id: Uuid,
    operator: Option<String>,
    begun_at: Option<DateTime<Utc>>,
    course: Kept,
    at: DateTime<Utc>,
}

impl CourseRow {
    pub(crate) fn of(
        domain_id: Uuid,
        operator: Option<&str>,
        course: &Course,
        at: DateTime<Utc>,
    ) -> Result<Self, StoreError> {
        let operator = operator.map(str::to_owned);
        Ok(Self { domain_id, operator, begun_at: course.begun_at, course: error::kept(course)?, at })
    }
}

/// Writes how far domains' edits have come.
pub(crate) async fn write(tx: &mut PgConnection, rows: &[&CourseRow]) -> Result<(), StoreError> {
    if rows.is_empty() {
        return Ok(());
    }

    sqlx::query!(
        "INSERT INTO courses (domain_id, account_id, operator, begun_at, course, changed_at)
         SELECT d.id, d.account_id, coalesce(n.operator, d.operator), n.begun_at, n.course, n.at
         FROM unnest($1::uuid[], $2::text[], $3::timestamptz[], $4::jsonb[], $5::timestamptz[])
             AS n (id, operator, begun_at, course, at)
         JOIN domains d ON d.id = n.id
         ON CONFLICT (domain_id) DO UPDATE SET operator = coalesce(excluded.operator, courses.operator),
             begun_at = coalesce(courses.begun_at, excluded.begun_at), course = excluded.course,
             changed_at = excluded.changed_at, is_counted = false",
        &rows.iter().map(|row| row.domain_id).collect::<Vec<_>>(),
        &rows.iter().map(|row| row.operator.clone()).collect::<Vec<_>>() as _,
        &rows.iter().map(|row| row.begun_at).collect::<Vec<_>>() as _,
        &rows.iter().map(|row| row.course.clone()).collect::<Vec<_>>() as _,
        &rows.iter().map(|row| row.at).collect::<Vec<_>>()
    )
    .execute(tx)
    .await?;
    Ok(())
}

/// Writes that a domain's edit was made just now; nothing, once it has arrived.
pub(crate) async fn begin(
    tx: &mut PgConnection,
    domain_id: Uuid,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO courses (domain_id, account_id, operator, begun_at, course, changed_at)
         SELECT id, account_id, operator, $2, $3, $2 FROM domains WHERE id = $1
         ON CONFLICT (domain_id) DO UPDATE SET begun_at = coalesce(courses.begun_at, excluded.begun_at)
         WHERE courses.course->>'served_at' IS NULL",
        domain_id,
        now,
        json!(Course::default())
    )
    .execute(tx)
    .await?;
    Ok(())
}

/// Writes that it was taken back.
pub(crate) async fn take_back(tx: &mut PgConnection, domain_id: Uuid) -> Result<(), StoreError> {
    sqlx::query!("UPDATE courses SET begun_at = NULL WHERE domain_id = $1", domain_id).execute(tx).await?;
    Ok(())
}

impl Store {
    /// Writes that a domain's edit was made just now, by whoever runs its DNS.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn edit_begun(&self, domain_id: Uuid) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        begin(&mut tx, domain_id, Utc::now()).await?;
        self.commit(tx).await
    }

    /// Draws the lessons anew of DNS operators of whom more is known than they count, some at a
    /// time; returns of how many.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn draw_lessons(&self, enough: &Enough) -> Result<usize, StoreError> {
        let mut tx = self.begin().await?;
        let is_free = sqlx::query_scalar!(r#"SELECT pg_try_advisory_xact_lock($1) AS "is_free!""#, DRAW_LOCK);
        if !is_free.fetch_one(&mut *tx).await? {
            return Ok(0);
        }

        // Marked before they are read: what changes meanwhile is counted the next time.
        let operators = sqlx::query_scalar!(
            r#"WITH due AS (SELECT DISTINCT operator FROM (
                   SELECT operator FROM courses WHERE operator IS NOT NULL AND NOT is_counted LIMIT $1) o LIMIT $2),
               marked AS (UPDATE courses c SET is_counted = true FROM due
                          WHERE c.operator = due.operator AND NOT c.is_counted)
               SELECT operator AS "operator!" FROM due"#,
            LATEST,
            MOST
        )
        .fetch_all(&mut *tx)
        .await?;
        for operator in &operators {
            draw(&mut tx, operator, enough).await?;
        }
        tx.commit().await?;
        Ok(operators.len())
    }

    /// What was learned of one DNS operator.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn lessons(&self, operator: &str) -> Result<Option<Lessons>, StoreError> {
        let row = sqlx::query_scalar!("SELECT lessons FROM lessons WHERE operator = $1", operator);
        let row = row.fetch_optional(&self.pool).await?;
        row.map(|lessons| read("lessons", lessons)).transpose()
    }

    /// One DNS operator: nothing, where no domain is with it.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn operator(&self, operator: &str, whose: &Whose) -> Result<Option<LessonsRow>, StoreError> {
        let row = sqlx::query_as!(
            LessonsColumns,
            r#"SELECT $1::text AS "operator!", l.lessons AS "lessons?", 0::bigint AS "rank!",
                      coalesce((SELECT sum(n)::bigint FROM tallied
                                WHERE kind = $2 AND account_id = ANY($3) AND key = $1), 0) AS "domains!"
               FROM (SELECT) one LEFT JOIN lessons l ON l.operator = $1"#,
            operator,
            Tally::Operator.as_str(),
            &counted_under(whose)
        );
        let row = row.fetch_one(&self.pool).await?.read()?;
        Ok((row.domains > 0 || row.lessons.is_some()).then_some(row))
    }

    /// DNS operators of whom something was learned, those with most domains first, from the
    /// one after a rank and name on.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn operators_page(
        &self,
        whose: &Whose,
        after: Option<&(i64, String)>,
        limit: i64,
    ) -> Result<Vec<LessonsRow>, StoreError> {
        let (rank, name) = after.map_or((i64::MAX, ""), |(rank, name)| (*rank, name.as_str()));
        let rows = sqlx::query_as!(
            LessonsColumns,
            r#"SELECT l.operator, l.lessons AS "lessons?", l.domains AS "rank!",
                      coalesce((SELECT sum(n)::bigint FROM tallied
                                WHERE kind = $1 AND account_id = ANY($2) AND key = l.operator), 0) AS "domains!"
               FROM lessons l
               WHERE l.domains <= $3 AND (l.domains < $3 OR l.operator > $4)
               ORDER BY l.domains DESC, l.operator LIMIT $5"#,
            Tally::Operator.as_str(),
            &counted_under(whose),
            rank,
            name,
            limit
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(LessonsColumns::read).collect()
    }
}

/// Draws the lessons of one operator from its latest courses.
async fn draw(tx: &mut PgConnection, operator: &str, enough: &Enough) -> Result<(), StoreError> {
    let rows = sqlx::query!(
        "SELECT account_id, begun_at, course FROM courses WHERE operator = $1 ORDER BY changed_at DESC LIMIT $2",
        operator,
        LATEST
    )
    .fetch_all(&mut *tx)
    .await?;

    let mut known = Vec::with_capacity(rows.len());
    for row in rows {
        if let Some(course) = kept(Some(row.course), row.begun_at)? {
            known.push(Known { account: row.account_id, course });
        }
    }

    let Some(lessons) = Lessons::of(&known, enough) else {
        sqlx::query!("DELETE FROM lessons WHERE operator = $1", operator).execute(tx).await?;
        return Ok(());
    };
    sqlx::query!(
        "INSERT INTO lessons (operator, lessons, domains, drawn_at)
         SELECT $1, $2, coalesce(sum(n)::bigint, 0), now() FROM tallied
         WHERE kind = $3 AND account_id = '00000000-0000-0000-0000-000000000000' AND key = $1
         ON CONFLICT (operator) DO UPDATE
             SET lessons = excluded.lessons, domains = excluded.domains, drawn_at = excluded.drawn_at",
        operator,
        json!(lessons),
        Tally::Operator.as_str()
    )
    .execute(tx)
    .await?;
    Ok(())
}

//! The roster: which domains there are, and at which stage.

use chrono::{DateTime, Utc};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::{Gates, Stage};
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::{read, word};

/// Which domains to list.
#[derive(Clone, Debug, Default)]
pub struct RosterFilter {
    /// Only those at this stage.
    pub stage: Option<Stage>,
    /// Only those of this account.
    pub account: Option<String>,
    /// Only those whose name contains this.
    pub text: Option<String>,
    /// Only those after this one: its name and key.
    pub after: Option<(String, Uuid)>,
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
    /// The gates.
    pub gates: Gates,
    /// Codes of open findings.
    pub findings: Vec<Code>,
    /// Share of vantages that see the routing.
    pub spread: Option<f64>,
    /// When it was taken in.
    pub enrolled_at: DateTime<Utc>,
    /// Latest look.
    pub looked_at: Option<DateTime<Utc>>,
}

impl Store {
    /// Domains by name, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn roster(&self, filter: &RosterFilter, limit: i64) -> Result<Vec<RosterRow>, StoreError> {
        let (after_host, after_id) = filter.after.clone().unzip();
        let rows = sqlx::query!(
            r#"SELECT d.id, d.host, d.held_since, a.name AS account, s.name AS site, d.stage, d.gates, d.spread, d.enrolled_at,
                      d.looked_at,
                      ARRAY(SELECT f.code FROM findings f WHERE f.domain_id = d.id ORDER BY f.first_seen)
                          AS "findings!"
               FROM domains d
               JOIN sites s ON s.id = d.site_id
               JOIN accounts a ON a.id = d.account_id
               WHERE CASE WHEN $1::text IS NULL THEN d.ended_at IS NULL ELSE d.stage = $1 END
                 AND ($2::text IS NULL OR a.name = $2)
                 AND ($3::text IS NULL OR strpos(d.host, $3) > 0)
                 AND ($4::text IS NULL OR (d.host, d.id) > ($4, $5::uuid))
               ORDER BY d.host, d.id LIMIT $6"#,
            filter.stage.map(Stage::as_str),
            filter.account,
            filter.text,
            after_host,
            after_id,
            limit
        )
        .fetch_all(&self.pool)
        .await?;

        let mut roster = Vec::with_capacity(rows.len());
        for row in rows {
            let codes = row.findings.iter().map(|code| word("finding", code));
            roster.push(RosterRow {
                id: row.id,
                host: row.host,
                held_since: row.held_since,
                account: row.account,
                site: row.site,
                stage: word("stage", &row.stage)?,
                gates: read("gate", row.gates)?,
                findings: codes.collect::<Result<_, _>>()?,
                spread: row.spread,
                enrolled_at: row.enrolled_at,
                looked_at: row.looked_at,
            });
        }

        Ok(roster)
    }

    /// How many domains stand at each stage that has any.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn stage_counts(&self, account: Option<Uuid>) -> Result<Vec<(Stage, i64)>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT stage, count(*) AS "count!" FROM domains
               WHERE ended_at IS NULL AND ($1::uuid IS NULL OR account_id = $1) GROUP BY stage"#,
            account
        )
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(|row| Ok((word("stage", &row.stage)?, row.count))).collect()
    }
}

//! The roster: which domains there are, and at which stage.

use chrono::{DateTime, Utc};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::{Gates, Stage};

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
    /// Only those after this name.
    pub after: Option<String>,
}

/// One line of the roster.
#[derive(Clone, Debug)]
pub struct RosterRow {
    /// The name.
    pub host: String,
    /// The account.
    pub account: String,
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
        let rows = sqlx::query!(
            r#"SELECT d.host, a.name AS account, s.name AS site, d.stage, d.gates, d.spread, d.enrolled_at,
                      d.looked_at,
                      ARRAY(SELECT f.code FROM findings f WHERE f.domain_id = d.id ORDER BY f.first_seen)
                          AS "findings!"
               FROM domains d
               JOIN sites s ON s.id = d.site_id
               JOIN accounts a ON a.id = s.account_id
               WHERE CASE WHEN $1::text IS NULL THEN d.released_at IS NULL ELSE d.stage = $1 END
                 AND ($2::text IS NULL OR a.name = $2)
                 AND ($3::text IS NULL OR strpos(d.host, $3) > 0)
                 AND ($4::text IS NULL OR d.host > $4)
               ORDER BY d.host LIMIT $5"#,
            filter.stage.map(Stage::as_str),
            filter.account,
            filter.text,
            filter.after,
            limit
        )
        .fetch_all(&self.pool)
        .await?;

        let mut roster = Vec::with_capacity(rows.len());
        for row in rows {
            let codes = row.findings.iter().map(|code| word("finding", code));
            roster.push(RosterRow {
                host: row.host,
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
    pub async fn stage_counts(&self) -> Result<Vec<(Stage, i64)>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT stage, count(*) AS "count!" FROM domains WHERE released_at IS NULL GROUP BY stage"#
        )
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(|row| Ok((word("stage", &row.stage)?, row.count))).collect()
    }
}

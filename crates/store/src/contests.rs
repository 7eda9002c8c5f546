//! Contests: listing them, and ruling on one.

use chrono::{DateTime, Utc};
use nomenta_core::claim::rivals::{Outcome, Side};
use nomenta_core::judge::gate::{Gates, Stage};
use nomenta_core::judge::standing::Phase;
use nomenta_core::name::mask::Mask;
use nomenta_core::name::token::Token;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::claims;
use crate::error::{read, word};
use crate::locks::{self, Told};
use crate::places::Place;
use crate::version::Expected;

/// Which contests to list.
#[derive(Clone, Debug, Default)]
pub struct ContestFilter {
    /// Those that are settled, newest first, in place of those that are open, oldest
    /// first.
    pub settled: bool,
    /// Only those after this one.
    pub after: Option<Place<DateTime<Utc>>>,
}

/// One side of a contest.
#[derive(Clone, Debug)]
pub struct PartyRow {
    /// The account.
    pub account: String,
    /// The site that the name would show.
    pub site: String,
    /// When the claim was made.
    pub enrolled_at: DateTime<Utc>,
    /// Since when it holds the name.
    pub held_since: Option<DateTime<Utc>>,
    /// The claim's stage.
    pub stage: Stage,
    /// Its gates, with its tokens where they are named.
    pub gates: Gates,
    /// Hides those tokens.
    pub mask: Mask,
    /// Latest look.
    pub looked_at: Option<DateTime<Utc>>,
}

/// A contest.
#[derive(Clone, Debug)]
pub struct ContestRow {
    /// Identifies it.
    pub id: Uuid,
    /// Which version of it there is.
    pub version: i64,
    /// The name.
    pub host: String,
    /// How far it has come.
    pub phase: Phase,
    /// Since when.
    pub opened_at: DateTime<Utc>,
    /// Until when the holder may put its token back.
    pub grace_ends_at: Option<DateTime<Utc>>,
    /// What was ruled, by whom, when and why.
    pub ruling: Option<RulingRow>,
    /// When it was settled, and how.
    pub settled: Option<(DateTime<Utc>, Outcome)>,
    /// Who has the name.
    pub holder: PartyRow,
    /// Who has proved itself beside.
    pub challenger: PartyRow,
}

/// A ruling as it was given.
#[derive(Clone, Debug)]
pub struct RulingRow {
    /// For whom.
    pub side: Side,
    /// When.
    pub at: DateTime<Utc>,
    /// By which key.
    pub by: String,
    /// Why.
    pub because: String,
}

/// A ruling to be given.
#[derive(Clone, Copy, Debug)]
pub struct NewRuling<'a> {
    /// For whom.
    pub side: Side,
    /// By which key.
    pub by: &'a str,
    /// Why.
    pub because: &'a str,
}

struct ContestColumns {
    id: Uuid,
    version: i64,
    host: String,
    phase: String,
    opened_at: DateTime<Utc>,
    grace_ends_at: Option<DateTime<Utc>>,
    ruled_for: Option<String>,
    ruled_at: Option<DateTime<Utc>>,
    ruled_by: Option<String>,
    ruled_because: Option<String>,
    settled_at: Option<DateTime<Utc>>,
    outcome: Option<String>,
    holder_id: Uuid,
    challenger_id: Uuid,
}

struct PartyColumns {
    id: Uuid,
    account: String,
    site: String,
    enrolled_at: DateTime<Utc>,
    held_since: Option<DateTime<Utc>>,
    stage: String,
    gates: serde_json::Value,
    token: String,
    superseded: Vec<String>,
    looked_at: Option<DateTime<Utc>>,
}

impl PartyColumns {
    fn mask(&self) -> Mask {
        let tokens: Vec<_> =
            self.superseded.iter().chain([&self.token]).cloned().map(Token::from_stored).collect();
        Mask::of(&tokens)
    }

    fn read(&self) -> Result<PartyRow, StoreError> {
        Ok(PartyRow {
            account: self.account.clone(),
            site: self.site.clone(),
            enrolled_at: self.enrolled_at,
            held_since: self.held_since,
            stage: word("stage", &self.stage)?,
            gates: read("gate", self.gates.clone())?,
            mask: self.mask(),
            looked_at: self.looked_at,
        })
    }
}

impl ContestColumns {
    fn read(self, parties: &[PartyColumns]) -> Result<ContestRow, StoreError> {
        let party = |id: Uuid| {
            let party = parties.iter().find(|party| party.id == id);
            party.ok_or_else(|| StoreError::missing("claim", &id.to_string()))?.read()
        };
        let side = self.ruled_for.map(|side| word("side of a contest", &side)).transpose()?;
        let ruling = side.zip(self.ruled_at).map(|(side, at)| RulingRow {
            side,
            at,
            by: self.ruled_by.unwrap_or_default(),
            because: self.ruled_because.unwrap_or_default(),
        });
        let outcome = self.outcome.map(|outcome| word("outcome of a contest", &outcome)).transpose()?;

        Ok(ContestRow {
            holder: party(self.holder_id)?,
            challenger: party(self.challenger_id)?,
            id: self.id,
            version: self.version,
            host: self.host,
            phase: word("phase of a contest", &self.phase)?,
            opened_at: self.opened_at,
            grace_ends_at: self.grace_ends_at,
            ruling,
            settled: self.settled_at.zip(outcome),
        })
    }
}

impl Store {
    /// Contests, a page of at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn contests(&self, filter: &ContestFilter, limit: i64) -> Result<Vec<ContestRow>, StoreError> {
        let (after_at, after_id) = filter.after.as_ref().map(|place| (place.by, place.id)).unzip();
        let rows = if filter.settled {
            sqlx::query_as!(
                ContestColumns,
                "SELECT id, version, host, phase, opened_at, grace_ends_at, ruled_for, ruled_at, ruled_by, ruled_because,
                        settled_at, outcome, holder_id, challenger_id FROM contests
                 WHERE settled_at IS NOT NULL
                   AND ($1::timestamptz IS NULL OR (settled_at, id) < ($1, $2::uuid))
                 ORDER BY settled_at DESC, id DESC LIMIT $3",
                after_at,
                after_id,
                limit
            )
            .fetch_all(&self.pool)
            .await?
        } else {
            sqlx::query_as!(
                ContestColumns,
                "SELECT id, version, host, phase, opened_at, grace_ends_at, ruled_for, ruled_at, ruled_by, ruled_because,
                        settled_at, outcome, holder_id, challenger_id FROM contests
                 WHERE settled_at IS NULL
                   AND ($1::timestamptz IS NULL OR (opened_at, id) > ($1, $2::uuid))
                 ORDER BY opened_at, id LIMIT $3",
                after_at,
                after_id,
                limit
            )
            .fetch_all(&self.pool)
            .await?
        };
        self.with_parties(rows).await
    }

    /// How many are open.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn open_contests(&self) -> Result<i64, StoreError> {
        let open =
            sqlx::query_scalar!(r#"SELECT count(*) AS "open!" FROM contests WHERE settled_at IS NULL"#);
        Ok(open.fetch_one(&self.pool).await?)
    }

    /// One contest.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn contest(&self, id: Uuid) -> Result<ContestRow, StoreError> {
        let row = sqlx::query_as!(
            ContestColumns,
            "SELECT id, version, host, phase, opened_at, grace_ends_at, ruled_for, ruled_at, ruled_by, ruled_because,
                    settled_at, outcome, holder_id, challenger_id FROM contests WHERE id = $1",
            id
        )
        .fetch_optional(&self.pool)
        .await?;

        let row = row.ok_or_else(|| StoreError::missing("contest", &id.to_string()))?;
        let mut read = self.with_parties(vec![row]).await?;
        read.pop().ok_or_else(|| StoreError::missing("contest", &id.to_string()))
    }

    async fn with_parties(&self, rows: Vec<ContestColumns>) -> Result<Vec<ContestRow>, StoreError> {
        let ids: Vec<_> = rows.iter().flat_map(|row| [row.holder_id, row.challenger_id]).collect();
        let parties = sqlx::query_as!(
            PartyColumns,
            "SELECT d.id, a.name AS account, s.name AS site, d.enrolled_at, d.held_since, d.stage, d.gates, d.token, d.superseded,
                    d.looked_at
             FROM domains d JOIN accounts a ON a.id = d.account_id JOIN sites s ON s.id = d.site_id
             WHERE d.id = ANY($1)",
            &ids
        )
        .fetch_all(&self.pool)
        .await?;

        rows.into_iter().map(|row| row.read(&parties)).collect()
    }

    /// Rules on a contest: for the holder it is settled at once, for the challenger
    /// as soon as that has its certificate.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none; [`StoreError::Settled`] if nothing is
    /// left to rule upon.
    pub async fn rule(&self, id: Uuid, ruling: &NewRuling<'_>, expected: Expected) -> Result<(), StoreError> {
        let now = Utc::now();
        let contest = sqlx::query!("SELECT host, challenger_id FROM contests WHERE id = $1", id)
            .fetch_optional(&self.pool)
            .await?
            .ok_or_else(|| StoreError::missing("contest", &id.to_string()))?;

        let mut tx = self.begin().await?;
        locks::lock(&mut tx, &[contest.challenger_id]).await?;
        let version = sqlx::query_scalar!("SELECT version FROM contests WHERE id = $1", id);
        expected.meets(id, version.fetch_one(&mut *tx).await?)?;
        let done = sqlx::query!(
            "UPDATE contests SET ruled_for = $2, ruled_at = $3, ruled_by = $4, ruled_because = $5
             WHERE id = $1 AND settled_at IS NULL",
            id,
            ruling.side.as_str(),
            now,
            ruling.by,
            ruling.because
        )
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Settled);
        }

        let mut told = Told::default();
        claims::settle(&mut tx, self, &contest.host, &mut told, now).await?;
        told.write(&mut tx, now).await?;
        self.commit_work(tx).await?;
        Ok(())
    }
}

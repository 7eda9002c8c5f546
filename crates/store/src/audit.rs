//! What people have changed: who, from where, what was and what is. The database writes it
//! down itself, for every transaction that is somebody's (see [`Actor`](crate::Actor)).

use chrono::{DateTime, Utc};
use nomenta_api::audit::{AuditAct, AuditKind};
use nomenta_api::role::Role;
use serde_json::Value;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;
use crate::places::Whose;

/// Which changes to list.
#[derive(Clone, Debug, Default)]
pub struct AuditFilter {
    /// Only those to what is of these accounts.
    pub whose: Whose,
    /// Only those by keys of this name.
    pub who: Option<String>,
    /// Only those to the record with this name.
    pub name: Option<String>,
    /// Only those of that time or later.
    pub since: Option<DateTime<Utc>>,
    /// Only those before this one.
    pub before: Option<i64>,
}

/// One change.
#[derive(Clone, Debug)]
pub struct AuditRow {
    /// Grows with time.
    pub seq: i64,
    /// When.
    pub at: DateTime<Utc>,
    /// The name of the key.
    pub who: String,
    /// Its role.
    pub role: Role,
    /// The session, if it was in the console.
    pub session_id: Option<Uuid>,
    /// The address that the call came from.
    pub came_from: Option<String>,
    /// The call.
    pub call: String,
    /// What was done.
    pub act: AuditAct,
    /// To what kind of record.
    pub kind: AuditKind,
    /// Its name.
    pub name: Option<String>,
    /// The account that it is of.
    pub account: Option<String>,
    /// What was.
    pub was: Option<Value>,
    /// What is.
    pub became: Option<Value>,
    /// Whether whoever asks sees who made it: it was no key of the platform's staff, or of others.
    pub is_known: bool,
}

struct AuditColumns {
    seq: i64,
    at: DateTime<Utc>,
    who: String,
    role: String,
    session_id: Option<Uuid>,
    came_from: Option<String>,
    call: String,
    act: String,
    kind: String,
    name: Option<String>,
    account: Option<String>,
    was: Option<Value>,
    became: Option<Value>,
    is_known: bool,
}

impl AuditColumns {
    fn read(self) -> Result<AuditRow, StoreError> {
        Ok(AuditRow {
            seq: self.seq,
            at: self.at,
            who: self.who,
            role: word("role", &self.role)?,
            session_id: self.session_id,
            came_from: self.came_from,
            call: self.call,
            act: word("act", &self.act)?,
            kind: word("kind of record", &self.kind)?,
            name: self.name,
            account: self.account,
            was: self.was,
            became: self.became,
            is_known: self.is_known,
        })
    }
}

/// A page of the changes, newest first, by what the statement goes along.
macro_rules! audit {
    ($store:expr, $along:literal, $filter:expr, $limit:expr) => {
        sqlx::query_as!(
            AuditColumns,
            r#"SELECT t.seq, t.at, t.who, t.role, t.session_id, t.came_from, t.call, t.act, t.kind, t.name,
                      (SELECT a.name FROM accounts a WHERE a.id = t.account_id) AS account, t.was, t.became,
                      k.is_known AS "is_known!"
               FROM audit t
               CROSS JOIN LATERAL (
                   SELECT $7::uuid[] IS NULL OR EXISTS (
                       SELECT FROM access_keys WHERE id = t.key_id AND account_ids <@ $7) AS is_known) k
               WHERE ($1::uuid[] IS NULL OR t.account_id = ANY($1)) AND ($2::text IS NULL OR t.who = $2 AND k.is_known)
                 -- Contests are for whoever sees both sides.
                 AND ($7::uuid[] IS NULL OR t.kind <> $8)
                 AND ($3::text IS NULL OR t.name = $3) AND ($4::timestamptz IS NULL OR t.at >= $4)
                 AND t.seq < $5 AND "# + $along + " ORDER BY t.seq DESC LIMIT $6",
            $filter.whose.accounts(),
            $filter.who,
            $filter.name,
            $filter.since,
            $filter.before.unwrap_or(i64::MAX),
            $limit,
            $filter.whose.own(),
            AuditKind::Contest.as_str()
        )
        .fetch_all(&$store.pool)
        .await?
    };
}

impl Store {
    /// Changes, newest first, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn audit(&self, filter: &AuditFilter, limit: i64) -> Result<Vec<AuditRow>, StoreError> {
        let rows = match filter {
            AuditFilter { name: Some(_), .. } => audit!(self, "t.name = $3", filter, limit),
            AuditFilter { who: Some(_), .. } => audit!(self, "t.who = $2", filter, limit),
            filter if filter.whose.is_narrow() => audit!(self, "t.account_id = ANY($1)", filter, limit),
            _ => audit!(self, "true", filter, limit),
        };
        rows.into_iter().map(AuditColumns::read).collect()
    }
}

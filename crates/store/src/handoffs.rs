//! Handoff links, by the hash of their secret, and what each of them shows.

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_api::handoff::Language;
use nomenta_core::name::dns::DnsName;
use uuid::{NoContext, Timestamp, Uuid};

use crate::Store;
use crate::StoreError;
use crate::channel::call_doors;
use crate::error::word;
use crate::keys::is_stale;
use crate::places::Whose;
use crate::receivers::{self, Which};

/// A link to be kept, by the hash of its secret.
#[derive(Clone, Copy, Debug)]
pub struct NewHandoff<'a> {
    /// The domain that it is made for.
    pub domain_id: Uuid,
    /// Whether it shows every domain of the account in the same zone.
    pub is_for_zone: bool,
    /// The language that it is shown in at first.
    pub language: Option<Language>,
    /// Hash of the secret.
    pub hash: &'a [u8],
    /// Last characters of the secret.
    pub hint: &'a str,
    /// Until when it shows anything.
    pub expires_at: DateTime<Utc>,
    /// Whether it goes out by mail.
    pub is_mailed: bool,
}

/// A link, without its secret.
#[derive(Clone, Debug)]
pub struct HandoffRow {
    /// Identifies it.
    pub id: Uuid,
    /// The account.
    pub account_id: Uuid,
    /// Its name.
    pub account: String,
    /// The language that the account is written to in.
    pub account_language: String,
    /// The domain that it was made for.
    pub domain_id: Uuid,
    /// Its name.
    pub host: DnsName,
    /// The zone, where it shows every domain of the account in it.
    pub zone: Option<DnsName>,
    /// The language that it is shown in at first.
    pub language: Option<Language>,
    /// Last characters of the secret.
    pub hint: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Until when it shows anything.
    pub expires_at: DateTime<Utc>,
    /// When it was opened last, to the minute.
    pub opened_at: Option<DateTime<Utc>>,
    /// Since when it shows nothing, if it was taken back.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// Why whoever asked by a link to be told is told nothing more.
const LINK_REVOKED: &str = "the link by which it was asked for was revoked";

/// Which links to list.
#[derive(Clone, Debug, Default)]
pub struct HandoffFilter<'a> {
    /// Only those of these accounts.
    pub whose: Whose,
    /// Only those that were made for this host.
    pub host: Option<&'a str>,
    /// Only those that are older than this one.
    pub after: Option<Uuid>,
}

/// What a link shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shown {
    /// The domains, first the one that it was made for.
    pub domains: Vec<Uuid>,
    /// How many there are beyond those.
    pub more: usize,
}

/// When something about a domain was written last; anything else, and there is something
/// new to be shown.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Pulse {
    domain_id: Uuid,
    version: i64,
    moved_at: DateTime<Utc>,
    seen_at: Option<DateTime<Utc>>,
    due: Option<DateTime<Utc>>,
}

struct HandoffColumns {
    id: Uuid,
    account_id: Uuid,
    account: String,
    account_language: String,
    domain_id: Uuid,
    host: String,
    zone: Option<String>,
    language: Option<String>,
    hint: String,
    created_at: DateTime<Utc>,
    expires_at: DateTime<Utc>,
    opened_at: Option<DateTime<Utc>>,
    revoked_at: Option<DateTime<Utc>>,
}

impl HandoffColumns {
    fn read(self) -> Result<HandoffRow, StoreError> {
        Ok(HandoffRow {
            id: self.id,
            account_id: self.account_id,
            account: self.account,
            account_language: self.account_language,
            domain_id: self.domain_id,
            host: self.host.into(),
            zone: self.zone.map(DnsName::from),
            language: self.language.map(|language| word("language", &language)).transpose()?,
            hint: self.hint,
            created_at: self.created_at,
            expires_at: self.expires_at,
            opened_at: self.opened_at,
            revoked_at: self.revoked_at,
        })
    }
}

/// Links, by what the statement goes along.
macro_rules! handoffs {
    ($which:literal $(+ $more:literal)*, $($given:expr),+) => {
        sqlx::query_as!(
            HandoffColumns,
            "SELECT h.id, h.account_id, a.name AS account, a.language AS account_language, h.domain_id, h.host, h.zone,
                    h.language, h.hint, h.created_at, h.expires_at, h.opened_at, h.revoked_at
             FROM handoffs h JOIN accounts a ON a.id = h.account_id
             WHERE " + $which $(+ $more)*,
            $($given),+
        )
    };
}

/// A page of the links, newest first, by what the statement goes along.
macro_rules! listed {
    ($store:expr, $along:literal, $filter:expr, $limit:expr) => {
        handoffs!(
            "($1::uuid[] IS NULL OR h.account_id = ANY($1)) AND ($2::text IS NULL OR h.host = $2) AND h.id < $3 AND "
                + $along
                + " ORDER BY h.id DESC LIMIT $4",
            $filter.whose.accounts(),
            $filter.host,
            $filter.after.unwrap_or(Uuid::max()),
            $limit
        )
        .fetch_all(&$store.pool)
        .await?
    };
}

impl Store {
    /// Keeps a new link.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if the domain is gone.
    pub async fn add_handoff(&self, new: &NewHandoff<'_>) -> Result<Uuid, StoreError> {
        let mut tx = self.begin().await?;
        let id = sqlx::query_scalar!(
            "INSERT INTO handoffs (id, account_id, domain_id, host, zone, language, hash, hint, expires_at, is_mailed)
             SELECT $1, account_id, id, host, CASE WHEN $3 THEN zone END, $4, $5, $6, $7, $8
             FROM domains WHERE id = $2
             RETURNING id",
            Uuid::now_v7(),
            new.domain_id,
            new.is_for_zone,
            new.language.map(Language::as_str),
            new.hash,
            new.hint,
            new.expires_at,
            new.is_mailed
        )
        .fetch_optional(&mut *tx)
        .await?
        .ok_or_else(|| StoreError::missing("domain", &new.domain_id.to_string()))?;
        tx.commit().await?;
        Ok(id)
    }

    /// How many strangers were written to for an account within `within`: links that went out by mail,
    /// and questions whether somebody wants to be told.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn mailed_within(&self, account: &str, within: TimeDelta) -> Result<i64, StoreError> {
        let since = Utc::now() - within;
        // Keys begin with the moment they were made at, so the latest are together.
        let made = u64::try_from(since.timestamp()).unwrap_or_default();
        let first = Uuid::new_v7(Timestamp::from_unix(NoContext, made, 0));
        let mailed = sqlx::query_scalar!(
            r#"SELECT (SELECT count(*) FROM handoffs h WHERE h.account_id = a.id AND h.id > $2 AND h.is_mailed)
                    + (SELECT count(*) FROM receivers r WHERE r.account_id = a.id AND r.id > $2 AND r.asked_at > $3)
                    AS "count!"
               FROM accounts a WHERE a.name = $1"#,
            account,
            first,
            since
        );
        Ok(mailed.fetch_optional(&self.pool).await?.unwrap_or_default())
    }

    /// The link with this hash, unless it shows nothing any more; notes that it was opened.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn handoff_by_hash(&self, hash: &[u8]) -> Result<Option<HandoffRow>, StoreError> {
        let found = handoffs!("h.hash = $1 AND h.revoked_at IS NULL AND h.expires_at > now()", hash);
        let Some(found) = found.fetch_optional(&self.pool).await? else { return Ok(None) };

        if is_stale(found.opened_at) {
            sqlx::query!(
                "UPDATE handoffs SET opened_at = now()
                 WHERE id = $1 AND (opened_at IS NULL OR opened_at < now() - interval '1 minute')",
                found.id
            )
            .execute(&self.pool)
            .await?;
        }
        found.read().map(Some)
    }

    /// Links, newest first, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn handoffs(
        &self,
        filter: &HandoffFilter<'_>,
        limit: i64,
    ) -> Result<Vec<HandoffRow>, StoreError> {
        let rows = match filter {
            HandoffFilter { host: Some(_), .. } => listed!(self, "h.host = $2", filter, limit),
            filter if filter.whose.is_narrow() => listed!(self, "h.account_id = ANY($1)", filter, limit),
            _ => listed!(self, "true", filter, limit),
        };
        rows.into_iter().map(HandoffColumns::read).collect()
    }

    /// Makes a link show nothing from now on, wherever it is open; whoever asked by it to be told is
    /// told nothing more.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is no such link of these accounts.
    pub async fn revoke_handoff(&self, id: Uuid, whose: &Whose) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        let done = sqlx::query!(
            "UPDATE handoffs SET revoked_at = coalesce(revoked_at, now())
             WHERE id = $1 AND ($2::uuid[] IS NULL OR account_id = ANY($2))",
            id,
            whose.accounts()
        )
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::missing("link", &id.to_string()));
        }

        receivers::end(&mut tx, Which::OfLink(id), whose, LINK_REVOKED).await?;
        call_doors(&mut tx).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Whether a link still shows anything.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn handoff_is_open(&self, id: Uuid) -> Result<bool, StoreError> {
        let is_open = sqlx::query_scalar!(
            r#"SELECT EXISTS (SELECT FROM handoffs WHERE id = $1 AND revoked_at IS NULL AND expires_at > now()) AS "is!""#,
            id
        );
        Ok(is_open.fetch_one(&self.pool).await?)
    }

    /// What a link shows, at most `most` domains.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn shown_by(&self, link: &HandoffRow, most: usize) -> Result<Shown, StoreError> {
        let Some(zone) = &link.zone else {
            let ids = sqlx::query_scalar!(
                r#"SELECT d.id FROM domains d JOIN domains own ON own.id = $1
                   WHERE d.id = $1 OR (d.pair_id = own.pair_id AND d.account_id = own.account_id AND d.ended_at IS NULL)
                   ORDER BY d.id <> $1"#,
                link.domain_id
            );
            return Ok(Shown { domains: ids.fetch_all(&self.pool).await?, more: 0 });
        };

        let limit = i64::try_from(most).unwrap_or(i64::MAX);
        let ids = sqlx::query_scalar!(
            "SELECT id FROM domains WHERE account_id = $1 AND zone = $2 AND ended_at IS NULL
             ORDER BY id <> $3, host LIMIT $4",
            link.account_id,
            zone.as_str(),
            link.domain_id,
            limit
        );
        let domains = ids.fetch_all(&self.pool).await?;
        let all = sqlx::query_scalar!(
            r#"SELECT count(*) AS "count!" FROM (SELECT FROM domains WHERE account_id = $1 AND zone = $2
                   AND ended_at IS NULL LIMIT $3) d"#,
            link.account_id,
            zone.as_str(),
            // Beyond what is shown only a number is said; it need not be counted for ever.
            limit.saturating_mul(20)
        );
        let all = usize::try_from(all.fetch_one(&self.pool).await?).unwrap_or_default();
        Ok(Shown { more: all.saturating_sub(domains.len()), domains })
    }

    /// When something about each of these domains was written last.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn pulses(&self, domain_ids: &[Uuid]) -> Result<Vec<Pulse>, StoreError> {
        let rows = sqlx::query_as!(
            Pulse,
            r#"SELECT d.id AS domain_id, d.version, d.moved_at, greatest(d.looked_at, t.seen_at) AS seen_at, t.due AS "due?"
               FROM domains d LEFT JOIN tasks t ON t.domain_id = d.id AND t.kind = 'look'
               WHERE d.id = ANY($1) ORDER BY d.id"#,
            domain_ids
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Notes that a look is asked for by a link, unless one was within `every`; then returns
    /// how long to wait.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn may_ask(&self, id: Uuid, every: TimeDelta) -> Result<Option<TimeDelta>, StoreError> {
        let now = Utc::now();
        let noted = sqlx::query!(
            "UPDATE handoffs SET asked_at = $2 WHERE id = $1 AND (asked_at IS NULL OR asked_at <= $3)",
            id,
            now,
            now - every
        );
        if noted.execute(&self.pool).await?.rows_affected() > 0 {
            return Ok(None);
        }

        let asked = sqlx::query_scalar!("SELECT asked_at FROM handoffs WHERE id = $1", id);
        let asked = asked.fetch_optional(&self.pool).await?.flatten();
        Ok(Some(asked.map_or(every, |at| (at + every - now).max(TimeDelta::seconds(1)))))
    }
}

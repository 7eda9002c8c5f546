//! Who is told what happens: hooks, and people by mail.

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_api::handoff::Language;
use nomenta_api::notice::Means;
use nomenta_core::name::dns::DnsName;
use nomenta_core::notice::{NoticeKind, QuietHours};
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;
use crate::places::Whose;

/// Most who are told of the domains of one account, and most who are told of every one's: all of
/// them are read for whatever happens there.
const MOST_OF_ONE: i64 = 200;

/// Somebody to be told.
#[derive(Clone, Debug)]
pub struct NewReceiver<'a> {
    /// By which way.
    pub way: Means,
    /// Where.
    pub target: &'a str,
    /// Of this account's domains alone, by its name.
    pub account: Option<&'a str>,
    /// Of this domain alone, by the key of its record.
    pub domain_id: Option<Uuid>,
    /// Of these kinds; all, if there are none.
    pub kinds: &'a [NoticeKind],
    /// In which language.
    pub language: Option<Language>,
    /// When not.
    pub quiet: Option<QuietHours>,
    /// The secret of a hook, sealed.
    pub sealed: Option<&'a [u8]>,
    /// The link that leads to what it is about, sealed.
    pub sealed_link: Option<&'a [u8]>,
    /// The link of whoever asked for it: with it, it ends.
    pub handoff_id: Option<Uuid>,
    /// The secret of the page that their mails lead to, if they get any.
    pub reader: Option<NewReader<'a>>,
    /// Whether they have yet to say so from their mailbox.
    pub is_unconfirmed: bool,
}

/// The secret of a reader's page.
#[derive(Clone, Copy, Debug)]
pub struct NewReader<'a> {
    /// What it is found by.
    pub hash: &'a [u8],
    /// What is written into mails, sealed.
    pub sealed: &'a [u8],
}

/// Somebody who is told.
#[derive(Clone, Debug)]
pub struct ReceiverRow {
    /// Identifies it.
    pub id: Uuid,
    /// By which way.
    pub way: Means,
    /// Where.
    pub target: String,
    /// Name of the account.
    pub account: Option<String>,
    /// The domain.
    pub host: Option<DnsName>,
    /// Of these kinds; all, if there are none.
    pub kinds: Vec<NoticeKind>,
    /// In which language: their own, else the account's.
    pub language: Option<Language>,
    /// When not.
    pub quiet: Option<QuietHours>,
    /// The secret of a hook, sealed.
    pub sealed: Option<Vec<u8>>,
    /// The one before, sealed, while it still counts.
    pub former: Option<Vec<u8>>,
    /// The link that leads to what it is about, sealed.
    pub sealed_link: Option<Vec<u8>>,
    /// The secret of the page that their mails lead to, sealed.
    pub sealed_reader: Option<Vec<u8>>,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Whether they have said so from their mailbox, where that is asked for.
    pub is_confirmed: bool,
    /// Since when no more.
    pub ended_at: Option<DateTime<Utc>>,
    /// Why no more.
    pub because: Option<String>,
    /// How often in a row nothing was taken.
    pub failures: i32,
    /// Why not, the last time.
    pub last_error: Option<String>,
}

struct ReceiverColumns {
    id: Uuid,
    way: String,
    target: String,
    account: Option<String>,
    host: Option<String>,
    kinds: Vec<String>,
    language: Option<String>,
    quiet: Option<String>,
    sealed: Option<Vec<u8>>,
    former: Option<Vec<u8>>,
    former_until: Option<DateTime<Utc>>,
    sealed_link: Option<Vec<u8>>,
    sealed_reader: Option<Vec<u8>>,
    created_at: DateTime<Utc>,
    confirmed_at: Option<DateTime<Utc>>,
    ended_at: Option<DateTime<Utc>>,
    because: Option<String>,
    failures: i32,
    last_error: Option<String>,
}

impl ReceiverColumns {
    fn read(self) -> Result<ReceiverRow, StoreError> {
        let still = self.former_until.is_some_and(|until| until > Utc::now());
        Ok(ReceiverRow {
            id: self.id,
            way: word("way", &self.way)?,
            target: self.target,
            account: self.account,
            host: self.host.map(DnsName::from),
            kinds: self.kinds.iter().map(|kind| word("kind of notice", kind)).collect::<Result<_, _>>()?,
            language: self.language.as_deref().and_then(Language::of_tag),
            // Hours that are no hours any more keep nobody from being told.
            quiet: self.quiet.and_then(|quiet| quiet.parse().ok()),
            sealed: self.sealed,
            former: self.former.filter(|_| still),
            sealed_link: self.sealed_link,
            sealed_reader: self.sealed_reader,
            created_at: self.created_at,
            is_confirmed: self.confirmed_at.is_some(),
            ended_at: self.ended_at,
            because: self.because,
            failures: self.failures,
            last_error: self.last_error,
        })
    }
}

/// Receivers, by what the statement goes along.
macro_rules! receivers {
    ($which:literal, $($given:expr),+) => {
        sqlx::query_as!(
            ReceiverColumns,
            r#"SELECT r.id, r.way, r.target, a.name AS "account?", d.host AS "host?", r.kinds,
                      coalesce(r.language, a.language) AS language, r.quiet, r.sealed, r.former, r.former_until,
                      r.sealed_link, r.sealed_reader, r.created_at, r.confirmed_at, r.ended_at, r.because, r.failures,
                      r.last_error
               FROM receivers r LEFT JOIN accounts a ON a.id = r.account_id LEFT JOIN domains d ON d.id = r.domain_id
               WHERE "# + $which,
            $($given),+
        )
    };
}

impl Store {
    /// Keeps somebody to be told.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown account; [`StoreError::ManyReceivers`].
    pub async fn add_receiver(&self, new: &NewReceiver<'_>) -> Result<Uuid, StoreError> {
        let id = Uuid::now_v7();
        let kinds: Vec<_> = new.kinds.iter().map(|kind| kind.as_str().to_owned()).collect();
        let mut tx = self.begin().await?;
        let done = sqlx::query!(
            "INSERT INTO receivers (id, account_id, domain_id, way, target, kinds, language, quiet, sealed, sealed_link,
                 asked_at, confirmed_at, handoff_id, reader, sealed_reader)
             SELECT $1, coalesce(a.id, d.account_id), $3, $4, $5, $6, $7, $8, $9, $10, CASE WHEN $11 THEN now() END,
                    CASE WHEN NOT $11 THEN now() END, $13, $14, $15
             FROM (SELECT) one LEFT JOIN accounts a ON a.name = $2 LEFT JOIN domains d ON d.id = $3
             WHERE ($2::text IS NULL OR a.id IS NOT NULL)
               AND (SELECT count(*) FROM (SELECT FROM receivers o WHERE o.ended_at IS NULL
                        AND o.account_id IS NOT DISTINCT FROM coalesce(a.id, d.account_id) LIMIT $12) open) < $12",
            id,
            new.account,
            new.domain_id,
            new.way.as_str(),
            new.target,
            &kinds,
            new.language.map(Language::as_str),
            new.quiet.map(String::from),
            new.sealed,
            new.sealed_link,
            new.is_unconfirmed,
            MOST_OF_ONE,
            new.handoff_id,
            new.reader.map(|reader| reader.hash),
            new.reader.map(|reader| reader.sealed)
        )
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() > 0 {
            tx.commit().await?;
            return Ok(id);
        }

        let is_there = match new.account {
            Some(account) => sqlx::query_scalar!("SELECT id FROM accounts WHERE name = $1", account)
                .fetch_optional(&mut *tx)
                .await?
                .is_some(),
            None => true,
        };
        match is_there {
            true => Err(StoreError::ManyReceivers(MOST_OF_ONE)),
            false => Err(StoreError::missing("account", new.account.unwrap_or_default())),
        }
    }

    /// How often an address, and how often about a domain, it was asked within `within` whether
    /// somebody wants to be told.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn asked_within(
        &self,
        address: &str,
        domain_id: Uuid,
        within: TimeDelta,
    ) -> Result<(i64, i64), StoreError> {
        let asked = sqlx::query!(
            r#"SELECT (SELECT count(*) FROM receivers WHERE target = $1 AND asked_at > $3) AS "address!",
                      (SELECT count(*) FROM receivers WHERE domain_id = $2 AND asked_at > $3) AS "domain!""#,
            address,
            domain_id,
            Utc::now() - within
        );
        let asked = asked.fetch_one(&self.pool).await?;
        Ok((asked.address, asked.domain))
    }

    /// One receiver.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn receiver(&self, id: Uuid) -> Result<ReceiverRow, StoreError> {
        let row = receivers!("r.id = $1", id).fetch_optional(&self.pool).await?;
        row.ok_or_else(|| StoreError::missing("receiver", &id.to_string()))?.read()
    }

    /// The receiver whose mails lead to the page of this secret, by its hash.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn receiver_by_reader(&self, hash: &[u8]) -> Result<Option<ReceiverRow>, StoreError> {
        let row = receivers!("r.reader = $1", hash).fetch_optional(&self.pool).await?;
        row.map(ReceiverColumns::read).transpose()
    }

    /// Receivers of a way that have not ended, newest first, at most `limit`, those before the
    /// one with an id.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn receivers(
        &self,
        way: Means,
        whose: &Whose,
        after: Option<Uuid>,
        limit: i64,
    ) -> Result<Vec<ReceiverRow>, StoreError> {
        let before = after.unwrap_or(Uuid::max());
        let way = way.as_str();
        let rows = if whose.is_narrow() {
            receivers!(
                "r.way = $1 AND r.account_id = ANY($2) AND r.id < $3 AND r.ended_at IS NULL ORDER BY r.id DESC LIMIT $4",
                way,
                whose.accounts().unwrap_or_default(),
                before,
                limit
            )
            .fetch_all(&self.pool)
            .await?
        } else {
            receivers!(
                "r.way = $1 AND r.id < $2 AND r.ended_at IS NULL ORDER BY r.id DESC LIMIT $3",
                way,
                before,
                limit
            )
            .fetch_all(&self.pool)
            .await?
        };
        rows.into_iter().map(ReceiverColumns::read).collect()
    }

    /// Tells somebody nothing any more; what was to be told is forgotten.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is no such one of these accounts.
    pub async fn end_receiver(&self, id: Uuid, whose: &Whose, because: &str) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        if end(&mut tx, Which::One(id), whose, because).await? == 0 {
            return Err(StoreError::missing("receiver", &id.to_string()));
        }
        tx.commit().await?;
        Ok(())
    }

    /// Notes that somebody said from their mailbox that they want to be told; `false` if they
    /// had, or have ended it.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn confirm_receiver(&self, id: Uuid) -> Result<bool, StoreError> {
        let done = sqlx::query!(
            "UPDATE receivers SET confirmed_at = now() WHERE id = $1 AND confirmed_at IS NULL AND ended_at IS NULL",
            id
        )
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Gives a hook another secret; the one before counts until `former_until`.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is no such hook of these accounts.
    pub async fn rotate_secret(
        &self,
        id: Uuid,
        whose: &Whose,
        sealed: &[u8],
        former_until: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        let done = sqlx::query!(
            "UPDATE receivers SET former = sealed, former_until = $4, sealed = $3
             WHERE id = $1 AND way = 'hook' AND ended_at IS NULL AND ($2::uuid[] IS NULL OR account_id = ANY($2))",
            id,
            whose.accounts(),
            sealed,
            former_until
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        if done.rows_affected() == 0 { Err(StoreError::missing("hook", &id.to_string())) } else { Ok(()) }
    }
}

/// Who is told nothing any more.
#[derive(Clone, Copy)]
pub(crate) enum Which {
    /// The one with this key.
    One(Uuid),
    /// Whoever asked for it by this handoff link.
    OfLink(Uuid),
}

/// Tells some receivers of some accounts nothing any more, and forgets what was to be told; returns how
/// many they are.
pub(crate) async fn end(
    tx: &mut PgConnection,
    which: Which,
    whose: &Whose,
    because: &str,
) -> Result<i64, StoreError> {
    let (id, link) = match which {
        Which::One(id) => (Some(id), None),
        Which::OfLink(link) => (None, Some(link)),
    };
    let ended = sqlx::query_scalar!(
        r#"WITH ended AS (
               UPDATE receivers SET ended_at = now(), because = $4, due = NULL
               WHERE (id = $1 OR handoff_id = $2) AND ended_at IS NULL AND ($3::uuid[] IS NULL OR account_id = ANY($3))
               RETURNING id),
           forgotten AS (DELETE FROM deliveries USING ended WHERE receiver_id = ended.id AND state = 'due')
           SELECT count(*) AS "count!" FROM ended"#,
        id,
        link,
        whose.accounts(),
        because
    );
    Ok(ended.fetch_one(&mut *tx).await?)
}

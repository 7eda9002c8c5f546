//! Keys of customers' zones, and the updates that were sent under them.

use chrono::{DateTime, Utc};
use nomenta_api::event::Event;
use nomenta_api::publication::{PublicationState, WriteAct, WriteLine, ZoneKey};
use nomenta_core::name::dns::DnsName;
use nomenta_core::publish::Update;
use serde_json::{Value, json};
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::courses;
use crate::error::{read, word};
use crate::lanes::Lane;
use crate::locks::{self, Told};
use crate::places::Whose;
use crate::tasks::{self, TaskKind};

/// A zone of an account, by which its key is found.
#[derive(Clone, Copy, Debug)]
pub struct ZoneOf<'a> {
    /// A domain in it.
    pub domain_id: Uuid,
    /// The zone's apex.
    pub zone: &'a DnsName,
}

/// A key to be kept.
#[derive(Clone, Copy, Debug)]
pub struct NewZoneKey<'a> {
    /// The zone.
    pub of: ZoneOf<'a>,
    /// The name that the server knows it by.
    pub name: &'a DnsName,
    /// How it signs.
    pub algorithm: nomenta_core::publish::Algorithm,
    /// The server that takes the updates, if one was given.
    pub server: Option<&'a str>,
    /// The key, sealed.
    pub sealed: &'a [u8],
    /// The handoff link by which it is given; none, if the account's own people give it.
    pub link: Option<Uuid>,
}

/// A key with its box.
#[derive(Clone, Debug)]
pub struct ZoneKeyRow {
    /// What is told of it.
    pub key: ZoneKey,
    /// The key, sealed.
    pub sealed: Vec<u8>,
    /// The handoff link by which it was given; none, if the account's own people gave it.
    pub link: Option<Uuid>,
}

/// An update that is about to be sent.
#[derive(Clone, Copy, Debug)]
pub struct NewPublication<'a> {
    /// The domain that it is for.
    pub domain_id: Uuid,
    /// The server that is sent it.
    pub server: &'a str,
    /// The key that it is signed with.
    pub key_name: &'a DnsName,
    /// What it does.
    pub update: &'a Update,
    /// The handoff link by which it is asked for, if it is by one.
    pub link: Option<Uuid>,
}

/// An update that was sent.
#[derive(Clone, Debug)]
pub struct PublicationRow {
    /// Identifies it.
    pub id: Uuid,
    /// The domain that it is for.
    pub domain_id: Uuid,
    /// Its name.
    pub host: DnsName,
    /// The server that was sent it.
    pub server: String,
    /// The key that it was signed with.
    pub key_name: DnsName,
    /// What it did.
    pub update: Update,
    /// The handoff link by which it was asked for, if it was by one.
    pub link: Option<Uuid>,
    /// How far it has come.
    pub state: PublicationState,
    /// Why it was refused.
    pub because: Option<String>,
    /// When it was sent.
    pub created_at: DateTime<Utc>,
    /// When its state was written last.
    pub ended_at: Option<DateTime<Utc>>,
}

struct PublicationColumns {
    id: Uuid,
    domain_id: Uuid,
    host: String,
    server: String,
    key_name: String,
    change: Value,
    link: Option<Uuid>,
    state: String,
    because: Option<String>,
    created_at: DateTime<Utc>,
    ended_at: Option<DateTime<Utc>>,
}

impl PublicationColumns {
    fn read(self) -> Result<PublicationRow, StoreError> {
        Ok(PublicationRow {
            id: self.id,
            domain_id: self.domain_id,
            host: self.host.into(),
            server: self.server,
            key_name: self.key_name.into(),
            update: read("update of a zone", self.change)?,
            link: self.link,
            state: word("state of a publication", &self.state)?,
            because: self.because,
            created_at: self.created_at,
            ended_at: self.ended_at,
        })
    }
}

/// Updates, by what the statement goes along.
macro_rules! publications {
    ($which:literal, $($given:expr),+) => {
        sqlx::query_as!(
            PublicationColumns,
            "SELECT id, domain_id, host, server, key_name, change, handoff_id AS link, state, because, created_at, ended_at
             FROM publications WHERE " + $which,
            $($given),+
        )
    };
}

impl Store {
    /// Keeps the key of a zone, in place of the one before; `false` if that is not to be replaced by
    /// whoever holds a link.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if the domain is gone.
    pub async fn keep_zone_key(&self, new: &NewZoneKey<'_>) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let kept = sqlx::query!(
            r#"WITH of AS (SELECT account_id FROM domains WHERE id = $1), kept AS (
                 INSERT INTO zone_keys (id, account_id, zone, name, algorithm, server, sealed, handoff_id)
                 SELECT $2, account_id, $3, $4, $5, $6, $7, $8 FROM of
                 ON CONFLICT (account_id, zone) DO UPDATE SET name = excluded.name, algorithm = excluded.algorithm,
                     server = excluded.server, sealed = excluded.sealed, handoff_id = excluded.handoff_id,
                     given_at = now()
                 WHERE excluded.handoff_id IS NULL OR zone_keys.handoff_id = excluded.handoff_id
                 RETURNING 1)
               SELECT EXISTS (SELECT FROM of) AS "is_there!", EXISTS (SELECT FROM kept) AS "is_kept!""#,
            new.of.domain_id,
            Uuid::now_v7(),
            new.of.zone.as_str(),
            new.name.as_str(),
            new.algorithm.as_str(),
            new.server,
            new.sealed,
            new.link
        )
        .fetch_one(&mut *tx)
        .await?;
        tx.commit().await?;
        match kept.is_there {
            true => Ok(kept.is_kept),
            false => Err(StoreError::missing("domain", &new.of.domain_id.to_string())),
        }
    }

    /// The key of a zone, if one is kept.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn zone_key(&self, of: ZoneOf<'_>) -> Result<Option<ZoneKeyRow>, StoreError> {
        let row = sqlx::query!(
            "SELECT k.zone, k.name, k.algorithm, k.server, k.sealed, k.given_at, k.handoff_id
             FROM zone_keys k JOIN domains d ON d.account_id = k.account_id WHERE d.id = $1 AND k.zone = $2",
            of.domain_id,
            of.zone.as_str()
        );
        let Some(row) = row.fetch_optional(&self.pool).await? else { return Ok(None) };

        let key = ZoneKey {
            zone: row.zone.into(),
            name: row.name.into(),
            algorithm: word("algorithm of a key", &row.algorithm)?,
            server: row.server,
            given_at: row.given_at,
        };
        Ok(Some(ZoneKeyRow { key, sealed: row.sealed, link: row.handoff_id }))
    }

    /// Forgets the key of a zone; `false` if there was none.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn forget_zone_key(&self, of: ZoneOf<'_>) -> Result<bool, StoreError> {
        let mut tx = self.begin().await?;
        let done = sqlx::query!(
            "DELETE FROM zone_keys k USING domains d WHERE d.id = $1 AND d.account_id = k.account_id AND k.zone = $2",
            of.domain_id,
            of.zone.as_str()
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(done.rows_affected() > 0)
    }

    /// Writes down an update that is about to be sent: whatever comes of it, it can be taken back.
    ///
    /// # Errors
    /// [`StoreError::Ended`] if the domain has left.
    pub async fn begin_publication(&self, new: &NewPublication<'_>) -> Result<Uuid, StoreError> {
        let id = Uuid::now_v7();
        let mut tx = self.begin().await?;
        let done = sqlx::query!(
            "INSERT INTO publications (id, domain_id, account_id, host, zone, server, key_name, change, state, handoff_id)
             SELECT $2, id, account_id, host, $3, $4, $5, $6, $7, $8 FROM domains WHERE id = $1 AND ended_at IS NULL",
            new.domain_id,
            id,
            new.update.zone.as_str(),
            new.server,
            new.key_name.as_str(),
            json!(new.update),
            PublicationState::Sent.as_str(),
            new.link
        )
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Ended);
        }

        // From here on it may arrive, and be seen, at any moment.
        courses::begin(&mut tx, new.domain_id, Utc::now()).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Writes down what came of an update; one that was made has its domain looked at again.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn settle_publication(
        &self,
        id: Uuid,
        state: PublicationState,
        because: Option<&str>,
    ) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        let domain_id = sqlx::query_scalar!("SELECT domain_id FROM publications WHERE id = $1", id)
            .fetch_optional(&mut *tx);
        let domain_id =
            domain_id.await?.ok_or_else(|| StoreError::missing("publication", &id.to_string()))?;
        let claims = locks::lock(&mut tx, &[domain_id]).await?;

        let row = sqlx::query!(
            "UPDATE publications SET state = $2, because = $3, ended_at = now() WHERE id = $1 RETURNING zone, change",
            id,
            state.as_str(),
            because
        )
        .fetch_one(&mut *tx)
        .await?;
        if matches!(state, PublicationState::Undone | PublicationState::Refused) {
            courses::take_back(&mut tx, domain_id).await?;
        }
        if let (Some(claim), Some(event)) = (claims.get(domain_id), happened(state, row.zone, row.change)?) {
            let mut told = Told::default();
            told.event(claim, event);
            told.write(&mut tx, Utc::now()).await?;
            tasks::wake_in(&mut tx, &[domain_id], TaskKind::Look, Utc::now(), Lane::First).await?;
        }
        self.commit_work(tx).await
    }

    /// Updates that were sent for a domain, newest first, at most `limit`, those before the one
    /// with an id.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn publications(
        &self,
        domain_id: Uuid,
        after: Option<Uuid>,
        limit: i64,
    ) -> Result<Vec<PublicationRow>, StoreError> {
        let rows = publications!(
            "domain_id = $1 AND id < $2 ORDER BY id DESC LIMIT $3",
            domain_id,
            after.unwrap_or(Uuid::max()),
            limit
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(PublicationColumns::read).collect()
    }

    /// One update, of these accounts alone.
    ///
    /// # Errors
    /// [`StoreError::Missing`] if there is none.
    pub async fn publication(&self, id: Uuid, whose: &Whose) -> Result<PublicationRow, StoreError> {
        let row =
            publications!("id = $1 AND ($2::uuid[] IS NULL OR account_id = ANY($2))", id, whose.accounts());
        let row = row.fetch_optional(&self.pool).await?;
        row.ok_or_else(|| StoreError::missing("publication", &id.to_string()))?.read()
    }
}

/// What a state tells of the domain.
fn happened(state: PublicationState, zone: String, change: Value) -> Result<Option<Event>, StoreError> {
    Ok(match state {
        PublicationState::Done => {
            let update: Update = read("update of a zone", change)?;
            let lines = WriteLine::of(&update);
            let [removed, added] = [WriteAct::Remove, WriteAct::Add].map(|act| WriteLine::count(&lines, act));
            Some(Event::Published { zone, removed, added })
        }
        PublicationState::Undone => Some(Event::TakenBack { zone }),
        PublicationState::Sent | PublicationState::Refused => None,
    })
}

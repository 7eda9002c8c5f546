//! What is to be told, to whom, and what came of it.
//!
//! Events are the outbox: one process at a time reads on from where it was, and writes down
//! who is told of each in the transaction that moves the place. A receiver with something to be
//! sent is leased like a task; what is sent to it about one domain goes in the order in which it
//! happened.

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_api::event::Event;
use nomenta_api::notice::{DeliveryState, Means, kind_of};
use nomenta_core::name::dns::DnsName;
use nomenta_core::notice::{NoticeKind, again_after, is_over};
use serde_json::Value;
use thiserror::Error;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::word;
use crate::places::Whose;

/// Events that are read at once.
const READ: i64 = 500;
/// How long a receiver is held without a word, in seconds.
const LEASE_SECONDS: f64 = 20.0;
/// Lines of an error that are kept, in characters.
const MOST_ERROR: usize = 300;

/// The right to send to a receiver until the lease runs out; each thing sent renews it.
#[derive(Clone, Copy, Debug)]
pub struct ReceiverLease {
    /// The receiver.
    pub id: Uuid,
    lease: Uuid,
}

/// Something to be sent.
#[derive(Clone, Debug)]
pub struct DueRow {
    /// Identifies it.
    pub id: Uuid,
    /// Identifies what happened.
    pub event_id: Uuid,
    /// Position in the order of events.
    pub seq: i64,
    /// The account.
    pub account: Option<String>,
    /// The domain.
    pub host: DnsName,
    /// Of what.
    pub kind: NoticeKind,
    /// When.
    pub at: DateTime<Utc>,
    /// What happened.
    pub event: Event,
    /// How often it was sent.
    pub tries: i32,
    /// Since when it is tried.
    pub since: DateTime<Utc>,
}

/// Something that was to be sent, as it is listed.
#[derive(Clone, Debug)]
pub struct DeliveryRow {
    /// Identifies it.
    pub id: Uuid,
    /// Identifies what happened.
    pub event_id: Uuid,
    /// By which way.
    pub way: Means,
    /// To whom.
    pub target: String,
    /// The domain.
    pub host: DnsName,
    /// Of what.
    pub kind: NoticeKind,
    /// When.
    pub at: DateTime<Utc>,
    /// What came of it.
    pub state: DeliveryState,
    /// When it is sent next.
    pub due: DateTime<Utc>,
    /// How often it was sent.
    pub tries: i32,
    /// Why it was not taken, the last time.
    pub last_error: Option<String>,
    /// When it was taken, or given up.
    pub ended_at: Option<DateTime<Utc>>,
}

/// Which of them to list.
#[derive(Clone, Debug, Default)]
pub struct DeliveryFilter {
    /// Only those about these accounts' domains; to the accounts' own receivers, unless whoever asks
    /// sees all there are.
    pub whose: Whose,
    /// Only those of which this came.
    pub state: Option<DeliveryState>,
    /// Only those to this receiver.
    pub receiver: Option<Uuid>,
    /// Only those that are older than this one.
    pub after: Option<Uuid>,
}

/// Why something was not taken.
#[derive(Clone, Debug, Error)]
#[error("{because}")]
pub struct NotTaken {
    /// In words.
    pub because: String,
    /// Not before then, as the receiver says.
    pub not_before: Option<DateTime<Utc>>,
    /// Whether it gave no answer at all, so that nothing else is sent to it for a while either.
    pub is_silent: bool,
    /// Whether it will never be taken.
    pub is_final: bool,
}

/// A notice of an event, and whose it is.
struct Happened {
    seq: i64,
    id: Uuid,
    domain_id: Option<Uuid>,
    account_id: Option<Uuid>,
    host: String,
    at: DateTime<Utc>,
    event_kind: String,
    data: Value,
    kind: NoticeKind,
}

struct Told {
    id: Uuid,
    account_id: Option<Uuid>,
    domain_id: Option<Uuid>,
    is_mail: bool,
    kinds: Vec<String>,
}

impl Told {
    fn wants(&self, happened: &Happened) -> bool {
        let is_whose = self.account_id.is_none() || self.account_id == happened.account_id;
        let is_of = self.domain_id.is_none() || self.domain_id == happened.domain_id;
        is_whose && is_of && (self.kinds.is_empty() || self.kinds.iter().any(|k| k == happened.kind.as_str()))
    }
}

struct DeliveryColumns {
    id: Uuid,
    event_id: Uuid,
    way: String,
    target: String,
    host: String,
    kind: String,
    at: DateTime<Utc>,
    state: String,
    due: DateTime<Utc>,
    tries: i32,
    last_error: Option<String>,
    ended_at: Option<DateTime<Utc>>,
}

impl DeliveryColumns {
    fn read(self) -> Result<DeliveryRow, StoreError> {
        Ok(DeliveryRow {
            id: self.id,
            event_id: self.event_id,
            way: word("way", &self.way)?,
            target: self.target,
            host: self.host.into(),
            kind: word("kind of notice", &self.kind)?,
            at: self.at,
            state: word("state of a notice", &self.state)?,
            due: self.due,
            tries: self.tries,
            last_error: self.last_error,
            ended_at: self.ended_at,
        })
    }
}

/// A page of what was to be sent, by what the statement goes along.
macro_rules! listed {
    ($which:literal, $($given:expr),+) => {
        sqlx::query_as!(
            DeliveryColumns,
            "SELECT d.id, d.event_id, r.way, r.target, d.host, d.kind, d.at, d.state, d.due, d.tries, d.last_error, d.ended_at
             FROM deliveries d JOIN receivers r ON r.id = d.receiver_id WHERE " + $which,
            $($given),+
        )
    };
}

impl Store {
    /// Reads on in what has happened, and writes down who is to be told; mails are gathered for
    /// a while. Returns whether there may be more.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn tell_on(&self, gather: TimeDelta) -> Result<bool, StoreError> {
        let mut tx = self.pool.begin().await?;
        // Somebody else may be at it.
        let place = sqlx::query_scalar!("SELECT seq FROM notice_place FOR UPDATE SKIP LOCKED");
        let Some(place) = place.fetch_optional(&mut *tx).await? else { return Ok(false) };
        let rows = sqlx::query!(
            "SELECT seq, id, domain_id, account_id, host, kind, at, data FROM events WHERE seq > $1 ORDER BY seq LIMIT $2",
            place,
            READ
        )
        .fetch_all(&mut *tx)
        .await?;
        let Some(last) = rows.last().map(|row| row.seq) else { return Ok(false) };
        let is_full = i64::try_from(rows.len()).unwrap_or(i64::MAX) >= READ;

        let mut happened = Vec::new();
        for row in rows {
            // One that cannot be read keeps nobody from being told of the others.
            let event = word("kind of event", &row.kind).ok().map(|kind| Event::read(kind, row.data.clone()));
            let Some(Ok(event)) = event else { continue };
            let (Some(kind), Some(host)) = (kind_of(&event), row.host) else { continue };
            happened.push(Happened {
                seq: row.seq,
                id: row.id,
                domain_id: row.domain_id,
                account_id: row.account_id,
                host,
                at: row.at,
                event_kind: row.kind,
                data: row.data,
                kind,
            });
        }

        if !happened.is_empty() {
            write(&mut tx, &happened, gather).await?;
        }
        sqlx::query!("UPDATE notice_place SET seq = $1", last).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(is_full)
    }

    /// Takes receivers that something is to be sent to, at most `most`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn lease_receivers(&self, most: usize) -> Result<Vec<ReceiverLease>, StoreError> {
        let lease = Uuid::new_v4();
        let ids = sqlx::query_scalar!(
            "UPDATE receivers SET lease = $1, leased_until = now() + make_interval(secs => $2)
             WHERE id IN (SELECT id FROM receivers
                          WHERE due <= now() AND ended_at IS NULL AND (leased_until IS NULL OR leased_until < now())
                          ORDER BY due LIMIT $3 FOR UPDATE SKIP LOCKED)
             RETURNING id",
            lease,
            LEASE_SECONDS,
            i64::try_from(most).unwrap_or(i64::MAX)
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(ids.into_iter().map(|id| ReceiverLease { id, lease }).collect())
    }

    /// Seconds until something is to be sent, or a lease runs out.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn next_notice(&self) -> Result<Option<f64>, StoreError> {
        let seconds = sqlx::query_scalar!(
            "SELECT extract(epoch FROM min(greatest(due, leased_until)) - now())::float8 FROM
                 (SELECT due, leased_until FROM receivers WHERE due IS NOT NULL AND ended_at IS NULL
                  ORDER BY due LIMIT 500) first"
        );
        Ok(seconds.fetch_one(&self.pool).await?)
    }

    /// What is to be sent to a receiver now, in the order in which it happened: nothing about a
    /// domain of which something earlier is yet to be sent later. By the order, and not by when
    /// they are due: a page ends before what comes after, never before what comes first.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn due_to(&self, lease: &ReceiverLease, most: i64) -> Result<Vec<DueRow>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT d.id, d.event_id, d.seq, a.name AS "account?", d.host, d.kind, d.event_kind, d.data, d.at, d.tries, d.since
               FROM deliveries d LEFT JOIN accounts a ON a.id = d.account_id
               WHERE d.receiver_id = $1 AND d.state = 'due' AND d.due <= now()
                 AND NOT EXISTS (SELECT FROM deliveries e WHERE e.receiver_id = d.receiver_id AND e.host = d.host
                                 AND e.state = 'due' AND e.seq < d.seq AND e.due > now())
               ORDER BY d.seq LIMIT $2"#,
            lease.id,
            most
        )
        .fetch_all(&self.pool)
        .await?;

        let mut due = Vec::with_capacity(rows.len());
        for row in rows {
            let event_kind = word("kind of event", &row.event_kind)?;
            due.push(DueRow {
                id: row.id,
                event_id: row.event_id,
                seq: row.seq,
                account: row.account,
                host: row.host.into(),
                kind: word("kind of notice", &row.kind)?,
                at: row.at,
                event: Event::read(event_kind, row.data)
                    .map_err(|cause| StoreError::unreadable("event", cause))?,
                tries: row.tries,
                since: row.since,
            });
        }
        Ok(due)
    }

    /// Writes down that some were taken; keeps the receiver for another term.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn delivered(&self, lease: &ReceiverLease, ids: &[Uuid]) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        // The receiver comes before what is to be sent to it, in every transaction.
        sqlx::query!(
            "UPDATE receivers SET failures = 0, last_error = NULL, leased_until = now() + make_interval(secs => $3)
             WHERE id = $1 AND lease = $2",
            lease.id,
            lease.lease,
            LEASE_SECONDS
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "UPDATE deliveries SET state = 'delivered', tries = tries + 1, ended_at = now(), last_error = NULL
             WHERE id = ANY($1) AND state = 'due'",
            ids
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(())
    }

    /// Writes down that some were not taken: they are sent again later, or given up once that
    /// has gone on for days.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn not_delivered(
        &self,
        lease: &ReceiverLease,
        rows: &[DueRow],
        why: &NotTaken,
        jitter: f64,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        let ids: Vec<_> = rows.iter().map(|row| row.id).collect();
        let due: Vec<_> = rows
            .iter()
            .map(|row| {
                let tries = u32::try_from(row.tries).unwrap_or(0).saturating_add(1);
                let again = now + again_after(tries, jitter);
                why.not_before.map_or(again, |not_before| again.max(not_before))
            })
            .collect();
        let dead: Vec<_> = rows.iter().map(|row| why.is_final || is_over(now - row.since)).collect();
        let because: String = why.because.chars().take(MOST_ERROR).collect();

        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "UPDATE receivers SET failures = CASE WHEN $5 THEN failures + 1 ELSE 0 END, last_error = $3,
                 leased_until = now() + make_interval(secs => $4) WHERE id = $1 AND lease = $2",
            lease.id,
            lease.lease,
            because,
            LEASE_SECONDS,
            why.is_silent
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "UPDATE deliveries d SET state = CASE WHEN n.dead THEN 'dead' ELSE 'due' END, tries = tries + 1, due = n.due,
                 last_error = $4, ended_at = CASE WHEN n.dead THEN now() END
             FROM unnest($1::uuid[], $2::timestamptz[], $3::boolean[]) AS n (id, due, dead)
             WHERE d.id = n.id AND d.state = 'due'",
            &ids,
            &due,
            &dead,
            because
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(())
    }

    /// Lets a receiver go, until something is to be sent to it again; not before `not_before`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn let_go(
        &self,
        lease: &ReceiverLease,
        not_before: Option<DateTime<Utc>>,
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        // Whoever writes down something new for it waits for this.
        let held = sqlx::query_scalar!(
            "SELECT id FROM receivers WHERE id = $1 AND lease = $2 FOR UPDATE",
            lease.id,
            lease.lease
        );
        if held.fetch_optional(&mut *tx).await?.is_none() {
            return Ok(());
        }
        sqlx::query!(
            "UPDATE receivers SET lease = NULL, leased_until = NULL,
                 due = (SELECT greatest(min(due), $2) FROM deliveries WHERE receiver_id = $1 AND state = 'due')
             WHERE id = $1",
            lease.id,
            not_before
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(())
    }

    /// What was to be sent, newest first, at most `limit`.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn deliveries(
        &self,
        filter: &DeliveryFilter,
        limit: i64,
    ) -> Result<Vec<DeliveryRow>, StoreError> {
        // A statement for each shape, so that each goes along its own index.
        let before = filter.after.unwrap_or(Uuid::max());
        let state = filter.state.map(DeliveryState::as_str);
        let whose = filter.whose.accounts();
        let rows = match (filter.receiver, state, whose) {
            (Some(receiver), state, whose) => {
                listed!(
                    "d.receiver_id = $1 AND ($2::text IS NULL OR d.state = $2) \
                 AND ($3::uuid[] IS NULL OR d.account_id = ANY($3)) AND d.id < $4 \
                 AND ($6::uuid[] IS NULL OR r.account_id = ANY($6)) ORDER BY d.id DESC LIMIT $5",
                    receiver,
                    state,
                    whose,
                    before,
                    limit,
                    filter.whose.own()
                )
                .fetch_all(&self.pool)
                .await?
            }
            (None, state, Some(whose)) => {
                listed!(
                    "d.account_id = ANY($1) AND ($2::text IS NULL OR d.state = $2) AND d.id < $3 \
                 AND ($5::uuid[] IS NULL OR r.account_id = ANY($5)) ORDER BY d.id DESC LIMIT $4",
                    whose,
                    state,
                    before,
                    limit,
                    filter.whose.own()
                )
                .fetch_all(&self.pool)
                .await?
            }
            (None, Some(state), None) => {
                listed!("d.state = $1 AND d.id < $2 ORDER BY d.id DESC LIMIT $3", state, before, limit)
                    .fetch_all(&self.pool)
                    .await?
            }
            (None, None, None) => {
                listed!("d.id < $1 ORDER BY d.id DESC LIMIT $2", before, limit).fetch_all(&self.pool).await?
            }
        };
        rows.into_iter().map(DeliveryColumns::read).collect()
    }

    /// Sends again what nobody took, and at once what waits to be tried again: one notice, or all of
    /// a receiver; returns how many.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn redeliver(
        &self,
        one: Option<Uuid>,
        receiver: Option<Uuid>,
        whose: &Whose,
    ) -> Result<u64, StoreError> {
        let mut tx = self.begin().await?;
        let ids = sqlx::query_scalar!(
            "SELECT id FROM receivers WHERE ended_at IS NULL
               AND id IN (SELECT $2::uuid UNION SELECT receiver_id FROM deliveries WHERE id = $1)
               AND ($3::uuid[] IS NULL OR account_id = ANY($3))
             ORDER BY id FOR UPDATE",
            one,
            receiver,
            whose.own()
        )
        .fetch_all(&mut *tx)
        .await?;
        let done = sqlx::query!(
            "UPDATE deliveries SET state = 'due', due = now(), since = now(), tries = 0, ended_at = NULL
             WHERE receiver_id = ANY($4) AND (state = 'dead' OR (state = 'due' AND tries > 0)) AND ($1::uuid IS NULL OR id = $1)
               AND ($2::uuid IS NULL OR receiver_id = $2) AND ($3::uuid[] IS NULL OR account_id = ANY($3))",
            one,
            receiver,
            whose.accounts(),
            &ids
        )
        .execute(&mut *tx)
        .await?
        .rows_affected();
        if done > 0 {
            sqlx::query!("UPDATE receivers SET due = now(), failures = 0 WHERE id = ANY($1)", &ids)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(done)
    }
}

/// Writes down who is told of what has happened.
async fn write(
    tx: &mut sqlx::PgConnection,
    happened: &[Happened],
    gather: TimeDelta,
) -> Result<(), StoreError> {
    let accounts: Vec<_> = happened.iter().filter_map(|one| one.account_id).collect();
    let told = sqlx::query_as!(
        Told,
        r#"SELECT id, account_id, domain_id, way = 'mail' AS "is_mail!", kinds FROM receivers
           WHERE ended_at IS NULL AND confirmed_at IS NOT NULL AND (account_id IS NULL OR account_id = ANY($1))
           ORDER BY id FOR NO KEY UPDATE"#,
        &accounts
    )
    .fetch_all(&mut *tx)
    .await?;

    let now = Utc::now();
    for one in &told {
        let due = if one.is_mail { now + gather } else { now };
        let wanted: Vec<&Happened> = happened.iter().filter(|happened| one.wants(happened)).collect();
        if wanted.is_empty() {
            continue;
        }
        insert(tx, one.id, &wanted, due).await?;
        wake(tx, &[one.id], due).await?;
    }
    Ok(())
}

async fn insert(
    tx: &mut sqlx::PgConnection,
    receiver_id: Uuid,
    wanted: &[&Happened],
    due: DateTime<Utc>,
) -> Result<(), StoreError> {
    let column = |of: fn(&Happened) -> String| wanted.iter().map(|one| of(one)).collect::<Vec<_>>();
    let ids: Vec<_> = wanted.iter().map(|_| Uuid::now_v7()).collect();
    let accounts: Vec<_> = wanted.iter().map(|one| one.account_id).collect();
    let domains: Vec<_> = wanted.iter().map(|one| one.domain_id).collect();
    let seqs: Vec<_> = wanted.iter().map(|one| one.seq).collect();
    let events: Vec<_> = wanted.iter().map(|one| one.id).collect();
    let data: Vec<_> = wanted.iter().map(|one| one.data.clone()).collect();
    let moments: Vec<_> = wanted.iter().map(|one| one.at).collect();
    sqlx::query!(
        "INSERT INTO deliveries (id, receiver_id, account_id, domain_id, host, seq, event_id, kind, event_kind, data, at,
             state, due)
         SELECT n.id, $1, n.account_id, n.domain_id, n.host, n.seq, n.event_id, n.kind, n.event_kind, n.data, n.at, 'due', $2
         FROM unnest($3::uuid[], $4::uuid[], $5::uuid[], $6::text[], $7::bigint[], $8::uuid[], $9::text[], $10::text[],
                     $11::jsonb[], $12::timestamptz[])
              AS n (id, account_id, domain_id, host, seq, event_id, kind, event_kind, data, at)
         ON CONFLICT DO NOTHING",
        receiver_id,
        due,
        &ids,
        &accounts as &[Option<Uuid>],
        &domains as &[Option<Uuid>],
        &column(|one| one.host.clone()),
        &seqs,
        &events,
        &column(|one| one.kind.as_str().to_owned()),
        &column(|one| one.event_kind.clone()),
        &data,
        &moments
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// Something is to be sent to them, at `due` at the latest; nobody is hurried who gives no
/// answer.
async fn wake(tx: &mut sqlx::PgConnection, ids: &[Uuid], due: DateTime<Utc>) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE receivers SET due = least(due, $2) WHERE id = ANY($1) AND (due IS NULL OR failures = 0)",
        ids,
        due
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

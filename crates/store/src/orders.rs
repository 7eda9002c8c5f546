//! Certificate orders, from opened to issued or refused.

use chrono::{DateTime, Utc};
use nomenta_api::certificate::OrderStatus;
use nomenta_api::event::Event;
use nomenta_core::judge::certificate::CertificateFacts;
use nomenta_core::judge::evidence::Problem;
use nomenta_core::reading::method::Method;
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Lease;
use crate::Store;
use crate::StoreError;
use crate::channel::{self, Channel};
use crate::edge;
use crate::error::word;
use crate::events::{self, About};
use crate::issuer::{ACCOUNT_WINDOW, DOMAIN_WINDOW, Limits};
use crate::locks::{self, Told};
use crate::revocations;
use crate::story;
use crate::tasks::{self, TaskKind};

/// Serialises the placing of orders, so that no budget is overdrawn.
const ORDER_LOCK: i64 = 0x6f72_6465;

/// An order to be opened.
#[derive(Clone, Debug)]
pub struct NewOrder {
    /// The domains that it is for, each with its name.
    pub domains: Vec<(Uuid, String)>,
    /// The registered domain whose budget it counts against.
    pub registered: String,
    /// How control is shown.
    pub method: Method,
    /// The certificate's private key, sealed.
    pub sealed_key: Vec<u8>,
    /// The budgets that it must fit in.
    pub limits: Limits,
    /// What was known when it was decided.
    pub known: EndedOrders,
}

/// How many orders had ended for some domains: if there are more by now, what
/// was decided before is void.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EndedOrders {
    domain_ids: Vec<Uuid>,
    count: i64,
}

impl EndedOrders {
    pub(crate) fn of(domain_ids: impl IntoIterator<Item = Uuid>, count: i64) -> Self {
        Self { domain_ids: domain_ids.into_iter().collect(), count }
    }
}

/// An open order.
#[derive(Clone, Debug)]
pub struct OrderRow {
    /// Key of the record.
    pub id: Uuid,
    /// The order's URL at the CA, once it is known there.
    pub url: Option<String>,
    /// The certificate's private key, sealed.
    pub sealed_key: Vec<u8>,
    /// The names it is for, the one that ordered first.
    pub names: Vec<String>,
    /// Their domains, in the same order.
    pub domain_ids: Vec<Uuid>,
    /// How control is shown.
    pub method: Method,
    /// The chain of the certificate that it is to replace.
    pub replaces: Option<String>,
}

impl OrderRow {
    fn about(&self) -> Vec<About<'_>> {
        self.domain_ids.iter().zip(&self.names).map(|(id, host)| About { id: Some(*id), host }).collect()
    }
}

/// A certificate as it came from the CA.
#[derive(Clone, Debug)]
pub struct Issued {
    /// What it says.
    pub facts: CertificateFacts,
    /// The chain, leaf first.
    pub chain_pem: String,
    /// When to renew it.
    pub renew_at: DateTime<Utc>,
}

impl Store {
    /// The open order that a domain placed.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn open_order(&self, domain_id: Uuid) -> Result<Option<OrderRow>, StoreError> {
        let row = sqlx::query!(
            r#"SELECT o.id, o.url, o.sealed_key, o.names, o.domain_ids, o.method,
                      c.chain_pem AS "replaces?"
               FROM orders o LEFT JOIN certificates c ON c.id = o.replaces
               WHERE o.domain_id = $1 AND o.state = $2"#,
            domain_id,
            OrderStatus::Open.as_str()
        )
        .fetch_optional(&self.pool)
        .await?;

        let Some(row) = row else { return Ok(None) };

        Ok(Some(OrderRow {
            id: row.id,
            url: row.url,
            sealed_key: row.sealed_key,
            names: row.names,
            domain_ids: row.domain_ids,
            method: word("method", &row.method)?,
            replaces: row.replaces,
        }))
    }

    /// Notes where the CA keeps the order, before anything is done with it:
    /// from here on a restart goes on with this very order.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has taken the task: what was placed is
    /// void, and nobody goes on with it.
    pub async fn note_order_url(&self, lease: &Lease, order_id: Uuid, url: &str) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        tasks::hold(&mut tx, lease).await?;
        let noted = sqlx::query!("UPDATE orders SET url = $2 WHERE id = $1 AND url IS NULL", order_id, url);
        if noted.execute(&mut *tx).await?.rows_affected() == 0 {
            return Err(StoreError::LeaseLost);
        }

        tx.commit().await?;
        Ok(())
    }

    /// Forgets an order's URL that the CA no longer knows.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has taken the task.
    pub async fn forget_order_url(&self, lease: &Lease, order_id: Uuid) -> Result<(), StoreError> {
        let mut tx = self.begin().await?;
        tasks::hold(&mut tx, lease).await?;
        sqlx::query!("UPDATE orders SET url = NULL WHERE id = $1", order_id).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Ends an order with a certificate, and makes its domains due for a look.
    ///
    /// # Errors
    /// [`StoreError::LeaseLost`] if another process has taken the task; then
    /// nothing is written.
    pub async fn finish_issued(
        &self,
        lease: &Lease,
        order: &OrderRow,
        issued: &Issued,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        let facts = &issued.facts;
        let mut tx = self.begin().await?;
        locks::lock(&mut tx, &order.domain_ids).await?;

        tasks::finish(&mut tx, lease, None).await?;
        sqlx::query!(
            "UPDATE orders SET state = $3, ended_at = $2 WHERE id = $1",
            order.id,
            now,
            OrderStatus::Issued.as_str()
        )
        .execute(&mut *tx)
        .await?;

        let id = keep(&mut tx, lease.domain_id, order, issued, now).await?;
        replace(&mut tx, id, &order.domain_ids, now).await?;

        let event = Event::CertificateIssued {
            serial: facts.serial.clone(),
            issuer: facts.issuer.clone(),
            names: facts.names.clone(),
            not_after: facts.not_after,
            renew_at: issued.renew_at,
        };
        end(&mut tx, order, now, &event).await?;
        story::step(&mut tx, order.id, &format!("Issued with serial {}.", facts.serial)).await?;
        self.commit_work(tx).await?;

        Ok(())
    }

    /// Ends an order that the CA refused; another may be placed at `retry_at`.
    ///
    /// # Errors
    /// As for [`finish_issued`](Self::finish_issued).
    pub async fn finish_refused(
        &self,
        lease: &Lease,
        order: &OrderRow,
        problem: &Problem,
        retry_at: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        let now = Utc::now();
        let mut tx = self.begin().await?;
        locks::lock(&mut tx, &order.domain_ids).await?;

        tasks::finish(&mut tx, lease, None).await?;
        sqlx::query!(
            "UPDATE orders SET state = $5, problem = $2, retry_at = $3, ended_at = $4 WHERE id = $1",
            order.id,
            json!(problem),
            retry_at,
            now,
            OrderStatus::Refused.as_str()
        )
        .execute(&mut *tx)
        .await?;

        let event = Event::OrderRefused { problem: problem.clone(), retry_at };
        end(&mut tx, order, now, &event).await?;
        story::step(&mut tx, order.id, &format!("Refused: {}", problem.detail)).await?;
        self.commit_work(tx).await?;

        Ok(())
    }
}

/// Keeps the certificate that an order ended with; the CA is asked for its
/// advice on the renewal at once.
async fn keep(
    tx: &mut PgConnection,
    domain_id: Uuid,
    order: &OrderRow,
    issued: &Issued,
    now: DateTime<Utc>,
) -> Result<Uuid, StoreError> {
    let id = Uuid::now_v7();
    sqlx::query!(
        "INSERT INTO certificates
         (id, account_id, domain_id, domain_ids, order_id, facts, chain_pem, sealed_key, not_after, issued_at,
          renew_at, advice_at)
         SELECT $1, account_id, id, $3, $4, $5, $6, $7, $8, $9, $10, $9 FROM domains WHERE id = $2",
        id,
        domain_id,
        &order.domain_ids,
        order.id,
        json!(issued.facts),
        issued.chain_pem,
        order.sealed_key,
        issued.facts.not_after,
        now,
        issued.renew_at
    )
    .execute(&mut *tx)
    .await?;

    Ok(id)
}

/// Marks what a new certificate takes the place of. One that was shared with a
/// domain that has left is revoked with that.
pub(crate) async fn replace(
    tx: &mut PgConnection,
    id: Uuid,
    domain_ids: &[Uuid],
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    // One that two domains shared is out of use once each has another of its own.
    sqlx::query!(
        "UPDATE certificates c SET replaced_at = $3
         WHERE replaced_at IS NULL AND id <> $1 AND domain_ids && $2
           AND NOT EXISTS (
               SELECT FROM unnest(c.domain_ids) AS of (domain_id)
               WHERE NOT domain_id = ANY($2) AND NOT EXISTS (
                   SELECT FROM certificates n
                   WHERE n.domain_ids @> ARRAY[of.domain_id] AND n.id <> c.id AND n.issued_at > c.issued_at
                     AND n.replaced_at IS NULL AND n.revoked_at IS NULL))",
        id,
        domain_ids,
        now
    )
    .execute(&mut *tx)
    .await?;

    let retiring = sqlx::query!(
        "UPDATE certificates SET revoked_at = $3
         WHERE domain_ids && $2 AND id <> $1 AND retires IS NOT NULL AND replaced_at IS NOT NULL
           AND revoked_at IS NULL AND not_after > $3
         RETURNING id, domain_id, retires",
        id,
        domain_ids,
        now
    )
    .fetch_all(&mut *tx)
    .await?;
    for certificate in retiring {
        let reason = word("reason", certificate.retires.as_deref().unwrap_or_default())?;
        revocations::queue(tx, &[certificate.id], certificate.domain_id, reason, now).await?;
    }
    Ok(())
}

/// What every end of an order brings with it.
async fn end(
    tx: &mut PgConnection,
    order: &OrderRow,
    now: DateTime<Utc>,
    event: &Event,
) -> Result<(), StoreError> {
    sqlx::query!("DELETE FROM challenges WHERE order_id = $1", order.id).execute(&mut *tx).await?;
    sqlx::query!("DELETE FROM orders_in_flight WHERE order_id = $1", order.id).execute(&mut *tx).await?;

    if order.method == Method::Dns {
        channel::call(&mut *tx, Channel::Challenges).await?;
    }

    for id in &order.domain_ids {
        tasks::wake(tx, *id, TaskKind::Look, now).await?;
    }

    events::append_for(tx, &order.about(), now, event).await?;
    edge::touch(tx, &order.names.iter().map(String::as_str).collect::<Vec<_>>()).await
}

/// Opens an order and queues the work on it; `false` if one is on the way for
/// any of its domains, or a budget has no room. To be called before any event
/// is written; the events are left to [`tell_opened`].
pub(crate) async fn open(
    tx: &mut PgConnection,
    new: &NewOrder,
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let Some((first, _)) = new.domains.first() else { return Ok(false) };
    let id = Uuid::now_v7();
    let ids: Vec<_> = new.domains.iter().map(|(id, _)| *id).collect();
    let names: Vec<_> = new.domains.iter().map(|(_, name)| name.clone()).collect();

    sqlx::query!("SELECT pg_advisory_xact_lock($1)", ORDER_LOCK).fetch_one(&mut *tx).await?;
    let opened = sqlx::query!(
        "INSERT INTO orders
         (id, account_id, domain_id, domain_ids, names, registered, method, state, sealed_key, placed_at, replaces)
         SELECT $1, a.account_id, $2, $3, $4, $5, $6, 'open', $7, $8,
                (SELECT id FROM certificates WHERE domain_ids @> ARRAY[$2::uuid] AND revoked_at IS NULL
                 AND origin = 'ordered' ORDER BY issued_at DESC LIMIT 1)
         FROM (SELECT account_id FROM domains WHERE id = $2) a
         WHERE NOT EXISTS (SELECT FROM orders_in_flight WHERE domain_id = ANY($3))
           AND (SELECT count(*) FROM orders WHERE domain_ids && $13 AND state <> 'open') = $14
           AND (SELECT count(*) FROM orders WHERE registered = $5 AND placed_at > $9) < $10
           AND (SELECT count(*) FROM orders WHERE placed_at > $11) < $12
           AND (SELECT count(*) FROM orders o WHERE o.account_id = a.account_id AND placed_at > $11) < $15",
        id,
        first,
        &ids,
        &names,
        new.registered,
        new.method.as_str(),
        new.sealed_key,
        now,
        now - DOMAIN_WINDOW,
        i64::from(new.limits.per_domain),
        now - ACCOUNT_WINDOW,
        i64::from(new.limits.per_account),
        &new.known.domain_ids,
        new.known.count,
        i64::from(new.limits.per_customer)
    )
    .execute(&mut *tx)
    .await?;

    if opened.rows_affected() == 0 {
        return Ok(false);
    }

    sqlx::query!(
        "INSERT INTO orders_in_flight (domain_id, order_id) SELECT n.id, $2 FROM unnest($1::uuid[]) AS n (id)",
        &ids,
        id
    )
    .execute(&mut *tx)
    .await?;

    tasks::wake(tx, *first, TaskKind::Order, now).await?;
    Ok(true)
}

/// Tells of an order that was opened.
pub(crate) fn tell_opened(told: &mut Told, new: &NewOrder) {
    let names: Vec<_> = new.domains.iter().map(|(_, name)| name.clone()).collect();
    for (id, host) in &new.domains {
        let event = Event::OrderPlaced { names: names.clone(), method: new.method };
        told.events.push((*id, host.clone(), event));
    }
}

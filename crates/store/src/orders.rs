//! Certificate orders, from opened to issued or refused.

use chrono::{DateTime, Utc};
use nomenta_core::judge::certificate::CertificateFacts;
use nomenta_core::judge::evidence::{OrderState, Problem};
use nomenta_core::reading::method::Method;
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Lease;
use crate::Store;
use crate::StoreError;
use crate::edge;
use crate::events::{self, About, EventKind};
use crate::issuer::{ACCOUNT_WINDOW, DOMAIN_WINDOW, Limits};
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
    fn domains(&self) -> impl Iterator<Item = About<'_>> {
        self.domain_ids.iter().zip(&self.names).map(|(id, host)| About { id: *id, host })
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

/// A challenge to be answered.
#[derive(Clone, Debug)]
pub struct NewChallenge<'a> {
    /// The challenge's token.
    pub token: &'a str,
    /// The name that is validated.
    pub name: &'a str,
    /// How.
    pub method: Method,
    /// The answer by HTTP; by DNS, the TXT record.
    pub answer: &'a str,
    /// The certificate and key that answer by TLS, PEM.
    pub tls: Option<(&'a str, &'a str)>,
}

/// The latest order of a domain, for people.
#[derive(Clone, Debug)]
pub struct OrderStory {
    /// The names it is for.
    pub names: Vec<String>,
    /// How control is shown.
    pub method: String,
    /// `open`, `issued` or `refused`.
    pub state: String,
    /// The CA's problem document, if it refused.
    pub problem: Option<Problem>,
    /// When another may be placed, if it refused.
    pub retry_at: Option<DateTime<Utc>>,
    /// When it was placed.
    pub placed_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// What happened, step by step.
    pub steps: Vec<(DateTime<Utc>, String)>,
}

fn read_method(word: &str) -> Result<Method, StoreError> {
    word.parse().map_err(|e: String| StoreError::unreadable("method", e))
}

fn read_problem(problem: Option<serde_json::Value>) -> Result<Option<Problem>, StoreError> {
    problem.map(serde_json::from_value).transpose().map_err(|e| StoreError::unreadable("problem", e))
}

impl Store {
    /// The open order that a domain placed.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn open_order(&self, domain_id: Uuid) -> Result<Option<OrderRow>, StoreError> {
        let row = sqlx::query!(
            r#"SELECT o.id, o.url, o.sealed_key, o.names, o.domain_ids, o.method,
                      c.chain_pem AS "replaces?"
               FROM orders o LEFT JOIN certificates c ON c.id = o.replaces
               WHERE o.domain_id = $1 AND o.state = 'open'"#,
            domain_id
        )
        .fetch_optional(&self.pool)
        .await?;
        row.map(|r| {
            Ok(OrderRow {
                id: r.id,
                url: r.url,
                sealed_key: r.sealed_key,
                names: r.names,
                domain_ids: r.domain_ids,
                method: read_method(&r.method)?,
                replaces: r.replaces,
            })
        })
        .transpose()
    }

    /// Notes where the CA keeps the order, before anything is done with it:
    /// from here on a restart goes on with this very order.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn note_order_url(&self, order_id: Uuid, url: &str) -> Result<(), StoreError> {
        sqlx::query!("UPDATE orders SET url = $2 WHERE id = $1", order_id, url).execute(&self.pool).await?;
        Ok(())
    }

    /// Forgets an order's URL that the CA no longer knows.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn forget_order_url(&self, order_id: Uuid) -> Result<(), StoreError> {
        sqlx::query!("UPDATE orders SET url = NULL WHERE id = $1", order_id).execute(&self.pool).await?;
        Ok(())
    }

    /// Adds a step to an order's story, unless it is the last one already.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn note_step(&self, order_id: Uuid, said: &str) -> Result<(), StoreError> {
        sqlx::query!(
            "INSERT INTO order_steps (order_id, said) SELECT $1, $2
             WHERE (SELECT said FROM order_steps WHERE order_id = $1 ORDER BY at DESC LIMIT 1)
                   IS DISTINCT FROM $2",
            order_id,
            said
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Publishes a challenge's answer, to the edge or in the challenge zone.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn add_challenge(&self, order_id: Uuid, new: &NewChallenge<'_>) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        let (chain, key) = new.tls.unzip();
        sqlx::query!(
            "INSERT INTO challenges (token, order_id, key_authorization, name, method, answer_chain, answer_key)
             VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT (token) DO NOTHING",
            new.token,
            order_id,
            new.answer,
            new.name,
            new.method.as_str(),
            chain,
            key
        )
        .execute(&mut *tx)
        .await?;
        if new.tls.is_some() {
            edge::touch(&mut tx, &[new.name]).await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// The answer to a challenge by HTTP.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn challenge(&self, token: &str) -> Result<Option<String>, StoreError> {
        let answer = sqlx::query_scalar!(
            "SELECT key_authorization FROM challenges WHERE token = $1 AND method = 'http-01'",
            token
        );
        Ok(answer.fetch_optional(&self.pool).await?)
    }

    /// The TXT records that answer challenges for a name by DNS.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn challenge_texts(&self, name: &str) -> Result<Vec<String>, StoreError> {
        let answers = sqlx::query_scalar!(
            "SELECT key_authorization FROM challenges WHERE name = $1 AND method = 'dns-01'",
            name
        );
        Ok(answers.fetch_all(&self.pool).await?)
    }

    /// How many orders have ended for some domains; to be read before anything
    /// that an order is decided by.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn ended_orders(&self, domain_ids: Vec<Uuid>) -> Result<EndedOrders, StoreError> {
        let count = sqlx::query_scalar!(
            r#"SELECT count(*) AS "count!" FROM orders WHERE domain_ids && $1 AND state <> 'open'"#,
            &domain_ids
        );
        let count = count.fetch_one(&self.pool).await?;
        Ok(EndedOrders { domain_ids, count })
    }

    /// Where the latest order that covers a domain stands.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn order_state(&self, domain_id: Uuid) -> Result<OrderState, StoreError> {
        let row = sqlx::query!(
            "SELECT state, problem, retry_at FROM orders WHERE domain_ids @> ARRAY[$1::uuid]
             ORDER BY placed_at DESC LIMIT 1",
            domain_id
        )
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(OrderState::None) };
        match (row.state.as_str(), read_problem(row.problem)?, row.retry_at) {
            ("open", _, _) => Ok(OrderState::Open),
            ("refused", Some(problem), Some(retry_at)) => Ok(OrderState::Refused { problem, retry_at }),
            _ => Ok(OrderState::None),
        }
    }

    /// The latest order that covers a domain, with all its steps.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn order_story(&self, domain_id: Uuid) -> Result<Option<OrderStory>, StoreError> {
        let row = sqlx::query!(
            "SELECT id, names, method, state, problem, retry_at, placed_at, ended_at FROM orders
             WHERE domain_ids @> ARRAY[$1::uuid] ORDER BY placed_at DESC LIMIT 1",
            domain_id
        )
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(None) };
        let steps = sqlx::query!("SELECT at, said FROM order_steps WHERE order_id = $1 ORDER BY at", row.id)
            .fetch_all(&self.pool)
            .await?;
        Ok(Some(OrderStory {
            names: row.names,
            method: row.method,
            state: row.state,
            problem: read_problem(row.problem)?,
            retry_at: row.retry_at,
            placed_at: row.placed_at,
            ended_at: row.ended_at,
            steps: steps.into_iter().map(|s| (s.at, s.said)).collect(),
        }))
    }

    /// How many orders in a row the CA has refused for a domain; requests for
    /// patience do not count.
    ///
    /// # Errors
    /// If the database fails.
    pub async fn refusals(&self, domain_id: Uuid) -> Result<i32, StoreError> {
        let count = sqlx::query_scalar!(
            r#"SELECT count(*)::int AS "count!" FROM orders o
               WHERE o.domain_ids @> ARRAY[$1::uuid] AND o.state = 'refused'
               AND o.problem->>'type' NOT LIKE '%:rateLimited'
               AND o.placed_at > coalesce((SELECT max(placed_at) FROM orders
                                           WHERE domain_ids @> ARRAY[$1::uuid] AND state = 'issued'), '-infinity')"#,
            domain_id
        );
        Ok(count.fetch_one(&self.pool).await?)
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
        let mut tx = self.pool.begin().await?;
        tasks::finish(&mut tx, lease, None).await?;
        sqlx::query!("UPDATE orders SET state = 'issued', ended_at = $2 WHERE id = $1", order.id, now)
            .execute(&mut *tx)
            .await?;
        let id = Uuid::now_v7();
        sqlx::query!(
            "INSERT INTO certificates
             (id, domain_id, domain_ids, order_id, facts, chain_pem, sealed_key, not_after, issued_at, renew_at,
              advice_at)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $9)",
            id,
            lease.domain_id,
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
        replace(&mut tx, id, &order.domain_ids, now).await?;
        let facts = &issued.facts;
        let data = json!({
            "serial": facts.serial, "issuer": facts.issuer, "names": facts.names, "not_after": facts.not_after,
            "renew_at": issued.renew_at,
        });
        end(&mut tx, order, now, EventKind::CertificateIssued, &data).await?;
        step(&mut tx, order.id, &format!("Issued with serial {}.", facts.serial)).await?;
        tx.commit().await?;
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
        let mut tx = self.pool.begin().await?;
        tasks::finish(&mut tx, lease, None).await?;
        sqlx::query!(
            "UPDATE orders SET state = 'refused', problem = $2, retry_at = $3, ended_at = $4 WHERE id = $1",
            order.id,
            json!(problem),
            retry_at,
            now
        )
        .execute(&mut *tx)
        .await?;
        let data = json!({ "problem": problem, "retry_at": retry_at });
        end(&mut tx, order, now, EventKind::OrderRefused, &data).await?;
        step(&mut tx, order.id, &format!("Refused: {}", problem.detail)).await?;
        tx.commit().await?;
        Ok(())
    }
}

/// Marks what a new certificate takes the place of.
pub(crate) async fn replace(
    tx: &mut PgConnection,
    id: Uuid,
    domain_ids: &[Uuid],
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE certificates SET replaced_at = $3
         WHERE replaced_at IS NULL AND id <> $1 AND domain_ids && $2 AND domain_ids <@ $2",
        id,
        domain_ids,
        now
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// What every end of an order brings with it.
async fn end(
    tx: &mut PgConnection,
    order: &OrderRow,
    now: DateTime<Utc>,
    kind: EventKind,
    data: &serde_json::Value,
) -> Result<(), StoreError> {
    sqlx::query!("DELETE FROM challenges WHERE order_id = $1", order.id).execute(&mut *tx).await?;
    sqlx::query!("DELETE FROM orders_in_flight WHERE order_id = $1", order.id).execute(&mut *tx).await?;
    // Rows before the lock on events, and always in the same order: so that no
    // two transactions wait for each other.
    let mut ids = order.domain_ids.clone();
    ids.sort();
    for id in ids {
        tasks::wake(tx, id, TaskKind::Look, now).await?;
    }
    for about in order.domains() {
        events::append(tx, about, now, &[(kind, data.clone())]).await?;
    }
    edge::touch(tx, &order.names.iter().map(String::as_str).collect::<Vec<_>>()).await
}

async fn step(tx: &mut PgConnection, order_id: Uuid, said: &str) -> Result<(), StoreError> {
    sqlx::query!("INSERT INTO order_steps (order_id, said) VALUES ($1, $2)", order_id, said)
        .execute(&mut *tx)
        .await?;
    Ok(())
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
    let (ids, names): (Vec<_>, Vec<_>) = new.domains.iter().cloned().unzip();
    sqlx::query!("SELECT pg_advisory_xact_lock($1)", ORDER_LOCK).fetch_one(&mut *tx).await?;
    let id = Uuid::now_v7();
    let opened = sqlx::query!(
        "INSERT INTO orders
         (id, domain_id, domain_ids, names, registered, method, state, sealed_key, placed_at, replaces)
         SELECT $1, $2, $3, $4, $5, $6, 'open', $7, $8,
                (SELECT id FROM certificates WHERE domain_ids @> ARRAY[$2::uuid] AND revoked_at IS NULL
                 AND origin = 'ordered' ORDER BY issued_at DESC LIMIT 1)
         WHERE NOT EXISTS (SELECT FROM orders_in_flight WHERE domain_id = ANY($3))
           AND (SELECT count(*) FROM orders WHERE domain_ids && $13 AND state <> 'open') = $14
           AND (SELECT count(*) FROM orders WHERE registered = $5 AND placed_at > $9) < $10
           AND (SELECT count(*) FROM orders WHERE placed_at > $11) < $12",
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
        new.known.count
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

/// Writes the events of an order that was opened.
pub(crate) async fn tell_opened(
    tx: &mut PgConnection,
    new: &NewOrder,
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let names: Vec<_> = new.domains.iter().map(|(_, name)| name).collect();
    let data = json!({ "names": names, "method": new.method });
    for (id, host) in &new.domains {
        events::append(tx, About { id: *id, host }, now, &[(EventKind::OrderPlaced, data.clone())]).await?;
    }
    Ok(())
}

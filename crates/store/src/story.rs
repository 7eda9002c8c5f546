//! How orders went, for the judgement and for people.

use chrono::{DateTime, Utc};
use nomenta_api::certificate::OrderStatus;
use nomenta_core::judge::evidence::{Problem, RATE_LIMITED};
use nomenta_core::reading::method::Method;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;
use crate::error::{read_if, word};

/// The latest order of a domain, for people.
#[derive(Clone, Debug)]
pub struct OrderStory {
    /// The names it is for.
    pub names: Vec<String>,
    /// How control is shown.
    pub method: Method,
    /// How it stands.
    pub state: OrderStatus,
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

impl Store {
    /// Adds a step to an order's story, unless it is the last one already.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
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

    /// The CA's word on the last order that ended for a domain, where it refused it:
    /// it holds while another one is on its way.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn refusal(&self, domain_id: Uuid) -> Result<Option<Problem>, StoreError> {
        let problem = sqlx::query_scalar!(
            "SELECT problem FROM orders WHERE domain_ids @> ARRAY[$1::uuid] AND state <> 'open'
             ORDER BY placed_at DESC LIMIT 1",
            domain_id
        );
        read_if("problem", problem.fetch_optional(&self.pool).await?.flatten())
    }

    /// The latest order that covers a domain, with all its steps.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
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
            method: word("method", &row.method)?,
            state: word("state of an order", &row.state)?,
            problem: read_if("problem", row.problem)?,
            retry_at: row.retry_at,
            placed_at: row.placed_at,
            ended_at: row.ended_at,
            steps: steps.into_iter().map(|step| (step.at, step.said)).collect(),
        }))
    }

    /// How many orders in a row the CA has refused for a domain; requests for
    /// patience do not count.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn refusals(&self, domain_id: Uuid) -> Result<i32, StoreError> {
        let count = sqlx::query_scalar!(
            r#"SELECT count(*)::int AS "count!" FROM orders o
               WHERE o.domain_ids @> ARRAY[$1::uuid] AND o.state = $2
               AND o.problem->>'type' NOT LIKE $3
               AND o.placed_at > coalesce((SELECT max(placed_at) FROM orders
                                           WHERE domain_ids @> ARRAY[$1::uuid] AND state = $4), '-infinity')"#,
            domain_id,
            OrderStatus::Refused.as_str(),
            format!("%:{RATE_LIMITED}"),
            OrderStatus::Issued.as_str()
        );
        Ok(count.fetch_one(&self.pool).await?)
    }
}

/// Adds the last step of an order.
pub(crate) async fn step(tx: &mut PgConnection, order_id: Uuid, said: &str) -> Result<(), StoreError> {
    sqlx::query!("INSERT INTO order_steps (order_id, said) VALUES ($1, $2)", order_id, said)
        .execute(&mut *tx)
        .await?;
    Ok(())
}

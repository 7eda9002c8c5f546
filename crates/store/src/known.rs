//! What the records know of domains that are looked at, beside the domains themselves.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use futures::FutureExt;
use nomenta_api::certificate::OrderStatus;
use nomenta_core::judge::certificate::Held;
use nomenta_core::judge::evidence::{Limit, OrderState, Spent};
use serde_json::Value;
use uuid::Uuid;

use crate::Limits;
use crate::RegistrationRow;
use crate::Store;
use crate::StoreError;
use crate::certificates::held;
use crate::error::{read_if, word};
use crate::issuer::{ACCOUNT_WINDOW, DOMAIN_WINDOW};
use crate::together::{Done, OfDomain};

/// A domain of which it is asked what is known.
#[derive(Clone, Debug)]
pub struct Inquiry {
    /// Key of the record.
    pub domain_id: Uuid,
    /// Its registered domain.
    pub registered: String,
    /// Where the CA is.
    pub directory: String,
    /// Budgets for a first certificate.
    pub first: Limits,
    /// Budgets for another one in place of one that is held.
    pub renewal: Limits,
}

/// What is known of a domain.
#[derive(Clone, Debug, Default)]
pub struct Known {
    /// The newest certificate that covers it and is not revoked.
    pub certificate: Option<Held>,
    /// Where the latest order that covers it stands.
    pub order: OrderState,
    /// What its registry said of its registered domain, if that was ever asked.
    pub registration: Option<RegistrationRow>,
    /// The budget that has no room for an order now; not asked for where none is due.
    pub spent: Option<Spent>,
}

impl OfDomain for Inquiry {
    fn domain_id(&self) -> Uuid {
        self.domain_id
    }
}

impl Inquiry {
    fn limits(&self, is_renewal: bool) -> Limits {
        if is_renewal { self.renewal } else { self.first }
    }
}

impl Store {
    /// What is known of a domain. Read together with others.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn known(&self, asked: Inquiry) -> Result<Known, StoreError> {
        self.together.known.call(self, asked).await
    }

    /// The budget that has no room for an order now, if any: the registered
    /// domain's, the account's, or the CA's own request for patience.
    ///
    /// # Errors
    /// [`StoreError::Database`]; try again.
    pub async fn spent(&self, asked: &Inquiry, is_renewal: bool) -> Result<Option<Spent>, StoreError> {
        Ok(self.budgets(&[asked], is_renewal, Utc::now()).await?.remove(&asked.domain_id))
    }

    /// The same of several domains, of those alone that have none.
    async fn budgets(
        &self,
        asked: &[&Inquiry],
        is_renewal: bool,
        now: DateTime<Utc>,
    ) -> Result<HashMap<Uuid, Spent>, StoreError> {
        let Some(first) = asked.first() else { return Ok(HashMap::new()) };
        // One platform has one policy.
        let limits = first.limits(is_renewal);

        // Of each budget the order that has to leave its window before there is room again.
        let rows = sqlx::query!(
            r#"SELECT n.id AS "id!", n.registered AS "name!",
                      (SELECT throttled_until FROM acme_accounts WHERE directory = $3) AS throttled,
                      (SELECT placed_at FROM orders WHERE registered = n.registered AND placed_at > $4
                       ORDER BY placed_at DESC OFFSET $5 LIMIT 1) AS registered,
                      (SELECT placed_at FROM orders
                       WHERE account_id = (SELECT account_id FROM domains WHERE id = n.id) AND placed_at > $6
                       ORDER BY placed_at DESC OFFSET $7 LIMIT 1) AS customer,
                      (SELECT placed_at FROM orders WHERE placed_at > $6
                       ORDER BY placed_at DESC OFFSET $8 LIMIT 1) AS everybody
               FROM unnest($1::uuid[], $2::text[]) AS n (id, registered)"#,
            &asked.iter().map(|one| one.domain_id).collect::<Vec<_>>(),
            &asked.iter().map(|one| one.registered.clone()).collect::<Vec<_>>(),
            first.directory,
            now - DOMAIN_WINDOW,
            last_of(limits.per_domain),
            now - ACCOUNT_WINDOW,
            last_of(limits.per_customer),
            last_of(limits.per_account)
        );

        let mut budgets = HashMap::new();
        for row in rows.fetch_all(&self.pool).await? {
            let own = [
                (row.registered, DOMAIN_WINDOW, limits.said_of_domain(&row.name)),
                (row.customer, ACCOUNT_WINDOW, limits.said_of_customer()),
                (row.everybody, ACCOUNT_WINDOW, limits.said_of_account()),
            ];
            let mut own = own.into_iter().filter_map(|(placed_at, window, limit)| {
                Some(Spent { limit: Limit::Own(limit), free_at: placed_at? + window })
            });
            let throttled = row.throttled.filter(|until| *until > now);
            let throttled = throttled.map(|free_at| Spent { limit: Limit::Issuer, free_at });
            if let Some(spent) = throttled.or_else(|| own.next()) {
                budgets.insert(row.id, spent);
            }
        }
        Ok(budgets)
    }
}

impl Limits {
    fn said_of_domain(&self, registered: &str) -> String {
        format!("{} orders in a week for {registered}", self.per_domain)
    }

    fn said_of_customer(&self) -> String {
        format!("{} orders in three hours for one account", self.per_customer)
    }

    fn said_of_account(&self) -> String {
        format!("{} orders in three hours for the account at the CA", self.per_account)
    }
}

/// Orders that are younger than the one that uses a budget up.
fn last_of(most: u32) -> i64 {
    most.saturating_sub(1).into()
}

/// What is known of some domains.
pub(crate) fn known<'a>(store: &'a Store, asked: &'a [Inquiry]) -> Done<'a, Known> {
    async move {
        let mut standing = standing(store, asked).await?;

        let now = Utc::now();
        let certificate = |one: &Inquiry| standing.get(&one.domain_id)?.certificate.as_ref();
        let is_due = |one: &&Inquiry| certificate(one).is_none_or(|held| held.is_due(now));
        let holds = |one: &Inquiry| certificate(one).is_some();
        let (renewals, firsts): (Vec<_>, Vec<_>) = asked.iter().filter(is_due).partition(|one| holds(one));
        let mut spent = store.budgets(&firsts, false, now).await?;
        spent.extend(store.budgets(&renewals, true, now).await?);

        let each = asked.iter().map(|one| {
            let known = standing.remove(&one.domain_id).unwrap_or_default();
            Ok(Known { spent: spent.remove(&one.domain_id), ..known })
        });
        Ok(each.collect())
    }
    .boxed()
}

/// What is known of each domain, but for the budgets.
async fn standing(store: &Store, asked: &[Inquiry]) -> Result<HashMap<Uuid, Known>, StoreError> {
    let rows = sqlx::query!(
        // By the domain, and the latest of those: along the time it would be all there are.
        r#"SELECT n.id AS "id!", c.facts AS "facts?", c.origin AS "origin?", c.renew_at AS "renew_at?",
                  o.state AS "state?", o.is_placed AS "is_placed?", o.problem AS "problem?", o.retry_at AS "retry_at?",
                  r.told AS "told?", r.asked_at AS "asked_at?"
           FROM unnest($1::uuid[], $2::text[]) AS n (id, registered)
           LEFT JOIN registrations r ON r.domain = n.registered
           LEFT JOIN LATERAL (
               SELECT * FROM (SELECT facts, origin, renew_at, issued_at FROM certificates
                              WHERE domain_ids @> ARRAY[n.id] AND revoked_at IS NULL OFFSET 0) own
               ORDER BY issued_at DESC LIMIT 1) c ON true
           LEFT JOIN LATERAL (
               SELECT * FROM (SELECT state, url IS NOT NULL AS is_placed, problem, retry_at, placed_at FROM orders
                              WHERE domain_ids @> ARRAY[n.id] OFFSET 0) own
               ORDER BY placed_at DESC LIMIT 1) o ON true"#,
        &asked.iter().map(|one| one.domain_id).collect::<Vec<_>>(),
        &asked.iter().map(|one| one.registered.clone()).collect::<Vec<_>>()
    )
    .fetch_all(&store.pool)
    .await?;

    let mut standing = HashMap::with_capacity(rows.len());
    for row in rows {
        let certificate = row.facts.zip(row.origin);
        let certificate =
            certificate.map(|(facts, origin)| held(facts, &origin, row.renew_at)).transpose()?;
        let order = match row.state {
            Some(state) => order_state(&state, row.is_placed == Some(true), row.problem, row.retry_at)?,
            None => OrderState::None,
        };
        let told = read_if("registration", row.told)?;
        let registration = row.asked_at.map(|asked_at| RegistrationRow { told, asked_at });
        standing.insert(row.id, Known { certificate, order, registration, spent: None });
    }
    Ok(standing)
}

fn order_state(
    state: &str,
    is_placed: bool,
    problem: Option<Value>,
    retry_at: Option<DateTime<Utc>>,
) -> Result<OrderState, StoreError> {
    Ok(match (word("state of an order", state)?, read_if("problem", problem)?, retry_at) {
        (OrderStatus::Open, _, _) if !is_placed => OrderState::Wanted,
        (OrderStatus::Open, _, _) => OrderState::Open,
        (OrderStatus::Refused, Some(problem), Some(retry_at)) => OrderState::Refused { problem, retry_at },
        _ => OrderState::None,
    })
}

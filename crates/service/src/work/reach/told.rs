//! What is told of what lies within reach, and to whom.

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_api::notice::Means;
use nomenta_store::{
    DeliveryFilter, DeliveryRow, EventFilter, EventRow, NewReceiver, ReceiverRow, StoreError,
};
use uuid::Uuid;

use super::{Made, Reach};
use crate::problem::Refusal;

impl Reach {
    pub(crate) async fn events(&self, after: i64, limit: i64) -> Result<Vec<EventRow>, StoreError> {
        self.records.events(&EventFilter { whose: self.whose.clone(), domain: None }, after, limit).await
    }

    /// The number of the latest event.
    pub(crate) async fn last_event(&self) -> Result<i64, StoreError> {
        self.records.last_event().await
    }

    /// Tells somebody of the account that was asked for.
    pub(crate) async fn add_receiver(&self, new: NewReceiver<'_>) -> Result<Made, Refusal> {
        let new = NewReceiver { account: self.account.as_deref(), domain_id: None, handoff_id: None, ..new };
        let added = self.records.add_receiver(&new).await;
        added.map(Made).map_err(|error| Refusal::of_record(error, "account"))
    }

    pub(crate) async fn receivers(
        &self,
        way: Means,
        after: Option<Uuid>,
        limit: i64,
    ) -> Result<Vec<ReceiverRow>, StoreError> {
        self.records.receivers(way, &self.whose, after, limit).await
    }

    /// A receiver that was just added.
    pub(crate) async fn added_receiver(&self, made: Made) -> Result<ReceiverRow, StoreError> {
        self.records.receiver(made.0).await
    }

    pub(crate) async fn end_receiver(&self, id: Uuid, because: &str) -> Result<(), StoreError> {
        self.records.end_receiver(id, &self.whose, because).await
    }

    pub(crate) async fn rotate_secret(
        &self,
        id: Uuid,
        sealed: &[u8],
        former_until: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        self.records.rotate_secret(id, &self.whose, sealed, former_until).await
    }

    pub(crate) async fn deliveries(
        &self,
        filter: DeliveryFilter,
        limit: i64,
    ) -> Result<Vec<DeliveryRow>, StoreError> {
        self.records.deliveries(&DeliveryFilter { whose: self.whose.clone(), ..filter }, limit).await
    }

    /// Has one notice sent again that nobody took, or all of one receiver; returns how many.
    pub(crate) async fn redeliver(
        &self,
        one: Option<Uuid>,
        receiver: Option<Uuid>,
    ) -> Result<u64, StoreError> {
        self.records.redeliver(one, receiver, &self.whose).await
    }

    /// Strangers who were written to lately for the account that was asked for.
    pub(crate) async fn mailed_within(&self, within: TimeDelta) -> Result<i64, StoreError> {
        match &self.account {
            Some(account) => self.records.mailed_within(account, within).await,
            None => Ok(0),
        }
    }
}

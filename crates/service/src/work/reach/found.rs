//! One domain that was found within reach, and what is done with it.

use std::ops::Deref;

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_api::problem::ProblemKind;
use nomenta_api::role::Role;
use nomenta_core::judge::certificate::{CertificateFacts, Held, RevocationReason};
use nomenta_core::name::token::Token;
use nomenta_store::{
    DomainRecord, EventFilter, EventRow, Expected, FindingRow, Move, NewHandoff, OrderStory, PublicationRow,
    RevocationRow, Store, StoreError, Whose,
};
use uuid::Uuid;

use crate::App;
use crate::access::Caller;
use crate::awaiting;
use crate::problem::Refusal;
use crate::publishing::{self, By, Kept};

/// A domain that lies within reach.
pub(crate) struct Found {
    record: DomainRecord,
    records: Store,
    whose: Whose,
}

/// A domain within reach that has not left, for somebody who may change it.
pub(crate) struct Open(Found);

impl Deref for Found {
    type Target = DomainRecord;

    fn deref(&self) -> &DomainRecord {
        &self.record
    }
}

impl Deref for Open {
    type Target = Found;

    fn deref(&self) -> &Found {
        &self.0
    }
}

impl Found {
    pub(super) fn new(record: DomainRecord, records: Store, whose: Whose) -> Self {
        Self { record, records, whose }
    }

    /// A domain that a handoff link shows, for whoever holds it; they see nothing of anybody else's.
    pub(in crate::work) fn of_guest(record: DomainRecord, records: Store) -> Self {
        Self::new(record, records, Whose::NOBODYS)
    }

    /// The same for somebody who may change it, unless it has left.
    pub(crate) fn open(self, caller: &Caller) -> Result<Open, Refusal> {
        caller.needs(Role::Operator)?;
        match self.record.ended {
            None => Ok(Open(self)),
            Some((at, _)) => {
                let (host, at) = (self.record.domain.subject(), at.format("%Y-%m-%d %H:%M UTC"));
                let detail = format!("{host} left the platform at {at}. Take it in anew first.");
                Err(Refusal::conflict(ProblemKind::Released, detail))
            }
        }
    }

    /// What is recorded of it.
    pub(crate) fn into_record(self) -> DomainRecord {
        self.record
    }

    pub(crate) async fn findings(&self) -> Result<Vec<FindingRow>, StoreError> {
        self.records.findings(&self.whose, self.record.id).await
    }

    /// The other domain of its pair.
    pub(crate) async fn paired(&self) -> Result<Option<DomainRecord>, StoreError> {
        match self.record.pair_id {
            Some(id) => self.records.domain(id).await.map(Some),
            None => Ok(None),
        }
    }

    pub(crate) async fn events(&self, after: i64, limit: i64) -> Result<Vec<EventRow>, StoreError> {
        let of = EventFilter { whose: self.whose.clone(), domain: Some(self.record.id) };
        self.records.events(&of, after, limit).await
    }

    pub(crate) async fn certificate(&self) -> Result<Option<Held>, StoreError> {
        self.records.certificate(self.record.id).await
    }

    pub(crate) async fn certificate_chain(&self) -> Result<Option<String>, StoreError> {
        self.records.certificate_chain(self.record.id).await
    }

    pub(crate) async fn order_story(&self) -> Result<Option<OrderStory>, StoreError> {
        self.records.order_story(self.record.id).await
    }

    pub(crate) async fn revocations(&self) -> Result<Vec<RevocationRow>, StoreError> {
        self.records.revocations(self.record.id).await
    }

    /// What was written to its zone, newest first.
    pub(crate) async fn publications(
        &self,
        after: Option<Uuid>,
        limit: i64,
    ) -> Result<Vec<PublicationRow>, StoreError> {
        self.records.publications(self.record.id, after, limit).await
    }

    /// One publication of the domain, as it stands now.
    pub(crate) async fn publication(&self, id: Uuid) -> Result<PublicationRow, StoreError> {
        self.records.publication(id, &self.whose).await
    }

    /// What is kept of its zone.
    pub(crate) async fn kept_key(&self) -> Result<Kept, Refusal> {
        publishing::kept_key(&By::staff(self.records.clone()), &self.record).await
    }

    /// Whoever may have its zone written to.
    pub(crate) fn by(&self, caller: &Caller) -> Result<By, Refusal> {
        caller.needs(Role::Operator)?;
        Ok(By::staff(self.records.clone()))
    }

    /// Makes a link that shows it.
    pub(crate) async fn add_handoff(&self, caller: &Caller, new: NewHandoff<'_>) -> Result<Uuid, Refusal> {
        caller.needs(Role::Operator)?;
        Ok(self.records.add_handoff(&NewHandoff { domain_id: self.record.id, ..new }).await?)
    }

    /// Takes such a link back.
    pub(crate) async fn revoke_handoff(&self, id: Uuid) -> Result<(), StoreError> {
        self.records.revoke_handoff(id, &self.whose).await
    }

    /// Strangers who were written to lately for its account.
    pub(crate) async fn mailed_within(&self, within: TimeDelta) -> Result<i64, StoreError> {
        self.records.mailed_within(&self.record.account, within).await
    }
}

impl Open {
    /// The same for whoever looks.
    pub(crate) fn found(self) -> Found {
        self.0
    }

    /// Changes what it shows; whether records are needed for that.
    pub(crate) async fn change(&self, change: &Move<'_>, expected: Expected) -> Result<bool, StoreError> {
        self.records.move_domain(self.record.id, change, expected).await
    }

    pub(crate) async fn pause(&self, expected: Expected) -> Result<bool, StoreError> {
        self.records.pause(self.record.id, expected).await
    }

    pub(crate) async fn resume(&self, expected: Expected) -> Result<bool, StoreError> {
        self.records.resume(self.record.id, expected).await
    }

    pub(crate) async fn release(&self, expected: Expected) -> Result<(), StoreError> {
        self.records.release(self.record.id, expected).await
    }

    pub(crate) async fn look_now(&self) -> Result<(), StoreError> {
        self.records.look_now(self.record.id).await
    }

    /// Notes that somebody waits for it.
    pub(crate) async fn wait(&self, app: &App) -> Result<(), StoreError> {
        awaiting::note(app, &[self.record.id]).await
    }

    /// Gives it another token; returns it as it is then.
    pub(crate) async fn rotate_token(
        &self,
        token: &Token,
        expires_at: DateTime<Utc>,
        expected: Expected,
    ) -> Result<Found, StoreError> {
        self.records.rotate_token(self.record.id, token, expires_at, expected).await?;
        let record = self.records.domain(self.record.id).await?;
        Ok(Found::new(record, self.records.clone(), self.whose.clone()))
    }

    /// Serves a certificate that the customer brings.
    pub(crate) async fn bring(
        &self,
        facts: &CertificateFacts,
        chain_pem: &str,
        sealed_key: &[u8],
        expected: Expected,
    ) -> Result<(), StoreError> {
        self.records.bring(&self.record, facts, chain_pem, sealed_key, expected).await
    }

    pub(crate) async fn renew_now(&self, expected: Expected) -> Result<bool, StoreError> {
        self.records.renew_now(self.record.id, expected).await
    }

    /// Revokes its certificates; returns how many.
    pub(crate) async fn revoke(
        &self,
        reason: RevocationReason,
        expected: Expected,
    ) -> Result<usize, StoreError> {
        self.records.revoke(&self.record, reason, expected).await
    }
}

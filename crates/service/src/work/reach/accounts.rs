//! Accounts within reach, and what they have.

use nomenta_core::sheet::ingress::Ingress;
use nomenta_store::{
    AccountRow, AuditFilter, AuditRow, HandoffFilter, HandoffRow, IngressRow, NameFilter, Page, SiteRow,
    StoreError,
};
use uuid::Uuid;

use super::Reach;

impl Reach {
    pub(crate) async fn accounts(
        &self,
        filter: NameFilter,
        limit: i64,
    ) -> Result<Page<AccountRow, String>, StoreError> {
        self.records.accounts(&NameFilter { whose: self.whose.clone(), ..filter }, limit).await
    }

    pub(crate) async fn account(&self, name: &str) -> Result<AccountRow, StoreError> {
        let row = self.records.account(name).await?;
        if self.whose.has(row.id) {
            return Ok(row);
        }
        Err(StoreError::Missing { what: "account", name: name.to_owned() })
    }

    pub(crate) async fn sites(
        &self,
        filter: NameFilter,
        limit: i64,
    ) -> Result<Page<SiteRow, String>, StoreError> {
        self.records.sites(&NameFilter { whose: self.whose.clone(), ..filter }, limit).await
    }

    pub(crate) async fn site(&self, name: &str) -> Result<SiteRow, StoreError> {
        let row = self.records.site(name).await?;
        match self.records.part(&self.whose, &row.account).await {
            Ok(_) => Ok(row),
            Err(StoreError::Missing { .. }) => {
                Err(StoreError::Missing { what: "site", name: name.to_owned() })
            }
            Err(error) => Err(error),
        }
    }

    /// Where customers' records lead: of no account.
    pub(crate) async fn ingresses(&self, after: &str, limit: i64) -> Result<Vec<Ingress>, StoreError> {
        self.records.ingresses(after, limit).await
    }

    pub(crate) async fn ingress(&self, name: &str) -> Result<IngressRow, StoreError> {
        self.records.ingress(name).await
    }

    pub(crate) async fn handoffs(
        &self,
        filter: HandoffFilter<'_>,
        limit: i64,
    ) -> Result<Vec<HandoffRow>, StoreError> {
        self.records.handoffs(&HandoffFilter { whose: self.whose.clone(), ..filter }, limit).await
    }

    pub(crate) async fn revoke_handoff(&self, id: Uuid) -> Result<(), StoreError> {
        self.records.revoke_handoff(id, &self.whose).await
    }

    pub(crate) async fn audit(&self, filter: AuditFilter, limit: i64) -> Result<Vec<AuditRow>, StoreError> {
        self.records.audit(&AuditFilter { whose: self.whose.clone(), ..filter }, limit).await
    }
}

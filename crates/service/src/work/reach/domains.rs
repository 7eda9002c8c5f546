//! Domains within reach: listed, counted, taken in, and changed by jobs.

use chrono::NaiveDate;
use nomenta_api::job::{Act, ItemResult, Job, Selection};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::gate::Stage;
use nomenta_store::{
    CertificateFilter, CertificateRow, Counted, DomainRecord, Enrolment, ItemRow, LessonsRow, Named, NewJob,
    Order, Page, Place, PublicationRow, RosterFilter, RosterRow, Sort, Store, StoreError, Whose,
};
use uuid::Uuid;

use super::{Found, Made, Reach};

impl Reach {
    /// The domain of this name.
    pub(crate) async fn domain(&self, host: &str, account: Option<&str>) -> Result<Found, StoreError> {
        let record = self.records.domain_named(Named { host, account, whose: &self.whose }).await?;
        Ok(self.found(record))
    }

    fn found(&self, record: DomainRecord) -> Found {
        Found::new(record, self.records.clone(), self.whose.clone())
    }

    /// Takes domains in; returns the first.
    pub(crate) async fn enrol(&self, new: Enrolment<'_>) -> Result<Made, StoreError> {
        self.records.enrol(&Enrolment { whose: &self.whose, ..new }).await.map(Made)
    }

    /// A domain that was just taken in.
    pub(crate) async fn enrolled(&self, made: Made) -> Result<Found, StoreError> {
        Ok(self.found(self.records.domain(made.0).await?))
    }

    fn of(&self, filter: &RosterFilter) -> RosterFilter {
        RosterFilter { whose: self.whose.clone(), ..filter.clone() }
    }

    pub(crate) async fn roster_page(
        &self,
        filter: &RosterFilter,
        order: &Order,
        limit: i64,
    ) -> Result<Page<RosterRow, Sort>, StoreError> {
        self.records.roster_page(&self.of(filter), order, limit).await
    }

    /// The first domains by name.
    pub(crate) async fn first(&self, filter: &RosterFilter, most: i64) -> Result<Vec<RosterRow>, StoreError> {
        self.records.roster(&self.of(filter), &Order::default(), most).await
    }

    /// How many there are at each stage, counted up to a number.
    pub(crate) async fn selected(
        &self,
        filter: &RosterFilter,
        most: i64,
    ) -> Result<Vec<Counted<Stage>>, StoreError> {
        self.records.selected(&self.of(filter), most).await
    }

    pub(crate) async fn stage_counts(&self) -> Result<Vec<Counted<Stage>>, StoreError> {
        self.records.stage_counts(&self.whose).await
    }

    pub(crate) async fn finding_counts(&self) -> Result<Vec<Counted<Code>>, StoreError> {
        self.records.finding_counts(&self.whose).await
    }

    pub(crate) async fn operator_counts(&self, most: i64) -> Result<Vec<Counted<String>>, StoreError> {
        self.records.operator_counts(&self.whose, most).await
    }

    /// How many certificates end, and are renewed, on each day.
    pub(crate) async fn certificate_counts(
        &self,
        until: NaiveDate,
    ) -> Result<[Vec<Counted<NaiveDate>>; 2], StoreError> {
        self.records.certificate_counts(&self.whose, until).await
    }

    pub(crate) async fn certificates(
        &self,
        filter: CertificateFilter,
        limit: i64,
    ) -> Result<Vec<CertificateRow>, StoreError> {
        self.records.certificates(&CertificateFilter { whose: self.whose.clone(), ..filter }, limit).await
    }

    pub(crate) async fn operators_page(
        &self,
        after: Option<&(i64, String)>,
        limit: i64,
    ) -> Result<Vec<LessonsRow>, StoreError> {
        self.records.operators_page(&self.whose, after, limit).await
    }

    pub(crate) async fn operator(&self, name: &str) -> Result<Option<LessonsRow>, StoreError> {
        self.records.operator(name, &self.whose).await
    }

    /// A publication, and the domain that it is for.
    pub(crate) async fn publication(&self, id: Uuid) -> Result<(PublicationRow, Found), StoreError> {
        let row = self.records.publication(id, &self.whose).await?;
        let record = self.records.domain(row.domain_id).await?;
        Ok((row, self.found(record)))
    }

    /// What rows are taken into.
    pub(in crate::work) fn parts(&self) -> (&Store, &Whose) {
        (&self.records, &self.whose)
    }
}

/// Jobs.
impl Reach {
    pub(crate) async fn begin_job(
        &self,
        act: &Act,
        asked: &Selection,
        filter: &RosterFilter,
    ) -> Result<Job, StoreError> {
        let id = self.records.begin_job(NewJob { act, asked, filter: &self.of(filter) }).await?;
        self.job(id).await
    }

    pub(crate) async fn jobs(&self, after: Option<Uuid>, limit: i64) -> Result<Vec<Job>, StoreError> {
        self.records.jobs(&self.whose, after, limit).await
    }

    pub(crate) async fn job(&self, id: Uuid) -> Result<Job, StoreError> {
        self.records.job(&self.whose, id).await
    }

    pub(crate) async fn stop_job(&self, id: Uuid) -> Result<Job, StoreError> {
        self.records.stop_job(&self.whose, id).await?;
        self.job(id).await
    }

    /// What a job did to each domain.
    pub(crate) async fn job_items(
        &self,
        job: &Job,
        result: Option<ItemResult>,
        after: Option<&Place<String>>,
        limit: i64,
    ) -> Result<Vec<ItemRow>, StoreError> {
        self.records.job_items(job.id, result, after, limit).await
    }
}

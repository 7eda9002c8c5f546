//! What edge servers need of what lies within reach.

use nomenta_store::{EdgeRow, StoreError, TlsAnswer};

use super::Reach;

impl Reach {
    pub(crate) async fn edge_position(&self) -> Result<i64, StoreError> {
        self.records.edge_position().await
    }

    pub(crate) async fn edge_rows(&self, hosts: Option<&[String]>) -> Result<Vec<EdgeRow>, StoreError> {
        self.records.edge_rows(&self.whose, hosts).await
    }

    pub(crate) async fn tls_answers(&self, hosts: Option<&[String]>) -> Result<Vec<TlsAnswer>, StoreError> {
        self.records.tls_answers(&self.whose, hosts).await
    }

    pub(crate) async fn edge_changes(
        &self,
        after: i64,
        limit: i64,
    ) -> Result<Option<Vec<(i64, String)>>, StoreError> {
        self.records.edge_changes(&self.whose, after, limit).await
    }

    pub(crate) async fn challenge(&self, token: &str) -> Result<Option<String>, StoreError> {
        self.records.challenge(&self.whose, token).await
    }
}

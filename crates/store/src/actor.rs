//! Who asks for a change: what is changed in a transaction of theirs is recorded, by the
//! database itself, so that no change is forgotten.

use std::sync::Arc;

use nomenta_api::role::Role;
use serde::{Deserialize, Serialize};
use serde_json::json;
use sqlx::PgConnection;
use uuid::Uuid;

use crate::Store;
use crate::StoreError;

/// Who asks for a change, from where and how.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Actor {
    /// Their key.
    pub key_id: Uuid,
    /// What it is called.
    pub who: String,
    /// What it opens.
    pub role: Role,
    /// Their session, if they are signed in to the console.
    pub session_id: Option<Uuid>,
    /// The address that the call came from.
    pub came_from: Option<String>,
    /// The call: its method and path.
    pub call: String,
}

impl Store {
    /// The same records, changed for somebody.
    #[must_use]
    pub fn by(&self, actor: Actor) -> Self {
        Self { actor: Some(Arc::new(actor)), ..self.clone() }
    }

    /// Says whom the rest of a transaction is for; for nobody, if it comes by itself. Returns the
    /// transaction's number.
    pub(crate) async fn name_actor(
        &self,
        tx: &mut PgConnection,
        actor: Option<&Actor>,
    ) -> Result<String, StoreError> {
        let actor = actor.map(|actor| json!(actor).to_string()).unwrap_or_default();
        let named = sqlx::query_scalar!(
            r#"SELECT pg_current_xact_id()::text AS "number!" FROM set_config('nomenta.actor', $1, true) named"#,
            actor
        );
        Ok(named.fetch_one(&mut *tx).await?)
    }
}

//! Who asks for a change: what is changed in a transaction of theirs is recorded, by the
//! database itself, so that no change is forgotten.

use std::sync::Arc;

use nomenta_api::role::Role;
use serde::{Deserialize, Serialize};
use serde_json::json;
use sqlx::{PgConnection, Postgres, Transaction};
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

    /// Begins a transaction, under whoever it is for.
    pub(crate) async fn begin(&self) -> Result<Transaction<'static, Postgres>, StoreError> {
        let mut tx = self.pool.begin().await?;
        if self.actor.is_some() {
            self.name_actor(&mut tx, self.actor.as_deref()).await?;
        }
        Ok(tx)
    }

    /// Says whom the rest of a transaction is for; for nobody, if it comes by itself.
    pub(crate) async fn name_actor(
        &self,
        tx: &mut PgConnection,
        actor: Option<&Actor>,
    ) -> Result<(), StoreError> {
        let actor = actor.map(|actor| json!(actor).to_string()).unwrap_or_default();
        sqlx::query_scalar!("SELECT set_config('nomenta.actor', $1, true)", actor)
            .fetch_one(&mut *tx)
            .await?;
        Ok(())
    }
}

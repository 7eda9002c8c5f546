//! What people have changed.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

use crate::role::Role;

nomenta_core::spelled! {
    /// What was done to a record.
    #[derive(ToSchema)]
    pub enum AuditAct: "act" {
        /// It was added.
        Added = "added",
        /// Something about it was changed.
        Changed = "changed",
        /// It was removed.
        Removed = "removed",
    }
}

nomenta_core::spelled! {
    /// Kinds of record that people change.
    #[derive(ToSchema)]
    pub enum AuditKind: "kind of record" {
        /// A domain.
        Domain = "domain",
        /// An account.
        Account = "account",
        /// A site.
        Site = "site",
        /// An ingress.
        Ingress = "ingress",
        /// A contest.
        Contest = "contest",
        /// A certificate.
        Certificate = "certificate",
        /// An access key.
        Key = "key",
        /// A session of the console.
        Session = "session",
        /// A job.
        Job = "job",
        /// A handoff link.
        Handoff = "handoff",
        /// A key by which a customer's zone is written to.
        ZoneKey = "zone-key",
        /// Whoever is told what happens.
        Receiver = "receiver",
        /// An update of a customer's zone.
        Publication = "publication",
        /// The account at the certification authority.
        Issuer = "issuer",
    }
}

/// One change: who made it, from where, and what is different.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditEntry {
    /// Grows with time.
    pub seq: i64,
    /// When.
    pub at: DateTime<Utc>,
    /// The name of the key.
    pub who: String,
    /// Its role.
    pub role: Role,
    /// The session, if it was in the console.
    pub session: Option<Uuid>,
    /// The address that the call came from.
    pub from: Option<String>,
    /// The call: its method and path, or the job that made it.
    pub call: String,
    /// What was done.
    pub act: AuditAct,
    /// To what kind of record.
    pub kind: AuditKind,
    /// Its name.
    pub name: Option<String>,
    /// The account that it is of.
    pub account: Option<String>,
    /// What was, of what is different now. Secrets are hidden.
    #[schema(value_type = Option<std::collections::BTreeMap<String, Value>>)]
    pub before: Option<Value>,
    /// What is, of what is different now. Secrets are hidden.
    #[schema(value_type = Option<std::collections::BTreeMap<String, Value>>)]
    pub after: Option<Value>,
}

/// Which changes to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AuditQuery {
    /// Only those to what is of this account.
    #[param(max_length = 63)]
    pub account: Option<String>,
    /// Only those by keys of this name.
    #[param(max_length = 100)]
    pub by: Option<String>,
    /// Only those to the record with this name.
    #[param(max_length = 253)]
    pub name: Option<String>,
    /// Only those of that time or later (RFC 3339).
    pub since: Option<DateTime<Utc>>,
    /// Only those before this one: the cursor in the `Link` header.
    #[param(minimum = 1)]
    pub after: Option<i64>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

//! Publishing a customer's list for them, by an update of their zone (RFC 2136) under a key
//! that they give (RFC 8945).

use chrono::{DateTime, Utc};
use nomenta_core::name::dns::DnsName;
use nomenta_core::publish::{Algorithm, SetChange, Stored, Update};
use nomenta_core::reading::record::RecordType;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// A key of the zone that a domain lies in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "key": "hmac-sha256:onswick-key:bWFkZS11cC1zZWNyZXQtb2YtYS1rZXkh" }))]
pub struct GiveKey {
    /// The key as `algorithm:name:secret`, or the key statement of the name server.
    #[schema(min_length = 1, max_length = 2000)]
    pub key: String,
    /// Address of the server that takes the updates; left out, the one that the zone names as
    /// its primary.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 45)]
    pub server: Option<String>,
}

/// A key that is kept, without its secret.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ZoneKey {
    /// The zone.
    pub zone: DnsName,
    /// The name that the zone's server knows it by.
    pub name: DnsName,
    /// How it signs.
    pub algorithm: Algorithm,
    /// Address of the server that takes the updates, if one was given.
    pub server: Option<String>,
    /// Since when it is kept.
    pub given_at: DateTime<Utc>,
}

/// The key of the zone that a domain lies in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeptKey {
    /// The key, if one is kept.
    pub key: Option<ZoneKey>,
}

nomenta_core::spelled! {
    /// What is done with a record of a zone.
    #[derive(ToSchema)]
    pub enum WriteAct: "act" {
        /// It is taken away.
        Remove = "remove",
        /// It is added.
        Add = "add",
    }
}

/// One record that an update takes away or adds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct WriteLine {
    /// What is done with it.
    pub act: WriteAct,
    /// Full owner name.
    pub owner: DnsName,
    /// Record type.
    pub rtype: RecordType,
    /// Its value, as master files write it.
    pub value: String,
    /// Seconds.
    pub ttl: u32,
}

impl WriteLine {
    /// What an update takes away, and then what it adds.
    pub fn of(update: &Update) -> Vec<Self> {
        let line = |act, set: &SetChange, record: &Stored| Self {
            act,
            owner: set.owner.clone(),
            rtype: set.rtype,
            value: record.data.to_string(),
            ttl: record.ttl,
        };
        let gone =
            update.sets.iter().flat_map(|set| set.gone().map(move |one| line(WriteAct::Remove, set, one)));
        let new =
            update.sets.iter().flat_map(|set| set.added().map(move |one| line(WriteAct::Add, set, one)));
        gone.chain(new).collect()
    }

    /// How many records something is done with.
    pub fn count(lines: &[Self], act: WriteAct) -> usize {
        lines.iter().filter(|line| line.act == act).count()
    }
}

/// What would be written to a customer's zone now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PublicationPlan {
    /// The zone.
    pub zone: DnsName,
    /// The server that is sent it.
    pub server: String,
    /// The key that it is signed with.
    pub key_name: DnsName,
    /// What is taken away and added, all of it or nothing.
    pub lines: Vec<WriteLine>,
    /// Record sets that must be as they were read, or nothing is written.
    pub depends_on: usize,
    /// Names this plan; sent along, it makes sure that this is what is written.
    pub plan: String,
}

/// Has a list published.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPublication {
    /// The plan that was looked at; another one is not carried out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 64)]
    pub plan: Option<String>,
}

nomenta_core::spelled! {
    /// How far an update has come.
    #[derive(ToSchema)]
    pub enum PublicationState: "state of a publication" {
        /// It was sent; whether the server made it is not known.
        Sent = "sent",
        /// The server has made it.
        Done = "done",
        /// The server has not made it.
        Refused = "refused",
        /// It was taken back.
        Undone = "undone",
    }
}

/// An update that was sent to a customer's zone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Publication {
    /// Identifies it.
    pub id: Uuid,
    /// The domain that it is for.
    pub host: DnsName,
    /// The zone.
    pub zone: DnsName,
    /// The server that was sent it.
    pub server: String,
    /// The key that it was signed with.
    pub key_name: DnsName,
    /// How far it has come.
    pub state: PublicationState,
    /// Why it was refused.
    pub because: Option<String>,
    /// What was taken away and added.
    pub lines: Vec<WriteLine>,
    /// When it was sent.
    pub created_at: DateTime<Utc>,
    /// When its state was written last.
    pub ended_at: Option<DateTime<Utc>>,
}

/// Which publications of a domain to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PublicationsQuery {
    /// The account, where several claim the name.
    #[param(max_length = 63)]
    pub account: Option<String>,
    /// Only those that are older than this one.
    pub after: Option<Uuid>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

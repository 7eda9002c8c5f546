//! Notices: who is told what, by which way, and what came of it.

mod letter;

use chrono::{DateTime, Utc};
use nomenta_core::judge::code::Code;
use nomenta_core::judge::findings;
use nomenta_core::judge::gate::{GateName, GateState};
use nomenta_core::name::dns::DnsName;
use nomenta_core::notice::{NoticeKind, QuietHours};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

pub use self::letter::{Letter, LetterLine, Told};
use crate::event::Event;
use crate::handoff::Language;

/// Of what kind a notice of an event is; `None`, where nobody is told.
pub fn kind_of(event: &Event) -> Option<NoticeKind> {
    match event {
        Event::Enrolled { .. } | Event::TokenRotated {} => Some(NoticeKind::TokenIssued),
        Event::FindingOpened { code: Code::Stalled, .. } => Some(NoticeKind::WaitingLong),
        Event::FindingOpened { code: Code::CertificateExpiring, .. } => Some(NoticeKind::CertificateExpiring),
        Event::FindingOpened { code: Code::LeftBehind, .. } => Some(NoticeKind::LeftBehind),
        Event::FindingOpened { code, .. } if findings::is_blocker(*code) => Some(NoticeKind::Blocked),
        Event::Contested { .. } => Some(NoticeKind::ClaimedTwice),
        Event::GateChanged { gate: GateName::Serving, to: GateState::Passed, .. } => Some(NoticeKind::Live),
        Event::GateChanged { to: GateState::Lapsed, .. } => Some(NoticeKind::Lapsed),
        _ => None,
    }
}

/// Has a system of the platform called.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "url": "https://ops.quaymark.example/nomenta", "kinds": ["live", "lapsed"] }))]
pub struct NewHook {
    /// Where it is called, by HTTPS.
    #[schema(min_length = 1, max_length = 1000)]
    pub url: String,
    /// Of this account's domains alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(min_length = 1, max_length = 63)]
    pub account: Option<String>,
    /// Of which kinds; all if left out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(max_items = 8)]
    pub kinds: Vec<NoticeKind>,
}

/// A hook that was made, with the secret that is shown this once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeHook {
    /// Identifies it.
    pub id: Uuid,
    /// What its calls are signed with (Standard Webhooks).
    pub secret: String,
    /// Until when they are signed with the former one too.
    pub former_until: Option<DateTime<Utc>>,
}

/// Has somebody written to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
#[schema(example = json!({ "address": "ferry@onswick.example", "account": "onswick", "quiet": "22:00-07:00 UTC" }))]
pub struct NewRecipient {
    /// Their mail address.
    #[schema(min_length = 3, max_length = 254)]
    pub address: String,
    /// Of this account's domains alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(min_length = 1, max_length = 63)]
    pub account: Option<String>,
    /// Of which kinds; all if left out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(max_items = 8)]
    pub kinds: Vec<NoticeKind>,
    /// In which language; that of the account if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<Language>,
    /// When they are not written to; what comes then is written in one mail afterwards.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>, example = "22:00-07:00 UTC", max_length = 64)]
    pub quiet: Option<QuietHours>,
}

nomenta_core::spelled! {
    /// By which way somebody is told.
    #[derive(ToSchema)]
    pub enum Means: "way" {
        /// A call by HTTPS.
        Hook = "hook",
        /// A mail.
        Mail = "mail",
    }
}

/// Who is told.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Receiver {
    /// Identifies it.
    pub id: Uuid,
    /// By which way.
    pub way: Means,
    /// Where: a URL, or a mail address.
    pub target: String,
    /// Of this account's domains alone.
    pub account: Option<String>,
    /// Of this domain alone.
    pub host: Option<DnsName>,
    /// Of these kinds alone.
    pub kinds: Vec<NoticeKind>,
    /// In which language.
    pub language: Option<Language>,
    /// When not.
    #[schema(value_type = Option<String>, example = "22:00-07:00 UTC", max_length = 64)]
    pub quiet: Option<QuietHours>,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// Whether somebody who asked to be told has yet to say so from their mailbox.
    pub is_unconfirmed: bool,
    /// Since when no more.
    pub ended_at: Option<DateTime<Utc>>,
    /// Why no more.
    pub because: Option<String>,
    /// How often in a row nothing was taken.
    pub failures: i32,
    /// Why not, the last time.
    pub last_error: Option<String>,
}

/// Which receivers to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ReceiversQuery {
    /// Only those of this account.
    #[param(max_length = 63)]
    pub account: Option<String>,
    /// Only those that are older than this one.
    pub after: Option<Uuid>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

nomenta_core::spelled! {
    /// What came of a notice.
    #[derive(ToSchema)]
    pub enum DeliveryState: "state of a notice" {
        /// It is to be sent, now or later.
        Due = "due",
        /// It was taken.
        Delivered = "delivered",
        /// Nobody took it for days; it is sent again when somebody says so.
        Dead = "dead",
    }
}

/// A notice to somebody, and what came of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Delivery {
    /// Identifies it.
    pub id: Uuid,
    /// Identifies what happened, for whoever is told it twice.
    pub event_id: Uuid,
    /// By which way.
    pub way: Means,
    /// To whom.
    pub target: String,
    /// The domain.
    pub host: DnsName,
    /// Of what.
    pub kind: NoticeKind,
    /// When that happened.
    pub at: DateTime<Utc>,
    /// What came of it.
    pub state: DeliveryState,
    /// When it is sent next.
    pub due: Option<DateTime<Utc>>,
    /// How often it was sent.
    pub tries: i32,
    /// Why it was not taken, the last time.
    pub last_error: Option<String>,
    /// When it was taken, or given up.
    pub ended_at: Option<DateTime<Utc>>,
}

/// Which notices to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct DeliveriesQuery {
    /// Only those about this account's domains.
    #[param(max_length = 63)]
    pub account: Option<String>,
    /// Only those of which this came.
    #[param(value_type = Option<DeliveryState>)]
    pub state: Option<String>,
    /// Only those to this receiver.
    pub receiver: Option<Uuid>,
    /// Only those that are older than this one.
    pub after: Option<Uuid>,
    /// Lines at most; 100 if left out.
    #[param(minimum = 1, maximum = 500, default = 100)]
    pub limit: Option<i64>,
}

/// What of notices is sent again.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Redelivery {
    /// Those to this receiver that nobody took.
    pub receiver: Uuid,
}

/// How many are sent again.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Redelivered {
    /// How many.
    pub count: u64,
}

/// Which notice to show as it would be written.
#[derive(Clone, Debug, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PreviewQuery {
    /// Of what.
    #[param(value_type = NoticeKind)]
    pub kind: String,
    /// In which language; English if left out.
    #[param(value_type = Option<Language>)]
    pub language: Option<String>,
    /// About so many things at once.
    #[param(minimum = 1, maximum = 100, default = 1)]
    pub count: Option<usize>,
}

/// A mail as it would be written.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WrittenMail {
    /// Its subject.
    pub subject: String,
    /// As plain text.
    pub text: String,
    /// As HTML.
    pub html: String,
}

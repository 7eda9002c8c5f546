//! What happened, as CloudEvents 1.0 JSON and in words.

use chrono::{DateTime, Utc};
use nomenta_core::claim::rivals::Outcome;
use nomenta_core::judge::certificate::RevocationReason;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::drift::Drift;
use nomenta_core::judge::evidence::Problem as IssuerProblem;
use nomenta_core::judge::gate::{GateName, GateState};
use nomenta_core::judge::standing::{Ending, Phase};
use nomenta_core::reading::method::Method;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// What the type of every event begins with on the wire.
const PREFIX: &str = "nomenta.";

nomenta_core::spelled! {
    /// Kinds of event, as they are kept.
    pub enum EventKind: "kind of event" {
        /// See [`Event::Enrolled`].
        Enrolled = "domain.enrolled",
        /// See [`Event::TokenRotated`].
        TokenRotated = "token.rotated",
        /// See [`Event::GateChanged`].
        GateChanged = "gate.changed",
        /// See [`Event::FindingOpened`].
        FindingOpened = "finding.opened",
        /// See [`Event::FindingCleared`].
        FindingCleared = "finding.cleared",
        /// See [`Event::OrderPlaced`].
        OrderPlaced = "order.placed",
        /// See [`Event::OrderRefused`].
        OrderRefused = "order.refused",
        /// See [`Event::CertificateIssued`].
        CertificateIssued = "certificate.issued",
        /// See [`Event::CertificateBrought`].
        CertificateBrought = "certificate.brought",
        /// See [`Event::CertificateRevoked`].
        CertificateRevoked = "certificate.revoked",
        /// See [`Event::Drifted`].
        Drifted = "domain.drifted",
        /// See [`Event::Released`].
        Released = "domain.released",
        /// See [`Event::Held`].
        Held = "claim.held",
        /// See [`Event::NoLongerHeld`].
        NoLongerHeld = "claim.dropped",
        /// See [`Event::Contested`].
        Contested = "claim.contested",
        /// See [`Event::ContestSettled`].
        ContestSettled = "contest.settled",
        /// See [`Event::PairParted`].
        PairParted = "pair.parted",
        /// See [`Event::Paused`].
        Paused = "domain.paused",
        /// See [`Event::Resumed`].
        Resumed = "domain.resumed",
        /// See [`Event::Suspended`].
        Suspended = "account.suspended",
        /// See [`Event::Unsuspended`].
        Unsuspended = "account.resumed",
        /// See [`Event::Moved`].
        Moved = "domain.moved",
        /// See [`Event::Staged`].
        Staged = "domain.staged",
        /// See [`Event::Switched`].
        Switched = "domain.switched",
        /// See [`Event::PathsChanged`].
        PathsChanged = "domain.paths",
        /// See [`Event::PrimaryChanged`].
        PrimaryChanged = "pair.primary",
        /// See [`Event::Published`].
        Published = "zone.published",
        /// See [`Event::TakenBack`].
        TakenBack = "zone.restored",
        /// See [`Event::Expired`].
        Expired = "claim.expired",
        /// See [`Event::Lost`].
        Lost = "claim.lost",
    }
}

/// What happened to a domain.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "type", content = "data")]
#[schema(as = Happened)]
pub enum Event {
    /// A domain was taken in.
    #[serde(rename = "nomenta.domain.enrolled")]
    Enrolled {
        /// The site it will show.
        site: String,
        /// The account of that site.
        account: String,
    },
    /// The token was replaced by a new one.
    #[serde(rename = "nomenta.token.rotated")]
    TokenRotated {},
    /// A gate changed its state.
    #[serde(rename = "nomenta.gate.changed")]
    GateChanged {
        /// Which one.
        gate: GateName,
        /// Where it stood.
        from: GateState,
        /// Where it stands.
        to: GateState,
        /// The finding that stands in its way, if one does.
        #[serde(default)]
        because: Option<Code>,
        /// Why, in one sentence.
        reason: String,
    },
    /// A finding was seen for the first time.
    #[serde(rename = "nomenta.finding.opened")]
    FindingOpened {
        /// Which one.
        code: Code,
        /// What the customer is to do.
        remedy: String,
    },
    /// A finding is gone.
    #[serde(rename = "nomenta.finding.cleared")]
    FindingCleared {
        /// Which one.
        code: Code,
    },
    /// A certificate order is about to be placed.
    #[serde(rename = "nomenta.order.placed")]
    OrderPlaced {
        /// The names that it is for.
        names: Vec<String>,
        /// How control is shown.
        method: Method,
    },
    /// The issuer refused it.
    #[serde(rename = "nomenta.order.refused")]
    OrderRefused {
        /// The CA's problem document.
        problem: IssuerProblem,
        /// When another may be placed.
        retry_at: DateTime<Utc>,
    },
    /// A certificate was issued.
    #[serde(rename = "nomenta.certificate.issued")]
    CertificateIssued {
        /// Serial number.
        serial: String,
        /// Issuer as a distinguished name.
        issuer: String,
        /// DNS names it covers.
        names: Vec<String>,
        /// End of validity.
        not_after: DateTime<Utc>,
        /// When it is renewed.
        renew_at: DateTime<Utc>,
    },
    /// The customer brought one in.
    #[serde(rename = "nomenta.certificate.brought")]
    CertificateBrought {
        /// Serial number.
        serial: String,
        /// Issuer as a distinguished name.
        issuer: String,
        /// End of validity.
        not_after: DateTime<Utc>,
    },
    /// The issuer revoked one.
    #[serde(rename = "nomenta.certificate.revoked")]
    CertificateRevoked {
        /// Serial number.
        serial: String,
        /// Why.
        reason: RevocationReason,
    },
    /// Something about a domain that was in order has changed.
    #[serde(rename = "nomenta.domain.drifted")]
    Drifted(Drift),
    /// The domain has left the platform.
    #[serde(rename = "nomenta.domain.released")]
    Released {},
    /// The claim holds the name from now on.
    #[serde(rename = "nomenta.claim.held")]
    Held {},
    /// The claim no longer holds the name, since it is not proved any more.
    #[serde(rename = "nomenta.claim.dropped")]
    NoLongerHeld {},
    /// Another claim of the name is proved too, or that has come further.
    #[serde(rename = "nomenta.claim.contested")]
    Contested {
        /// How far it has come.
        phase: Phase,
        /// Until when the holder may put its token back.
        grace_ends_at: Option<DateTime<Utc>>,
    },
    /// The contest for the name is over.
    #[serde(rename = "nomenta.contest.settled")]
    ContestSettled {
        /// How.
        outcome: Outcome,
    },
    /// The other one of the pair has left.
    #[serde(rename = "nomenta.pair.parted")]
    PairParted {
        /// Its name.
        other: String,
    },
    /// Nothing is looked at or ordered from now on.
    #[serde(rename = "nomenta.domain.paused")]
    Paused {},
    /// The domain is looked at again.
    #[serde(rename = "nomenta.domain.resumed")]
    Resumed {},
    /// The account was suspended, and the route withdrawn.
    #[serde(rename = "nomenta.account.suspended")]
    Suspended {},
    /// The account was resumed, and the route is there again.
    #[serde(rename = "nomenta.account.resumed")]
    Unsuspended {},
    /// The domain shows another site.
    #[serde(rename = "nomenta.domain.moved")]
    Moved {
        /// Which.
        site: String,
    },
    /// The domain switches at an hour.
    #[serde(rename = "nomenta.domain.staged")]
    Staged {
        /// To which site, if to another.
        site: Option<String>,
        /// When.
        at: DateTime<Utc>,
    },
    /// The hour has come, and the domain shows its site.
    #[serde(rename = "nomenta.domain.switched")]
    Switched {},
    /// Visitors enter elsewhere, or get something else when it is missing.
    #[serde(rename = "nomenta.domain.paths")]
    PathsChanged {},
    /// Which one of the pair is the primary has changed.
    #[serde(rename = "nomenta.pair.primary")]
    PrimaryChanged {
        /// Its name.
        primary: String,
    },
    /// The customer's list was published for them.
    #[serde(rename = "nomenta.zone.published")]
    Published {
        /// The zone.
        zone: String,
        /// How many records were taken away.
        removed: usize,
        /// How many were added.
        added: usize,
    },
    /// What had been published for the customer was taken back.
    #[serde(rename = "nomenta.zone.restored")]
    TakenBack {
        /// The zone.
        zone: String,
    },
    /// The claim was given up: it was never proved.
    #[serde(rename = "nomenta.claim.expired")]
    Expired {},
    /// Another claim has the name.
    #[serde(rename = "nomenta.claim.lost")]
    Lost {},
}

impl Event {
    /// Its kind.
    pub fn kind(&self) -> EventKind {
        match self {
            Self::Enrolled { .. } => EventKind::Enrolled,
            Self::TokenRotated {} => EventKind::TokenRotated,
            Self::GateChanged { .. } => EventKind::GateChanged,
            Self::FindingOpened { .. } => EventKind::FindingOpened,
            Self::FindingCleared { .. } => EventKind::FindingCleared,
            Self::OrderPlaced { .. } => EventKind::OrderPlaced,
            Self::OrderRefused { .. } => EventKind::OrderRefused,
            Self::CertificateIssued { .. } => EventKind::CertificateIssued,
            Self::CertificateBrought { .. } => EventKind::CertificateBrought,
            Self::CertificateRevoked { .. } => EventKind::CertificateRevoked,
            Self::Drifted(_) => EventKind::Drifted,
            Self::Released {} => EventKind::Released,
            Self::Held {} => EventKind::Held,
            Self::NoLongerHeld {} => EventKind::NoLongerHeld,
            Self::Contested { .. } => EventKind::Contested,
            Self::ContestSettled { .. } => EventKind::ContestSettled,
            Self::PairParted { .. } => EventKind::PairParted,
            Self::Paused {} => EventKind::Paused,
            Self::Resumed {} => EventKind::Resumed,
            Self::Suspended {} => EventKind::Suspended,
            Self::Unsuspended {} => EventKind::Unsuspended,
            Self::Moved { .. } => EventKind::Moved,
            Self::Staged { .. } => EventKind::Staged,
            Self::Switched {} => EventKind::Switched,
            Self::PathsChanged {} => EventKind::PathsChanged,
            Self::PrimaryChanged { .. } => EventKind::PrimaryChanged,
            Self::Published { .. } => EventKind::Published,
            Self::TakenBack { .. } => EventKind::TakenBack,
            Self::Expired {} => EventKind::Expired,
            Self::Lost {} => EventKind::Lost,
        }
    }

    /// Its details, as they are kept beside the kind.
    pub fn data(&self) -> Value {
        let mut whole = json!(self);

        whole["data"].take()
    }

    /// Reads what was kept.
    ///
    /// # Errors
    /// If the details are not those of the kind.
    pub fn read(kind: EventKind, data: Value) -> serde_json::Result<Self> {
        serde_json::from_value(json!({ "type": format!("{PREFIX}{kind}"), "data": data }))
    }

    /// The end of a claim.
    pub fn of_end(ending: Ending) -> Self {
        match ending {
            Ending::Released => Self::Released {},
            Ending::Expired => Self::Expired {},
            Ending::Lost => Self::Lost {},
        }
    }

    /// Whether nothing more comes of the claim.
    pub fn is_end(&self) -> bool {
        matches!(self, Self::Released {} | Self::Expired {} | Self::Lost {})
    }
}

/// An event in CloudEvents 1.0 JSON.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[schema(as = Event)]
pub struct CloudEvent {
    /// Always `1.0`.
    pub specversion: String,
    /// Identifies the event.
    pub id: Uuid,
    /// Who says so.
    pub source: String,
    /// The domain.
    pub subject: Option<String>,
    /// When.
    pub time: DateTime<Utc>,
    /// Position in the order of commits; resume after it.
    pub sequence: i64,
    /// What happened, in one sentence.
    pub told: String,
    /// Type and details.
    #[serde(flatten)]
    pub event: Event,
}

/// Which events.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct EventQuery {
    /// Only after this sequence number.
    #[param(minimum = 0)]
    pub after: Option<i64>,
}

/// A page of a history.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HistoryQuery {
    /// Only after this sequence number.
    #[param(minimum = 0)]
    pub after: Option<i64>,
    /// Events at most; 500 if left out.
    #[param(minimum = 1, maximum = 500, default = 500)]
    pub limit: Option<i64>,
}

//! What happened, as CloudEvents 1.0 JSON and in words.

use chrono::{DateTime, Utc};
use nomenta_core::judge::certificate::RevocationReason;
use nomenta_core::judge::code::Code;
use nomenta_core::judge::drift::Drift;
use nomenta_core::judge::evidence::Problem as IssuerProblem;
use nomenta_core::judge::gate::{GateName, GateState};
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

    /// What happened, in one sentence. Of a gate that a finding stands in the
    /// way of the code is enough: the finding tells the rest itself.
    pub fn told(&self) -> String {
        match self {
            Self::Enrolled { site, account } => format!("Enrolled for the site {site} of {account}."),
            Self::TokenRotated {} => "Given a new token.".into(),
            Self::GateChanged { gate, from, to, because: Some(code), .. } => {
                format!("{gate}: {from} → {to}, because of {code}.")
            }
            Self::GateChanged { gate, from, to, because: None, reason } => {
                format!("{gate}: {from} → {to}. {reason}")
            }
            Self::FindingOpened { code, remedy } => format!("Found {code}. {remedy}"),
            Self::FindingCleared { code } => format!("{code} is gone."),
            Self::OrderPlaced { names, .. } if names.len() > 1 => {
                "Certificate ordered, for both of the pair.".into()
            }
            Self::OrderPlaced { .. } => "Certificate ordered.".into(),
            Self::OrderRefused { problem, .. } => format!("Certificate refused: {}", problem.detail),
            Self::CertificateIssued { serial, issuer, .. } => {
                format!("Certificate {serial} issued by {issuer}.")
            }
            Self::CertificateBrought { serial, issuer, .. } => {
                format!("Certificate {serial} of {issuer} brought in.")
            }
            Self::CertificateRevoked { serial, reason } => {
                format!("Certificate {serial} revoked ({reason}).")
            }
            Self::Drifted(Drift { what, from, to }) => {
                format!("{what} changed from {} to {}.", listed(from), listed(to))
            }
            Self::Released {} => "Left the platform.".into(),
        }
    }
}

fn listed(values: &[String]) -> String {
    if values.is_empty() { "nothing".into() } else { values.join(", ") }
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
    pub after: Option<i64>,
}

#[cfg(test)]
mod tests {
    use super::*;

    fn samples() -> Vec<(Event, &'static str)> {
        let at = DateTime::UNIX_EPOCH;
        let words = |word: &str| word.to_owned();
        let gate = |because| Event::GateChanged {
            gate: GateName::Routing,
            from: GateState::Waiting,
            to: GateState::Blocked,
            because,
            reason: "Delete it.".into(),
        };
        let placed = |names: &[&str]| Event::OrderPlaced {
            names: names.iter().map(|name| words(name)).collect(),
            method: Method::Http,
        };
        vec![
            (Event::Enrolled { site: words("s"), account: words("a") }, "Enrolled for the site s of a."),
            (Event::TokenRotated {}, "Given a new token."),
            (gate(None), "routing: waiting → blocked. Delete it."),
            (gate(Some(Code::CnameForeign)), "routing: waiting → blocked, because of cname-foreign."),
            (
                Event::FindingOpened { code: Code::CnameForeign, remedy: words("Delete it.") },
                "Found cname-foreign. Delete it.",
            ),
            (Event::FindingCleared { code: Code::CnameForeign }, "cname-foreign is gone."),
            (placed(&["a"]), "Certificate ordered."),
            (placed(&["a", "b"]), "Certificate ordered, for both of the pair."),
            (
                Event::OrderRefused {
                    problem: IssuerProblem { detail: words("no"), ..IssuerProblem::default() },
                    retry_at: at,
                },
                "Certificate refused: no",
            ),
            (
                Event::CertificateIssued {
                    serial: words("1"),
                    issuer: words("i"),
                    names: vec![words("a")],
                    not_after: at,
                    renew_at: at,
                },
                "Certificate 1 issued by i.",
            ),
            (
                Event::CertificateBrought { serial: words("1"), issuer: words("i"), not_after: at },
                "Certificate 1 of i brought in.",
            ),
            (
                Event::CertificateRevoked { serial: words("1"), reason: RevocationReason::Superseded },
                "Certificate 1 revoked (superseded).",
            ),
            (
                Event::Drifted(Drift { what: words("w"), from: Vec::new(), to: vec![words("A x")] }),
                "w changed from nothing to A x.",
            ),
            (Event::Released {}, "Left the platform."),
        ]
    }

    #[test]
    fn every_kind_of_event_is_told_in_one_sentence() {
        for (event, want) in samples() {
            assert_eq!(event.told(), want);
        }
    }

    #[test]
    fn every_kind_is_read_as_it_is_kept_and_has_its_word_on_the_wire() {
        let mut kinds: Vec<_> = EventKind::ALL.to_vec();
        for (event, _) in samples() {
            let kind = event.kind();
            assert_eq!(json!(event)["type"], format!("{PREFIX}{kind}"));
            assert_eq!(Event::read(kind, event.data()).expect("reads"), event);
            kinds.retain(|other| *other != kind);
        }
        assert_eq!(kinds, [], "each kind has a sample");
    }
}

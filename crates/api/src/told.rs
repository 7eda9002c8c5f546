//! What happened, in one sentence each.

use chrono::{DateTime, Utc};
use nomenta_core::claim::rivals::Outcome;
use nomenta_core::judge::drift::Drift;
use nomenta_core::judge::standing::Phase;

use crate::event::Event;

impl Event {
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
            Self::Held {} => "Holds the name.".into(),
            Self::NoLongerHeld {} => "No longer holds the name: its proof is gone.".into(),
            Self::Contested { phase, grace_ends_at } => contested(*phase, *grace_ends_at),
            Self::ContestSettled { outcome } => settled(*outcome).into(),
            Self::PairParted { other } => format!("Stands alone: {other} has left."),
            Self::Paused {} => "Paused.".into(),
            Self::Resumed {} => "Resumed.".into(),
            Self::Suspended {} => "Its account is suspended: the route is withdrawn.".into(),
            Self::Unsuspended {} => "Its account is resumed: the route is there again.".into(),
            Self::Moved { site } => format!("Shows the site {site} from now on."),
            Self::Staged { site, at } => {
                let at = at.format("%Y-%m-%d %H:%M UTC");
                match site {
                    Some(site) => format!("Shows the site {site} from {at} on."),
                    None => format!("Shows nothing of its own before {at}."),
                }
            }
            Self::Switched {} => "Shows its site from now on.".into(),
            Self::PathsChanged {} => "Given other paths.".into(),
            Self::PrimaryChanged { primary } => format!("{primary} is the primary of the pair."),
            Self::Published { zone, removed, added } => {
                format!("Published for the customer in {zone}: {removed} removed, {added} added.")
            }
            Self::TakenBack { zone } => format!("What was published in {zone} was taken back."),
            Self::Expired {} => "Given up: it was never proved.".into(),
            Self::Lost {} => "Lost the name to another claim.".into(),
        }
    }
}

fn contested(phase: Phase, grace_ends_at: Option<DateTime<Utc>>) -> String {
    match phase {
        Phase::Ruling => "Claimed twice: both tokens stand, and a person rules.".into(),
        Phase::Grace => match grace_ends_at {
            Some(until) => {
                format!(
                    "Claimed twice: the holder's token is gone, and may come back until {}.",
                    until.format("%Y-%m-%d %H:%M UTC")
                )
            }
            None => "Claimed twice: the holder's token is gone.".into(),
        },
        Phase::Handover => "Claimed twice: the name goes over with the challenger's certificate.".into(),
    }
}

fn settled(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Switched => "The contest is over: the challenger has the name.",
        Outcome::Kept => "The contest is over: the holder keeps the name.",
        Outcome::Withdrawn => "The contest is over: the challenger is gone.",
    }
}

fn listed(values: &[String]) -> String {
    if values.is_empty() { "nothing".into() } else { values.join(", ") }
}

#[cfg(test)]
mod tests {
    use nomenta_core::judge::certificate::RevocationReason;
    use nomenta_core::judge::code::Code;
    use nomenta_core::judge::evidence::Problem as IssuerProblem;
    use nomenta_core::judge::gate::{GateName, GateState};
    use nomenta_core::reading::method::Method;
    use serde_json::json;

    use super::*;
    use crate::event::EventKind;

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
            (Event::Held {}, "Holds the name."),
            (Event::NoLongerHeld {}, "No longer holds the name: its proof is gone."),
            (
                Event::Contested { phase: Phase::Ruling, grace_ends_at: None },
                "Claimed twice: both tokens stand, and a person rules.",
            ),
            (
                Event::Contested { phase: Phase::Grace, grace_ends_at: Some(at) },
                "Claimed twice: the holder's token is gone, and may come back until 1970-01-01 00:00 UTC.",
            ),
            (
                Event::Contested { phase: Phase::Handover, grace_ends_at: None },
                "Claimed twice: the name goes over with the challenger's certificate.",
            ),
            (
                Event::ContestSettled { outcome: Outcome::Kept },
                "The contest is over: the holder keeps the name.",
            ),
            (Event::PairParted { other: words("o") }, "Stands alone: o has left."),
            (Event::Paused {}, "Paused."),
            (Event::Resumed {}, "Resumed."),
            (Event::Suspended {}, "Its account is suspended: the route is withdrawn."),
            (
                Event::Published { zone: "onswick.example".into(), removed: 1, added: 2 },
                "Published for the customer in onswick.example: 1 removed, 2 added.",
            ),
            (
                Event::TakenBack { zone: "onswick.example".into() },
                "What was published in onswick.example was taken back.",
            ),
            (Event::Unsuspended {}, "Its account is resumed: the route is there again."),
            (Event::Moved { site: words("o") }, "Shows the site o from now on."),
            (Event::Staged { site: Some(words("s")), at }, "Shows the site s from 1970-01-01 00:00 UTC on."),
            (Event::Staged { site: None, at }, "Shows nothing of its own before 1970-01-01 00:00 UTC."),
            (Event::Switched {}, "Shows its site from now on."),
            (Event::PathsChanged {}, "Given other paths."),
            (Event::PrimaryChanged { primary: words("o") }, "o is the primary of the pair."),
            (Event::Expired {}, "Given up: it was never proved."),
            (Event::Lost {}, "Lost the name to another claim."),
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
            assert_eq!(json!(event)["type"], format!("nomenta.{kind}"));
            assert_eq!(Event::read(kind, event.data()).expect("reads"), event);
            kinds.retain(|other| *other != kind);
        }
        assert_eq!(kinds, [], "each kind has a sample");
    }
}

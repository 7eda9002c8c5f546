//! The gates while they are being set: what passed, lapsed and blocked mean.

use chrono::{DateTime, Duration, Utc};

use crate::judge::case::Case;
use crate::judge::finding::{Finding, Severity};
use crate::judge::gate::{Gate, GateName, GateState, Gates};

/// What the evidence says about one gate, each with its reason.
pub(super) enum Judged {
    /// The evidence is complete.
    Pass(String),
    /// Something is not there yet, or no longer.
    NotYet(String),
    /// There is no evidence either way.
    Unknown(String),
}

/// The gates while they are being set.
pub(super) struct Board<'a> {
    pub gates: Gates,
    pub findings: &'a [Finding],
    grace: Duration,
    second_look: Duration,
    now: DateTime<Utc>,
}

impl<'a> Board<'a> {
    /// The gates as they stood before this look.
    pub(super) fn new(case: &Case<'_>, findings: &'a [Finding]) -> Self {
        Self {
            gates: case.domain.gates.clone(),
            findings,
            grace: case.policy.grace,
            second_look: case.policy.second_look,
            now: case.now,
        }
    }

    /// Whether a gate is passed.
    pub(super) fn passed(&self, name: GateName) -> bool {
        self.gates.passed(name)
    }

    /// Sets a gate by what the evidence says and by the findings that stand in
    /// its way. Silence proves nothing: a gate that was passed stays so, and one that
    /// has lapsed runs out of its grace all the same.
    pub(super) fn set(&mut self, name: GateName, judged: Judged) {
        let before = self.gates.get(name);
        let blocker = self.blocker(name);

        let state = match (&judged, blocker) {
            (Judged::Unknown(reason), _) if self.is_held(before) => return self.keep(name, reason),
            (Judged::Pass(_), None) => GateState::Passed,
            (_, Some(_)) if self.is_held(before) => GateState::Lapsed,
            (_, Some(_)) => GateState::Blocked,
            (Judged::NotYet(_), None) if self.is_held(before) => GateState::Lapsed,
            (Judged::NotYet(_) | Judged::Unknown(_), None) => GateState::Waiting,
        };
        let reason = match (judged, blocker) {
            (_, Some(finding)) => finding.remedy.clone(),
            (Judged::Pass(reason) | Judged::NotYet(reason) | Judged::Unknown(reason), None) => reason,
        };

        let because = blocker.map(|finding| finding.code);
        if let Some(doubted_at) = self.doubt(before, state) {
            let reason = format!("In doubt; a second look decides. {reason}");
            let doubted = Gate { doubted_at: Some(doubted_at), because, reason, ..before.clone() };
            self.gates.0[name as usize] = doubted;
            return;
        }

        let since = if state == before.state { before.since } else { self.now };
        self.gates.0[name as usize] = Gate { name, state, since, doubted_at: None, because, reason };
    }

    /// Leaves a gate as it is; one that is passed says why nothing new is known of
    /// it.
    fn keep(&mut self, name: GateName, unknown: &str) {
        let gate = &mut self.gates.0[name as usize];
        if gate.state == GateState::Passed {
            gate.reason = format!("Stays passed: silence proves nothing. {unknown}");
        }
    }

    /// Since when a passed gate that would lapse now has been in doubt, while
    /// the second look is still to come: one moment of trouble takes nothing
    /// away. Whether a certificate is held is no reading, and never in doubt.
    fn doubt(&self, before: &Gate, state: GateState) -> Option<DateTime<Utc>> {
        let is_read = before.name != GateName::Certificate;
        if !is_read || before.state != GateState::Passed || state == GateState::Passed {
            return None;
        }
        let since = before.doubted_at.unwrap_or(self.now);
        (self.now - since < self.second_look).then_some(since)
    }

    fn blocker(&self, name: GateName) -> Option<&'a Finding> {
        self.findings.iter().find(|f| f.gate == name && f.severity == Severity::Blocker)
    }

    /// Whether a gate that fails now only lapses: it is passed, or has lapsed
    /// for less than its grace.
    fn is_held(&self, before: &Gate) -> bool {
        match before.state {
            GateState::Passed => true,
            GateState::Lapsed => self.now - before.since < self.grace,
            GateState::Waiting | GateState::Blocked => false,
        }
    }
}

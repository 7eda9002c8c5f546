//! `stalled`: nothing has moved for longer than the policy allows.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::findings::issuer_throttled;
use crate::judge::gate::{GateName, Stage};
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::Stalled,
    severity: Severity::Note,
    gate: GateName::Ownership,
    about: "Nothing is wrong, and nothing has moved for longer than the policy allows: the customer \
            has not begun, or has stopped half-way.",
    yields: Yields::AnyBlocker,
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let Stage::At(gate) = case.domain.gates.stage() else { return None };
    let idle = case.now - case.domain.moved_at;
    if idle < case.policy.stalled_after {
        return None;
    }
    // Whoever waits for the CA or for the platform has not stopped.
    if issuer_throttled::throttle(case).is_some() {
        return None;
    }

    let is_done = case.is_owned() && case.is_routed();
    let missing = match (case.is_owned(), case.is_routed()) {
        (false, false) => "Nothing on the sheet has been published yet",
        (false, true) => "The token is the only thing still missing",
        (true, false) => "The token is there; the routing records are still missing",
        (true, true) => "Everything on the sheet is published",
    };

    Some(Diagnosis {
        gate: Some(gate),
        remedy: if is_done {
            format!("{missing}; nothing is left for you to do.")
        } else {
            format!("{missing}. Add what the sheet of {} lists.", case.domain.host)
        },
        remark: format!(
            "Unchanged since {}; looks are rare until something moves. A reminder may help.",
            case.domain.moved_at.format("%Y-%m-%d %H:%M UTC")
        ),
        evidence: vec![Sighting::new("every look since then", "the same answers")],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn only_a_domain_that_waits_can_stall() {
        let host = "onswick.example";
        let mut domain = test::domain(host);
        domain.moved_at = test::now() - test::policy().stalled_after;
        let codes = |lines: &[&str]| {
            let found = test::judge(&domain, &test::survey(host, lines));
            found.iter().map(|f| f.code.as_str()).collect::<Vec<_>>()
        };
        assert_eq!(codes(&[]), ["stalled"]);
        assert_eq!(codes(&["@ A 192.0.2.7"]), ["address-foreign"]);
        let fresh = test::domain(host);
        assert!(test::judge(&fresh, &test::survey(host, &[])).is_empty());
    }
}

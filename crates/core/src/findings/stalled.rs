//! `stalled`: nothing has moved for longer than the policy allows.

use crate::finding::{Case, Diagnosis, Entry, Severity, Sighting};
use crate::gate::{GateName, Stage};

pub(super) const ENTRY: Entry = Entry {
    code: "stalled",
    severity: Severity::Note,
    gate: GateName::Ownership,
    about: "Nothing is wrong, and nothing has moved for longer than the policy allows: the customer \
            has not begun, or has stopped half-way.",
    yields_to: &[
        "name-unregistered",
        "unreachable",
        "dnssec-broken",
        "delegated-away",
        "servers-disagree",
        "host-doubled",
        "token-superseded",
        "token-misplaced",
        "wildcard-answers",
        "token-altered",
        "wrong-type",
        "value-doubled",
        "cname-at-apex",
        "choices-mixed",
        "cname-beside-others",
        "cname-chain-broken",
        "cname-foreign",
        "address-foreign",
        "address-surplus",
        "address-partial",
        "ipv6-stray",
        "https-record-stray",
        "fronted",
        "forwarding-elsewhere",
        "caa-forbids",
        "challenge-blocked",
        "issuer-throttled",
        "issuer-refused",
    ],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let Stage::At(gate) = case.domain.gates.stage() else { return None };
    let idle = case.now - case.domain.moved_at;
    if idle < case.policy.stalled_after {
        return None;
    }
    let (owned, routed) = (case.owned(), case.routed());
    let missing = match (owned, routed) {
        (false, false) => "Nothing on the sheet has been published yet",
        (false, true) => "The token is the only thing still missing",
        (true, false) => "The token is there; the routing records are still missing",
        (true, true) => "Everything on the sheet is published",
    };
    Some(Diagnosis {
        gate: Some(gate),
        remedy: match routed && owned {
            true => format!("{missing}; nothing is left for you to do."),
            false => format!("{missing}. Add what the sheet of {} lists.", case.domain.host),
        },
        remark: format!(
            "Unchanged since {}; looks are rare until something moves. A reminder may help.",
            case.domain.moved_at.format("%Y-%m-%d %H:%M UTC")
        ),
        evidence: vec![Sighting {
            source: "every look since then".into(),
            said: "the same answers".into(),
            ttl: None,
        }],
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
            found.iter().map(|f| f.code.clone()).collect::<Vec<_>>()
        };
        assert_eq!(codes(&[]), ["stalled"]);
        assert_eq!(codes(&["@ A 192.0.2.7"]), ["address-foreign"]);
        let fresh = test::domain(host);
        assert!(test::judge(&fresh, &test::survey(host, &[])).is_empty());
    }
}

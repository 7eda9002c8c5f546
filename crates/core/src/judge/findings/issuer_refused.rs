//! `issuer-refused`: the certification authority turned the order down.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::evidence::OrderState;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

/// Who says so.
const SOURCE: &str = "certification authority";

pub(super) const ENTRY: Entry = Entry {
    code: Code::IssuerRefused,
    severity: Severity::Blocker,
    gate: GateName::Certificate,
    about: "The certification authority refused the certificate; its own problem document is shown.",
    yields: Yields::To(&[Code::NameUnregistered, Code::Unreachable, Code::CaaForbids]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let OrderState::Refused { problem, retry_at } = &case.evidence.order else { return None };
    if problem.is_throttling() {
        return None;
    }

    let said = if problem.detail.is_empty() { problem.kind.clone() } else { problem.detail.clone() };
    let kind = problem.short();

    let mut evidence = vec![Sighting::new(SOURCE, &said)];
    for sub in &problem.subproblems {
        evidence.push(Sighting::new(format!("{SOURCE} about {}", sub.name), &sub.detail));
    }

    Some(Diagnosis {
        // What is held goes on being served.
        severity: case.held().map(|_| Severity::Warning),
        remedy: format!(
            "The certification authority refused {}: {} Keep the records; the platform asks again by itself.",
            case.domain.host,
            ended(&said)
        ),
        remark: format!(
            "Problem type {kind}: {} The next order may be placed at {}.",
            advice(kind),
            retry_at.format("%Y-%m-%d %H:%M:%S UTC")
        ),
        evidence,
        ..Diagnosis::default()
    })
}

/// What each type of problem (RFC 8555, section 6.7) asks of the engineer.
fn advice(kind: &str) -> &'static str {
    match kind {
        "caa" => "the CA reads a CAA record that forbids it; it may see an older answer than we do.",
        "connection" | "tls" => "the CA cannot reach the domain's addresses; look at what filters its way.",
        "dns" => "the CA's resolver cannot read the zone; look at DNSSEC and at its servers.",
        "incorrectResponse" | "unauthorized" => {
            "the CA was answered, but not by us; it may see other addresses."
        }
        "rejectedIdentifier" => "the CA's policy excludes this name; another CA may take it.",
        "externalAccountRequired" | "userActionRequired" => "the account at the CA needs attention.",
        _ => "the CA's own words say what it wants.",
    }
}

fn ended(sentence: &str) -> String {
    format!("{}.", sentence.trim_end_matches('.'))
}

#[cfg(test)]
mod tests {
    use crate::judge::evidence::{OrderState, Problem, Subproblem};
    use crate::test;

    fn host() -> &'static str {
        "onswick.example"
    }

    #[test]
    fn the_problem_document_is_shown() {
        let kind = "urn:ietf:params:acme:error:rejectedIdentifier".to_owned();
        let detail = "The CA's policy has no place for onswick.example".to_owned();
        let name = host().to_owned();
        let sub = Subproblem { name, kind: kind.clone(), detail: "not this one".into() };
        let problem = Problem { kind, detail, status: Some(400), subproblems: vec![sub] };
        let order = OrderState::Refused { problem, retry_at: test::now() };
        let host = "onswick.example";
        let found = test::diagnose_with(host, &test::healthy(host), order);
        assert_eq!(test::codes(&found), ["issuer-refused"]);
        assert!(found[0].remedy.contains("has no place for onswick.example. Keep the records"));
        assert!(found[0].remark.contains("rejectedIdentifier: the CA's policy excludes this name"));
        assert_eq!(found[0].evidence[1].source, "certification authority about onswick.example");
    }
}

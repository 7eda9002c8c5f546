//! `issuer-refused`: the certification authority turned the order down.

use crate::evidence::OrderState;
use crate::finding::{Case, Diagnosis, Entry, Severity, Sighting};
use crate::gate::GateName;

pub(super) const ENTRY: Entry = Entry {
    code: "issuer-refused",
    severity: Severity::Blocker,
    gate: GateName::Certificate,
    about: "The certification authority refused the certificate; its own problem document is shown.",
    yields_to: &["name-unregistered", "unreachable", "caa-forbids"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let OrderState::Refused { problem, retry_at } = &case.evidence.order else { return None };
    let said = if problem.detail.is_empty() { problem.kind.clone() } else { problem.detail.clone() };
    let kind = problem.kind.rsplit(':').next().unwrap_or(&problem.kind);
    Some(Diagnosis {
        remedy: format!(
            "The certification authority refused {}: {} Keep the records; the platform asks again by itself.",
            case.domain.host,
            ended(&said)
        ),
        remark: format!(
            "Problem type {kind}. The next order may be placed at {}.",
            retry_at.format("%Y-%m-%d %H:%M:%S UTC")
        ),
        evidence: vec![Sighting { source: "certification authority".into(), said, ttl: None }],
        ..Diagnosis::default()
    })
}

fn ended(sentence: &str) -> String {
    format!("{}.", sentence.trim_end_matches('.'))
}

#[cfg(test)]
mod tests {
    use crate::evidence::{OrderState, Problem};
    use crate::test;

    #[test]
    fn the_problem_document_is_shown() {
        let kind = "urn:ietf:params:acme:error:rejectedIdentifier".to_owned();
        let detail = "The CA's policy has no place for onswick.example".to_owned();
        let problem = Problem { kind, detail, status: Some(400) };
        let order = OrderState::Refused { problem, retry_at: test::now() };
        let host = "onswick.example";
        let found = test::diagnose_with(host, &test::healthy(host), order);
        assert_eq!(test::codes(&found), ["issuer-refused"]);
        assert!(found[0].remedy.contains("has no place for onswick.example. Keep the records"));
        assert!(found[0].remark.contains("rejectedIdentifier"));
    }
}

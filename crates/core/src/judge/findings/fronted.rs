//! `fronted`: a proxy stands in front, and passes visitors on to the platform.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::policy::Fronting;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::Fronted,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The addresses are somebody else's, and yet the platform is reached through them: a proxy stands \
            in front. Whether that is good enough is for the platform to say.",
    yields: Yields::To(&[
        Code::AnswersVary,
        Code::ServersDisagree,
        Code::ChoicesMixed,
        Code::CnameBesideOthers,
        Code::WrongType,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    if !case.is_fronted() {
        return None;
    }
    let fronts = case.evidence.behind.fronts();
    let shown: Vec<_> = fronts.iter().map(|fetch| fetch.address.to_string()).collect();
    let host = &case.domain.host;

    let (severity, rule, remedy) = match case.policy.fronting {
        Fronting::Allow => (
            Severity::Note,
            "allowed",
            format!("A proxy stands in front of {host} and passes visitors on. Nothing is to be changed."),
        ),
        Fronting::Block => (
            ENTRY.severity,
            "not allowed",
            format!(
                "Switch the proxy off for {host} at your DNS operator, so that the record itself is answered: \
                 often a setting beside the record. Keep the record."
            ),
        ),
    };
    Some(Diagnosis {
        severity: Some(severity),
        remedy,
        remark: format!(
            "Foreign addresses ({}), and the canary arrives through each. Proxies in front are {rule}; \
             set by serve --proxies.",
            shown.join(", ")
        ),
        evidence: shown
            .iter()
            .map(|address| Sighting::new(address, "passes plain HTTP on to the platform"))
            .collect(),
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judge::behind::{Behind, Visit};
    use crate::judge::canary::CanaryFetch;
    use crate::judge::evidence::Evidence;
    use crate::test;

    fn found(failure: Option<&str>, fronting: Fronting) -> Vec<(String, Severity)> {
        let (host, address) = ("onswick.example", [192, 0, 2, 7].into());
        let fronts = vec![CanaryFetch { address, failure: failure.map(str::to_owned) }];
        let behind = Behind::Visited(Visit { fronts, ..Visit::default() });
        let evidence = Evidence { behind, ..Evidence::default() };
        let policy = crate::judge::policy::Policy { fronting, ..test::policy() };
        let survey = test::survey(host, &["@ A 192.0.2.7"]);
        let found = test::judge_under(&test::domain(host), &survey, evidence, &policy);
        found.into_iter().map(|f| (f.code.to_string(), f.severity)).collect()
    }

    #[test]
    fn a_proxy_is_told_from_a_former_host_by_the_canary() {
        let lost = Some("another host answers there");
        for rule in [Fronting::Block, Fronting::Allow] {
            assert_eq!(found(lost, rule), [("address-foreign".into(), Severity::Blocker)]);
        }
        assert_eq!(found(None, Fronting::Block), [("fronted".into(), Severity::Blocker)]);
        assert_eq!(found(None, Fronting::Allow), [("fronted".into(), Severity::Note)]);
    }
}

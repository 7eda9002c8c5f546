//! `challenge-blocked`: the addresses are right, and what the CA would fetch
//! does not arrive through one of them.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::preflight;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::ChallengeBlocked,
    severity: Severity::Blocker,
    gate: GateName::Certificate,
    about: "The records are right, but plain HTTP to one of the addresses does not reach the platform, so \
            the certification authority would be refused its file. No order is placed.",
    yields: Yields::To(&[Code::Fronted, Code::AddressForeign, Code::CnameForeign, Code::CaaForbids]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let fetches = case.evidence.canary.as_deref()?;
    let (first, failure) = preflight::lost(fetches)?;
    let address = first.address;

    Some(Diagnosis {
        severity: case.held().map(|_| Severity::Warning),
        remedy: format!(
            "Keep the records: they are right. {address} does not answer for {} as it should, which the platform \
             has to mend.",
            case.domain.host
        ),
        remark: format!(
            "The canary does not arrive through {address}: {failure}. Look at the edge server there, and at \
             what filters port 80 in front of it."
        ),
        evidence: fetches
            .iter()
            .map(|fetch| {
                Sighting::new(fetch.address, fetch.failure.as_deref().unwrap_or("the canary arrives"))
            })
            .collect(),
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::judge::canary::CanaryFetch;
    use crate::judge::evidence::Evidence;
    use crate::judge::finding::Severity;
    use crate::test;

    #[test]
    fn the_address_that_loses_the_canary_is_named_and_a_held_certificate_softens_it() {
        let host = "onswick.example";
        let fetch = |last, failure: Option<&str>| CanaryFetch {
            address: [127, 77, 0, last].into(),
            failure: failure.map(str::to_owned),
        };
        let canary = Some(vec![fetch(10, None), fetch(11, Some("it answers with status 404"))]);
        let survey = test::survey(host, &test::healthy(host));
        for (certificate, want) in [(None, Severity::Blocker), (Some(test::held(host)), Severity::Warning)] {
            let evidence = Evidence { canary: canary.clone(), certificate, ..Evidence::default() };
            let found = test::judge_by(&test::domain(host), &survey, evidence);
            assert_eq!(test::codes(&found), ["challenge-blocked"]);
            assert_eq!(found[0].severity, want);
            assert!(found[0].remark.contains("127.77.0.11: it answers with status 404"));
            assert_eq!(found[0].evidence[0].said, "the canary arrives");
        }
    }
}

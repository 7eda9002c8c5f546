//! `allowance-reached`: the account has more domains than its plan grants.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::AllowanceReached,
    severity: Severity::Blocker,
    gate: GateName::Certificate,
    about: "The account's plan grants fewer domains than it has; those beyond get no certificate. What is \
            served already goes on being served.",
    yields: Yields::To(&[]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let granted = case.domain.ties.beyond?;
    let host = &case.domain.host;
    let plan = match granted {
        0 => "The plan has no custom domains".to_owned(),
        1 => "The plan has one custom domain, and it is in use".to_owned(),
        more => format!("The plan has {more} custom domains, and they are in use"),
    };

    Some(Diagnosis {
        severity: case.held().map(|_| Severity::Warning),
        remedy: format!(
            "Keep the records. {plan}: change to a larger one, or release another domain, and {host} goes on by itself."
        ),
        remark: "Raise the account's allowance, or release one of its domains.".into(),
        evidence: vec![Sighting::new("the account", format!("{granted} granted"))],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::judge::domain::{Domain, Ties};
    use crate::judge::evidence::Evidence;
    use crate::judge::finding::Severity;
    use crate::test;

    #[test]
    fn none_granted_is_said_and_what_is_served_stays() {
        let host = "onswick.example";
        let survey = test::survey(host, &test::healthy(host));
        for (granted, said) in [(0, "no custom domains"), (1, "one custom domain"), (5, "5 custom domains")] {
            let ties = Ties { beyond: Some(granted), ..Ties::default() };
            let domain = Domain { ties, ..test::domain(host) };
            let found = test::judge(&domain, &survey);
            assert_eq!(test::codes(&found), ["allowance-reached"]);
            assert!(found[0].remedy.contains(said), "{}", found[0].remedy);
            assert_eq!(found[0].severity, Severity::Blocker);

            let evidence = Evidence { certificate: Some(test::held(host)), ..Evidence::default() };
            assert_eq!(test::judge_by(&domain, &survey, evidence)[0].severity, Severity::Warning);
        }
    }
}

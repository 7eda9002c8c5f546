//! `default-host-listed`: search engines may list the site under the platform's
//! own host beside the customer's domain.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::DefaultHostListed,
    severity: Severity::Note,
    gate: GateName::Serving,
    about: "The site's default host does not ask search engines to leave it out, so the same pages are listed \
            under two names.",
    yields: Yields::To(&[]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let failure = case.evidence.probe.as_ref()?.default_host.as_ref()?;
    let default = case.platform.default_host(&case.domain.site);

    Some(Diagnosis {
        remedy: format!("Nothing is for the customer to do. {default} has to be kept out of search indexes."),
        remark: format!("The edge must answer {default} with X-Robots-Tag: noindex; {failure}."),
        evidence: vec![Sighting::new(&default, failure)],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::judge::evidence::{Evidence, Probe};
    use crate::test;

    #[test]
    fn what_is_missing_is_named() {
        let host = "onswick.example";
        let probe = |default_host: Option<&str>| {
            let probe = Probe { default_host: default_host.map(str::to_owned), ..Probe::default() };
            let evidence = Evidence { probe: Some(probe), ..Evidence::default() };
            test::judge_by(&test::domain(host), &test::survey(host, &test::healthy(host)), evidence)
        };
        assert_eq!(probe(None), []);
        let found = probe(Some("it sends no such header"));
        assert_eq!(test::codes(&found), ["default-host-listed"]);
        assert!(found[0].remark.contains("onswick.quaymark.example with X-Robots-Tag: noindex"));
    }
}

//! `certificate-foreign`: visitors get another certificate than ours.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::evidence::ProbeResult;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::CertificateForeign,
    severity: Severity::Blocker,
    gate: GateName::Serving,
    about: "An address serves another certificate than the one that is held for the domain: of an edge server \
            that is out of date, or of somebody in between.",
    yields: Yields::To(&[Code::Fronted, Code::AddressForeign, Code::CnameForeign]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let held = case.held()?;
    let probe = case.evidence.probe.as_ref()?;

    let mut strangers: Vec<&ProbeResult> = probe.results.iter().collect();
    strangers.retain(|result| result.serial().is_some_and(|serial| serial != held.facts.serial));
    let first = strangers.first()?;
    let served = first.served.as_ref()?;

    Some(Diagnosis {
        remedy: format!(
            "Keep the records. {} serves a certificate of {} for {}, where {} belongs; the platform has to \
             mend that.",
            first.address,
            served.issuer,
            list(&served.names),
            case.sheet.routed
        ),
        remark: format!(
            "Expected serial {}. Look at what the edge server has taken from the feed.",
            held.facts.serial
        ),
        evidence: strangers.iter().filter_map(|result| sighting(result)).collect(),
        ..Diagnosis::default()
    })
}

fn sighting(result: &ProbeResult) -> Option<Sighting> {
    let facts = result.served.as_ref()?;
    let said = format!(
        "serial {} of {} for {}, valid {} to {}",
        facts.serial,
        facts.issuer,
        list(&facts.names),
        facts.not_before.format("%Y-%m-%d"),
        facts.not_after.format("%Y-%m-%d")
    );
    Some(Sighting::new(result.address, said))
}

fn list(names: &[String]) -> String {
    if names.is_empty() { "no name".into() } else { names.join(", ") }
}

#[cfg(test)]
mod tests {
    use crate::judge::evidence::{Evidence, Probe};
    use crate::test;

    #[test]
    fn the_stranger_is_named_with_issuer_and_names() {
        let host = "onswick.example";
        let codes = |serial: &str| {
            let mut served = test::certificate("shop.harrowhost.example");
            served.serial = serial.into();
            served.issuer = "CN=Otherstamp".into();
            let results = vec![test::probed([127, 77, 0, 10].into(), Some(served), None)];
            let probe = Some(Probe { results, default_host: None });
            let evidence = Evidence { certificate: Some(test::held(host)), probe, ..Evidence::default() };
            test::judge_by(&test::domain(host), &test::survey(host, &test::healthy(host)), evidence)
        };
        assert_eq!(codes("5e71a1"), []);
        let found = codes("beef");
        assert_eq!(test::codes(&found), ["certificate-foreign"]);
        assert!(
            found[0].remedy.contains("a certificate of CN=Otherstamp for shop.harrowhost.example"),
            "{}",
            found[0].remedy
        );
    }
}

//! `certificate-foreign`: visitors get another certificate than ours.

use crate::evidence::ProbeResult;
use crate::finding::{Case, Diagnosis, Entry, Severity, Sighting};
use crate::gate::GateName;

pub(super) const ENTRY: Entry = Entry {
    code: "certificate-foreign",
    severity: Severity::Blocker,
    gate: GateName::Serving,
    about: "An address serves another certificate than the one that is held for the domain: of an edge server \
            that is out of date, or of somebody in between.",
    yields_to: &["fronted", "address-foreign", "cname-foreign"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let (held, probe) = (case.held()?, case.evidence.probe.as_ref()?);
    let foreign = |r: &&ProbeResult| r.serial().is_some_and(|serial| serial != held.facts.serial);
    let strangers: Vec<_> = probe.results.iter().filter(foreign).collect();
    let first = strangers.first()?;
    let served = first.served.as_ref()?;
    Some(Diagnosis {
        remedy: format!(
            "Keep the records. {} serves a certificate of {} for {}, where {} belongs; the platform has to \
             mend that.",
            first.address,
            served.issuer,
            list(&served.names),
            case.domain.routed()
        ),
        remark: format!(
            "Expected serial {}. Look at what the edge server has taken from the feed.",
            held.facts.serial
        ),
        evidence: strangers
            .iter()
            .filter_map(|result| {
                let facts = result.served.as_ref()?;
                let said = format!(
                    "serial {} of {} for {}, valid {} to {}",
                    facts.serial,
                    facts.issuer,
                    list(&facts.names),
                    facts.not_before.format("%Y-%m-%d"),
                    facts.not_after.format("%Y-%m-%d")
                );
                Some(Sighting { source: result.address.to_string(), said, ttl: None })
            })
            .collect(),
        ..Diagnosis::default()
    })
}

fn list(names: &[String]) -> String {
    if names.is_empty() { "no name".into() } else { names.join(", ") }
}

#[cfg(test)]
mod tests {
    use crate::evidence::{Evidence, Probe};
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

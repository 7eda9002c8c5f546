//! `delegation-mismatch`: registry and zone list different name servers.

use std::collections::BTreeSet;

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::record::{RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::DelegationMismatch,
    severity: Severity::Warning,
    gate: GateName::Ownership,
    about: "The name servers listed at the registrar are not those that the zone lists itself. An edit at \
            one operator may not be seen at the other.",
    yields: Yields::To(&[Code::Unreachable, Code::ServerLame, Code::ChoicesMixed]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let delegation = case.survey.delegation()?;
    let zone = &case.sheet.zone;
    let mut evidence = Vec::new();
    let mut listed = BTreeSet::new();
    for (source, record) in case.survey.held(zone, RecordType::Ns) {
        if let RecordData::Ns(server) = &record.data {
            listed.insert(server.clone());
            evidence.push(Sighting::of(source, record));
        }
    }
    if listed.is_empty() || listed == delegation.servers {
        return None;
    }

    evidence.extend(delegation.sightings(zone));

    let here = join(&listed);
    let there = join(&delegation.servers);
    Some(Diagnosis {
        remedy: format!(
            "Make both lists of name servers the same. Your registrar lists {there}; the zone {zone} lists {here}. \
             Enter at the registrar those of the operator where you edit the zone."
        ),
        remark: format!("Resolvers may follow either list. The zone {} is the one above.", delegation.parent),
        evidence,
        ..Diagnosis::default()
    })
}

fn join(servers: &BTreeSet<DnsName>) -> String {
    servers.iter().map(DnsName::as_str).collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn both_lists_are_shown() {
        let host = "onswick.example";
        let mut survey = test::survey(host, &test::healthy(host));
        survey.zone = test::delegated(host, "example", &["ns1.tidewell.test", "ns1.harrowdns.example"]);
        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(test::codes(&found), ["delegation-mismatch"]);
        assert!(found[0].remedy.contains("Your registrar lists ns1.harrowdns.example, ns1.tidewell.test;"));
    }
}

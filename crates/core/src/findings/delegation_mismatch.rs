//! `delegation-mismatch`: registry and zone list different name servers.

use std::collections::BTreeSet;

use crate::finding::{Case, Diagnosis, Entry, Severity, Sighting};
use crate::gate::GateName;
use crate::reading::{RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: "delegation-mismatch",
    severity: Severity::Warning,
    gate: GateName::Ownership,
    about: "The name servers listed at the registrar are not those that the zone lists itself. An edit at \
            one operator may not be seen at the other.",
    yields_to: &["unreachable", "server-lame", "choices-mixed"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let delegation = case.survey.delegation()?;
    let zone = &case.sheet.zone;
    let (mut evidence, mut listed) = (Vec::new(), BTreeSet::new());
    for (source, record) in case.survey.held(zone, RecordType::Ns) {
        if let RecordData::Ns(server) = &record.data {
            listed.insert(server.clone());
            evidence.push(crate::finding::sighting(source, record));
        }
    }
    if listed.is_empty() || listed == delegation.servers {
        return None;
    }
    let above = |server: &String| Sighting {
        source: format!("the zone {}", delegation.parent),
        said: format!("{zone} NS {server}"),
        ttl: None,
    };
    evidence.extend(delegation.servers.iter().map(above));
    let join = |set: &BTreeSet<String>| set.iter().cloned().collect::<Vec<_>>().join(", ");
    let (here, there) = (join(&listed), join(&delegation.servers));
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

//! `delegation-mismatch`: registry and zone list different name servers.

use std::collections::BTreeSet;

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::delegation::{Delegation, Fault, ServerFault};
use crate::reading::record::{RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::DelegationMismatch,
    severity: Severity::Warning,
    gate: GateName::Ownership,
    about: "The name servers listed at the registrar, or their addresses, are not those that the zone lists itself. \
            An edit at one operator may not be seen at the other.",
    yields: Yields::To(&[Code::Unreachable, Code::ServerLame, Code::ChoicesMixed]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let delegation = case.survey.delegation()?;
    moved(case, delegation).or_else(|| other_names(case, delegation))
}

/// Servers that are listed under addresses which the zone itself does not have for them.
fn moved(case: &Case<'_>, delegation: &Delegation) -> Option<Diagnosis> {
    let faults = delegation.faults.iter().filter(|fault| matches!(fault.fault, Fault::Moved { .. }));
    let faults: Vec<&ServerFault> = faults.collect();
    faults.first()?;

    let changes = faults.iter().filter_map(|fault| match &fault.fault {
        Fault::Moved { listed, now } => {
            let now: Vec<_> = now.iter().map(ToString::to_string).collect();
            Some(format!("Change the address of {} from {listed} to {}.", fault.server, now.join(" and ")))
        }
        _ => None,
    });
    let changes: Vec<_> = changes.collect();
    let is_inner = delegation.parent.is_within(case.domain.host.registered());
    let where_to =
        if is_inner { format!("In the zone {}", delegation.parent) } else { "At your registrar".into() };
    Some(Diagnosis {
        remedy: format!(
            "{where_to}, the name servers of {} are listed under old addresses. {} Until then, some visitors are answered \
             by whatever is there. The records on the sheet are not at fault; keep them.",
            case.sheet.zone,
            changes.join(" ")
        ),
        remark:
            "What answers at the old addresses was left out of the judgement; the zone was read at its own."
                .into(),
        evidence: faults.iter().map(|fault| Sighting::new(&fault.server, fault.to_string())).collect(),
        ..Diagnosis::default()
    })
}

fn other_names(case: &Case<'_>, delegation: &Delegation) -> Option<Diagnosis> {
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
    use crate::reading::delegation::{Fault, ServerFault};
    use crate::reading::survey::ZoneView;
    use crate::test;

    #[test]
    fn a_server_that_has_moved_is_told_with_both_addresses_and_where_to_enter_them() {
        let host = "onswick.example";
        let mut survey = test::survey(host, &test::healthy(host));
        let fault = Fault::Moved { listed: [192, 0, 2, 53].into(), now: vec![[127, 53, 2, 1].into()] };
        if let ZoneView::Found { delegation: Some(delegation), .. } = &mut survey.zone {
            delegation.faults = vec![ServerFault { server: "ns1.onswick.example".into(), fault }];
        }
        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(test::codes(&found), ["delegation-mismatch"]);
        assert!(
            found[0].remedy.starts_with(
                "At your registrar, the name servers of onswick.example are listed under old addresses. Change the \
                 address of ns1.onswick.example from 192.0.2.53 to 127.53.2.1."
            ),
            "{}",
            found[0].remedy
        );
    }

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

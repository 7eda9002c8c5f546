//! `choices-mixed`: parts of two choices, where one whole choice is needed.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::todo;
use crate::name::dns::DnsName;
use crate::reading::record::{RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::ChoicesMixed,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The sheet offers choices, and parts of two of them are published: a CNAME beside addresses, or \
            the platform's name servers beside others.",
    yields: Yields::To(&[Code::AnswersVary, Code::ServersDisagree, Code::CnameAtApex]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    name_servers(case).or_else(|| alias_and_addresses(case))
}

/// Some of the name servers are the platform's and some are not.
fn name_servers(case: &Case<'_>) -> Option<Diagnosis> {
    let ours = &case.domain.ingress.name_servers;
    let delegation = case.survey.delegation().filter(|_| case.sheet.apex)?;
    let mine: Vec<_> = delegation.servers.intersection(ours).map(DnsName::as_str).collect();
    let others: Vec<_> = delegation.servers.difference(ours).map(DnsName::as_str).collect();
    if mine.is_empty() || others.is_empty() {
        return None;
    }

    let all: Vec<_> = ours.iter().map(DnsName::as_str).collect();
    Some(Diagnosis {
        remedy: format!(
            "Choose one: at your registrar, delete {} and keep the records at your own operator; or delete {} and \
             enter all of {}.",
            mine.join(" and "),
            others.join(" and "),
            all.join(" and ")
        ),
        remark: "Resolvers ask either operator, so answers change from one to the next.".into(),
        evidence: delegation.sightings(&case.sheet.zone),
        ..Diagnosis::default()
    })
}

/// A CNAME to the canonical host and addresses of the ingress at one name.
fn alias_and_addresses(case: &Case<'_>) -> Option<Diagnosis> {
    let mut has_alias = false;
    let mut has_address = false;
    for rtype in [RecordType::A, RecordType::Aaaa] {
        for (_, record) in case.survey.held(&case.sheet.routed, rtype) {
            match &record.data {
                RecordData::Cname(target) => has_alias |= *target == case.sheet.canonical,
                RecordData::A(address) => has_address |= case.is_of_ingress((*address).into()),
                RecordData::Aaaa(address) => has_address |= case.is_of_ingress((*address).into()),
                _ => {}
            }
        }
    }
    if !has_alias || !has_address {
        return None;
    }

    let edits = todo::routing(case);
    Some(Diagnosis {
        remedy: format!("{} The sheet offers one or the other, not both.", sentences(&edits)),
        remark: "A CNAME stands alone at its name (RFC 1034, section 3.6.2).".into(),
        evidence: case.host_sightings(|_| true),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn half_a_delegation_is_neither_choice() {
        let host = "onswick.example";
        let mut survey = test::survey(host, &test::healthy(host));
        survey.zone = test::delegated(host, "example", &["ns1.quaymark.example", "ns1.harrowdns.example"]);
        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(test::codes(&found), ["choices-mixed"]);
        assert!(found[0].remedy.contains("delete ns1.quaymark.example and keep"));
        assert!(found[0].remedy.contains("enter all of ns1.quaymark.example and ns2.quaymark.example"));
    }

    #[test]
    fn a_cname_beside_our_addresses_is_mixed() {
        let found = test::diagnose(
            "timetable.onswick.example",
            &["timetable CNAME onswick.edge.quaymark.example", "timetable A 127.77.0.10"],
        );
        assert_eq!(test::codes(&found), ["choices-mixed"]);
        assert!(found[0].remedy.contains("Delete the A record 127.77.0.10 at timetable."));
    }
}

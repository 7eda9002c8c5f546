//! `choices-mixed`: parts of two choices, where one whole choice is needed.

use crate::finding::{Case, Diagnosis, Entry, Severity, Sighting, sentences};
use crate::gate::GateName;
use crate::reading::{RecordData, RecordType};
use crate::todo;

pub(super) const ENTRY: Entry = Entry {
    code: "choices-mixed",
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The sheet offers choices, and parts of two of them are published: a CNAME beside addresses, or \
            the platform's name servers beside others.",
    yields_to: &["servers-disagree", "cname-at-apex"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    name_servers(case).or_else(|| alias_and_addresses(case))
}

/// Some of the name servers are the platform's and some are not.
fn name_servers(case: &Case<'_>) -> Option<Diagnosis> {
    let ours = &case.domain.ingress.name_servers;
    let delegation = case.survey.delegation().filter(|_| case.sheet.apex)?;
    let (mine, others): (Vec<&String>, Vec<&String>) =
        delegation.servers.iter().partition(|s| ours.contains(*s));
    if mine.is_empty() || others.is_empty() {
        return None;
    }
    let join = |list: &[&String]| list.iter().map(|s| s.as_str()).collect::<Vec<_>>().join(" and ");
    let zone = &case.sheet.zone;
    let sighted = |server: &String| Sighting {
        source: format!("the zone {}", delegation.parent),
        said: format!("{zone} NS {server}"),
        ttl: None,
    };
    Some(Diagnosis {
        remedy: format!(
            "Choose one: at your registrar, delete {} and keep the records at your own operator; or delete {} and \
             enter all of {}.",
            join(&mine),
            join(&others),
            join(&ours.iter().collect::<Vec<_>>())
        ),
        remark: "Resolvers ask either operator, so answers change from one to the next.".into(),
        evidence: delegation.servers.iter().map(sighted).collect(),
        ..Diagnosis::default()
    })
}

/// A CNAME to the canonical host and addresses of the ingress at one name.
fn alias_and_addresses(case: &Case<'_>) -> Option<Diagnosis> {
    let routed = &case.sheet.routed;
    let ingress = &case.domain.ingress;
    let held =
        || [RecordType::A, RecordType::Aaaa].into_iter().flat_map(|rtype| case.survey.held(routed, rtype));
    let any = |wanted: &dyn Fn(&RecordData) -> bool| held().any(|(_, r)| wanted(&r.data));
    let alias = any(&|d| matches!(d, RecordData::Cname(t) if *t == case.sheet.canonical));
    let address = any(&|d| match d {
        RecordData::A(a) => ingress.ipv4.contains(a),
        RecordData::Aaaa(a) => ingress.ipv6.contains(a),
        _ => false,
    });
    if !alias || !address {
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

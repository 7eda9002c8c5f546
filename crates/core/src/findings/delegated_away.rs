//! `delegated-away`: the name lies in a zone of its own, at other name servers.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, Sighting, sentences};
use crate::gate::GateName;
use crate::names;

pub(super) const ENTRY: Entry = Entry {
    code: "delegated-away",
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "NS records hand the name, or a name above it, to other name servers, so records beside them \
            in the customer's zone are never seen.",
    yields_to: &["unreachable"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let delegation = case.survey.delegation()?;
    let zone = &case.sheet.zone;
    // A cut at the registry is how every zone begins.
    let own = names::is_within(&delegation.parent, case.domain.host.registered());
    let begun = case.owners().0 > 0 || case.verdict() == crate::verdict::Verdict::Match;
    if !own || begun || case.owners().1 == 0 {
        return None;
    }
    let ns = |server: &String| crate::finding::Edit {
        host_field: names::relative(zone, &delegation.parent),
        ..case.edit(EditKind::Delete, "NS", zone, server.clone())
    };
    let edits: Vec<_> = delegation.servers.iter().map(ns).collect();
    let sighted = |server: &String| Sighting {
        source: format!("the zone {}", delegation.parent),
        said: format!("{zone} NS {server}"),
        ttl: None,
    };
    Some(Diagnosis {
        remedy: format!(
            "In the zone {}: {} They hand {zone} to other name servers, where the records on the sheet are \
             missing. If you manage {zone} there, publish the sheet there instead and keep them.",
            delegation.parent,
            sentences(&edits)
        ),
        remark: format!(
            "Records at or under {zone} in the zone {} are hidden by the cut.",
            delegation.parent
        ),
        evidence: delegation.servers.iter().map(sighted).collect(),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    #[test]
    fn a_cut_inside_the_customers_own_domain_is_named_with_its_records() {
        let mut survey = test::survey(HOST, &[]);
        survey.zone = test::delegated(HOST, "onswick.example", &["ns1.former.example"]);
        let found = test::judge(&test::domain(HOST), &survey);
        assert_eq!(test::codes(&found), ["delegated-away"]);
        let start = "In the zone onswick.example: Delete the NS record ns1.former.example at timetable.";
        assert!(found[0].remedy.starts_with(start), "{}", found[0].remedy);
    }

    #[test]
    fn a_zone_of_its_own_in_which_the_token_stands_is_no_trouble() {
        let mut survey = test::survey(HOST, &test::healthy(HOST));
        survey.zone = test::delegated(HOST, "onswick.example", &["ns1.harrowdns.example"]);
        let found = test::judge(&test::domain(HOST), &survey);
        assert!(!test::codes(&found).contains(&"delegated-away"));
    }
}

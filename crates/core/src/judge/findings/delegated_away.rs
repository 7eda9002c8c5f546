//! `delegated-away`: the name lies in a zone of its own, at other name servers.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{Edit, EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::name::dns::DnsName;
use crate::reading::delegation::Delegation;
use crate::reading::record::{RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::DelegatedAway,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "NS records hand the name, or a name above it, to other name servers, so records beside them \
            in the customer's zone are never seen.",
    yields: Yields::To(&[Code::Unreachable]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let delegation = case.survey.delegation()?;
    let zone = &case.sheet.zone;
    // A cut at the registry is how every zone begins.
    let is_inside = delegation.parent.is_within(case.domain.host.registered());
    let has_begun = case.owners.with > 0 || case.is_routed();
    if !is_inside || has_begun || case.owners.all == 0 {
        return None;
    }

    let above = &delegation.parent;
    let edits: Vec<_> = delegation.servers.iter().map(|server| cut(case, delegation, server)).collect();
    Some(Diagnosis {
        remedy: format!(
            "In the zone {above}: {} They hand {zone} to other name servers, where the records on the sheet are \
             missing. Then add there what the list has and {above} lacks. If you manage {zone} at those servers, \
             publish the sheet there instead and keep them.",
            sentences(&edits)
        ),
        remark: format!("Records at or under {zone} in the zone {above} are hidden by the cut."),
        evidence: delegation.sightings(zone),
        edits,
        ..Diagnosis::default()
    })
}

/// The edit that deletes one of the cut's records in the zone above.
fn cut(case: &Case<'_>, delegation: &Delegation, server: &DnsName) -> Edit {
    let zone = &case.sheet.zone;
    let value = case.sheet.value_field(&RecordData::Ns(server.clone()));
    Edit {
        host_field: zone.relative_to(&delegation.parent),
        ..case.edit(EditKind::Delete, RecordType::Ns.into(), zone, value)
    }
}

#[cfg(test)]
mod tests {
    use super::sentences;
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

        let list = sentences(&test::todo_of(&test::domain(HOST), &survey));
        assert_eq!(
            list.replace(test::token().txt_value().as_str(), "TOKEN"),
            "Delete the NS record ns1.former.example at timetable. \
             Add the TXT record TOKEN at _quaymark-challenge.timetable. \
             Add the CNAME record onswick.edge.quaymark.example at timetable."
        );
    }

    #[test]
    fn a_zone_of_its_own_in_which_the_token_stands_is_no_trouble() {
        let mut survey = test::survey(HOST, &test::healthy(HOST));
        survey.zone = test::delegated(HOST, "onswick.example", &["ns1.harrowdns.example"]);
        let found = test::judge(&test::domain(HOST), &survey);
        assert!(!test::codes(&found).contains(&"delegated-away"));
    }
}

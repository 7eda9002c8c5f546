//! `cname-beside-others`: other records stand where the CNAME goes.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences, sighting};
use crate::gate::GateName;
use crate::reading::RecordData;
use crate::sheet::Way;
use crate::todo;

pub(super) const ENTRY: Entry = Entry {
    code: "cname-beside-others",
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "Records of other types stand at the name. A CNAME stands alone (RFC 1034, section 3.6.2), so \
            editors refuse to add it, or servers hand out one or the other.",
    yields_to: &["servers-disagree", "cname-at-apex", "choices-mixed", "token-misplaced", "wrong-type"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    if case.sheet.apex || case.way() != Way::Cname {
        return None;
    }
    let routed = &case.sheet.routed;
    let held: Vec<_> = todo::AT_HOST
        .into_iter()
        .flat_map(|rtype| case.survey.held(routed, rtype))
        .filter(|(source, _)| !case.from_wildcard(source, routed))
        .collect();
    let is_alias = |data: &RecordData| matches!(data, RecordData::Cname(_));
    let is_address = |data: &RecordData| matches!(data, RecordData::A(_) | RecordData::Aaaa(_));
    let alias = held.iter().any(|(_, r)| is_alias(&r.data));
    // Addresses alone are another host's; that has a finding of its own.
    let beside = held.iter().any(|(_, r)| !is_alias(&r.data) && (alias || !is_address(&r.data)));
    let owned_elsewhere = held.iter().all(|(_, r)| is_alias(&r.data));
    if !beside || owned_elsewhere {
        return None;
    }
    let edits = todo::routing(case);
    if edits.iter().all(|e| e.kind == EditKind::Keep) && !alias {
        return None;
    }
    Some(Diagnosis {
        remedy: format!("{} A CNAME must be the only record at its name.", sentences(&edits)),
        remark: match case.domain.ingress.subdomain_addresses {
            true => {
                "If they must stay, the addresses on the sheet can be published instead of the CNAME.".into()
            }
            false => "If they must stay, the customer needs another name for the site.".into(),
        },
        evidence: held.iter().map(|(source, record)| sighting(source, record)).collect(),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    #[test]
    fn text_in_the_place_of_the_cname_goes_first() {
        let found = test::diagnose(HOST, &["timetable TXT checked=1"]);
        assert_eq!(test::codes(&found), ["cname-beside-others"]);
        assert!(found[0].remedy.starts_with(
            "Delete the TXT record \"checked=1\" at timetable. Add the CNAME record onswick.edge"
        ));
        assert!(found[0].remark.contains("addresses on the sheet can be published instead"));
    }

    #[test]
    fn a_server_that_hands_out_both_is_named_too() {
        let found = test::diagnose(
            HOST,
            &["timetable CNAME onswick.edge.quaymark.example", "timetable TXT checked=1"],
        );
        assert_eq!(test::codes(&found), ["cname-beside-others"]);
    }

    #[test]
    fn text_beside_addresses_is_no_trouble() {
        let zone =
            ["timetable TXT x", "timetable A 127.77.0.10", "timetable A 127.77.0.11", "timetable AAAA ::1"];
        assert!(test::diagnose(HOST, &zone).is_empty());
    }
}

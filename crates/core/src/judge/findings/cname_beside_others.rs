//! `cname-beside-others`: other records stand where the CNAME goes.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::judge::todo;
use crate::reading::record::{Record, RecordData};
use crate::sheet::line::Choice;

pub(super) const ENTRY: Entry = Entry {
    code: Code::CnameBesideOthers,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "Records of other types stand at the name. A CNAME stands alone (RFC 1034, section 3.6.2), so \
            editors refuse to add it, or servers hand out one or the other.",
    yields: Yields::To(&[
        Code::AnswersVary,
        Code::ServersDisagree,
        Code::CnameAtApex,
        Code::ChoicesMixed,
        Code::TokenMisplaced,
        Code::WrongType,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    if case.sheet.apex || case.choice() != Choice::Cname {
        return None;
    }
    // Mostly nothing is there at all, wherever it comes from.
    let is_other = |(_, record): (_, &Record)| !matches!(record.data, RecordData::Cname(_));
    let mut types = todo::AT_HOST.into_iter();
    if !types.any(|rtype| case.survey.held(&case.sheet.routed, rtype).any(is_other)) {
        return None;
    }

    let held: Vec<_> =
        todo::AT_HOST.into_iter().flat_map(|rtype| case.own(&case.sheet.routed, rtype)).collect();
    let has_alias = held.iter().any(|(_, record)| matches!(record.data, RecordData::Cname(_)));
    let is_beside = held.iter().any(|(_, record)| match record.data {
        RecordData::Cname(_) => false,
        // Addresses alone are another host's; that has a finding of its own.
        RecordData::A(_) | RecordData::Aaaa(_) => has_alias,
        _ => true,
    });
    if !is_beside {
        return None;
    }

    let edits = todo::routing(case);
    if !has_alias && edits.iter().all(|edit| edit.kind == EditKind::Keep) {
        return None;
    }

    Some(Diagnosis {
        remedy: format!("{} A CNAME must be the only record at its name.", sentences(&edits)),
        remark: if case.domain.ingress.subdomain_addresses {
            "If they must stay, the addresses on the sheet can be published instead of the CNAME.".into()
        } else {
            "If they must stay, the customer needs another name for the site.".into()
        },
        evidence: Sighting::of_all(&held),
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

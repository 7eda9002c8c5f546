//! `wrong-type`: the right value in a record of the wrong type.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::judge::todo;
use crate::name::dns::DnsName;
use crate::reading::record::{Record, RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::WrongType,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The value is the one on the sheet, but the wrong type was chosen in the editor: a target as \
            text or mail host, or addresses where only a CNAME will do.",
    yields: Yields::To(&[Code::AnswersVary, Code::ServersDisagree]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    if case.is_routed() {
        return None;
    }

    let routed = &case.sheet.routed;
    let types = [RecordType::Txt, RecordType::Mx, RecordType::Https, RecordType::A, RecordType::Aaaa];
    let wrong: Vec<_> = types
        .into_iter()
        .flat_map(|rtype| case.survey.held(routed, rtype))
        .filter(|(_, record)| is_mistyped(case, record))
        .collect();
    wrong.first()?;

    let mut edits = case.edit_records(EditKind::Delete, &wrong);
    edits.extend(todo::routing(case).into_iter().filter(|e| e.kind == EditKind::Add));
    Some(Diagnosis {
        remedy: format!("{} The value was right, the type was not.", sentences(&edits)),
        remark: "A value of the sheet was found under another type.".into(),
        evidence: Sighting::of_all(&wrong),
        edits,
        ..Diagnosis::default()
    })
}

fn is_mistyped(case: &Case<'_>, record: &Record) -> bool {
    let canonical = &case.sheet.canonical;
    let may_have_addresses = case.sheet.apex || case.domain.ingress.subdomain_addresses;

    match &record.data {
        RecordData::Txt(text) => {
            let text = text.to_text();
            let is_address = text.trim().parse().is_ok_and(|address| case.is_of_ingress(address));
            DnsName::new(text.trim()) == *canonical || is_address
        }
        RecordData::Mx { exchange, .. } => exchange == canonical,
        RecordData::A(address) => !may_have_addresses && case.is_of_ingress((*address).into()),
        RecordData::Aaaa(address) => !may_have_addresses && case.is_of_ingress((*address).into()),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn a_target_as_text_or_mail_host_is_told_from_other_text_and_mail() {
        let host = "timetable.onswick.example";
        for line in
            ["timetable TXT onswick.edge.quaymark.example.", "timetable MX 10 onswick.edge.quaymark.example"]
        {
            let found = test::diagnose(host, &[line]);
            assert_eq!(test::codes(&found), ["wrong-type"], "{line}");
            assert!(found[0].remedy.contains("Add the "), "{}", found[0].remedy);
        }
    }

    #[test]
    fn addresses_where_only_a_cname_will_do_are_of_the_wrong_type() {
        let host = "timetable.onswick.example";
        let mut domain = test::domain(host);
        domain.ingress.subdomain_addresses = false;
        let survey = test::survey(host, &["timetable A 127.77.0.10", "timetable A 127.77.0.11"]);
        let found = test::judge(&domain, &survey);
        assert_eq!(test::codes(&found), ["wrong-type"]);
        assert!(found[0].remedy.contains("Add the CNAME record onswick.edge.quaymark.example at timetable."));
    }
}

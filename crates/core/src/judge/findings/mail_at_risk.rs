//! `mail-at-risk`: the name takes mail, which a CNAME there would end.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::record::{RecordData, RecordType};
use crate::sheet::line::Choice;

pub(super) const ENTRY: Entry = Entry {
    code: Code::MailAtRisk,
    severity: Severity::Warning,
    gate: GateName::Routing,
    about: "Mail records stand at the name that is to show the site. A CNAME there would hide them, and \
            mail would be lost.",
    yields: Yields::To(&[Code::WrongType]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let routed = &case.sheet.routed;
    if case.sheet.apex || !case.has_mail(routed) || (case.is_routed() && !case.has_alias()) {
        return None;
    }

    let mail: Vec<_> = case
        .survey
        .held(routed, RecordType::Mx)
        .filter(|(_, r)| matches!(r.data, RecordData::Mx { .. }))
        .collect();
    let mut edits = case.edit_records(EditKind::Keep, &mail);
    edits.extend(case.sheet.by(Choice::Addresses).map(|line| case.publish(line)));

    let (severity, advice) = if case.sheet.by(Choice::Addresses).next().is_some() {
        (Severity::Warning, "Use these addresses, not a CNAME: a CNAME would end mail at this name.")
    } else {
        (Severity::Blocker, "A CNAME here would end mail at this name; choose another name for the site.")
    };

    Some(Diagnosis {
        severity: Some(severity),
        remedy: format!("{} {advice}", sentences(&edits)),
        remark: "The sheet prefers a CNAME, which must stand alone (RFC 1034, section 3.6.2).".into(),
        evidence: Sighting::of_all(&mail),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::judge::code::Code;
    use crate::judge::finding::Severity;
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    #[test]
    fn mail_at_the_name_asks_for_addresses_instead_of_a_cname() {
        let found = test::diagnose(HOST, &["timetable MX 10 mx.onswick.example"]);
        assert_eq!(test::codes(&found), ["mail-at-risk"]);
        assert_eq!(found[0].severity, Severity::Warning);
        let start = "Keep the MX record 10 mx.onswick.example at timetable. Add the A record 127.77.0.10";
        assert!(found[0].remedy.starts_with(start), "{}", found[0].remedy);
    }

    #[test]
    fn where_only_a_cname_will_do_another_name_is_needed() {
        let mut domain = test::domain(HOST);
        domain.ingress.subdomain_addresses = false;
        let survey = test::survey(HOST, &["timetable MX 10 mx.onswick.example"]);
        let found = test::judge(&domain, &survey);
        let mail = found.iter().find(|f| f.code == Code::MailAtRisk).expect("found");
        assert_eq!(mail.severity, Severity::Blocker);
    }

    #[test]
    fn mail_elsewhere_in_the_zone_or_beside_addresses_is_safe() {
        let mut zone = test::healthy(HOST);
        zone.push("@ MX 10 mx.onswick.example");
        assert!(test::diagnose(HOST, &zone).is_empty());
        let apex = ["@ MX 10 mx.onswick.example"];
        assert!(test::diagnose("onswick.example", &apex).is_empty());
    }
}

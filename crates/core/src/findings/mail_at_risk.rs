//! `mail-at-risk`: the name takes mail, which a CNAME there would end.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences, sighting};
use crate::gate::GateName;
use crate::reading::{RecordData, RecordType};
use crate::sheet::Way;

pub(super) const ENTRY: Entry = Entry {
    code: "mail-at-risk",
    severity: Severity::Warning,
    gate: GateName::Routing,
    about: "Mail records stand at the name that is to show the site. A CNAME there would hide them, and \
            mail would be lost.",
    yields_to: &["wrong-type"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let routed = &case.sheet.routed;
    if case.sheet.apex || !case.has_mail(routed) || (case.routed() && !has_alias(case)) {
        return None;
    }
    let mail: Vec<_> = case
        .survey
        .held(routed, RecordType::Mx)
        .filter(|(_, r)| matches!(r.data, RecordData::Mx { .. }))
        .collect();
    let mut edits: Vec<_> = mail.iter().map(|(_, r)| case.edit_record(EditKind::Keep, r)).collect();
    let allowed = case.sheet.ways(crate::sheet::Purpose::Routing).contains(&Way::Addresses);
    let (severity, advice) = if allowed {
        edits.extend(case.sheet.by(Way::Addresses).map(|line| case.publish(line)));
        (Severity::Warning, "Use these addresses, not a CNAME: a CNAME would end mail at this name.")
    } else {
        (Severity::Blocker, "A CNAME here would end mail at this name; choose another name for the site.")
    };
    Some(Diagnosis {
        severity: Some(severity),
        remedy: format!("{} {advice}", sentences(&edits)),
        remark: "The sheet prefers a CNAME, which must stand alone (RFC 1034, section 3.6.2).".into(),
        evidence: mail.iter().map(|(source, record)| sighting(source, record)).collect(),
        edits,
        ..Diagnosis::default()
    })
}

fn has_alias(case: &Case<'_>) -> bool {
    case.survey.authority_views().iter().any(|(_, view)| view.cname().is_some())
}

#[cfg(test)]
mod tests {
    use crate::finding::Severity;
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
        let mail = found.iter().find(|f| f.code == "mail-at-risk").expect("found");
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

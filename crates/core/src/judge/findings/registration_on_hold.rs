//! `registration-on-hold`: the domain is registered, and its registry keeps it out of DNS.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::RegistrationOnHold,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The domain is registered, and its registry keeps it out of DNS: it was not paid for, its owner was not \
            confirmed, or it is about to be deleted. No record in its zone is seen until that is settled.",
    yields: Yields::To(&[]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let registration = case.evidence.registration.as_ref()?;
    // What is served all the same is not held.
    if registration.holds.is_empty() || case.survey.apex().is_some() {
        return None;
    }

    let domain = &registration.domain;
    let whom = match &registration.registrar {
        Some(registrar) => format!("{registrar}, where it is registered,"),
        None => "the registrar".into(),
    };
    Some(Diagnosis {
        remedy: format!(
            "Ask {whom} why {domain} is on hold, and settle that: mostly a payment or a confirmation of its owner is \
             missing. Its records are not seen until then."
        ),
        remark: "The registry has the domain, and leaves it out of its zone.".into(),
        evidence: vec![Sighting::new("the registry", format!("status {}", registration.holds.join(", ")))],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::judge::evidence::Evidence;
    use crate::reading::registration::Registration;
    use crate::test;

    #[test]
    fn a_domain_that_is_held_is_not_said_to_be_unregistered() {
        let mut survey = test::survey("www.onswick.example", &[]);
        survey.zone = test::unregistered("onswick.example");
        let registration = Registration {
            domain: "onswick.example".into(),
            registrar: Some("Harrow Names".into()),
            expires_at: None,
            holds: vec!["client hold".into()],
            read_at: test::now(),
        };
        let evidence = Evidence { registration: Some(registration), ..Evidence::default() };
        let found = test::judge_by(&test::domain("www.onswick.example"), &survey, evidence);
        assert_eq!(test::codes(&found), ["registration-on-hold"]);
        assert!(
            found[0].remedy.starts_with("Ask Harrow Names, where it is registered,"),
            "{}",
            found[0].remedy
        );
    }
}

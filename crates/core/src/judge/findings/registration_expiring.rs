//! `registration-expiring`: the domain itself runs out soon.

use chrono::Duration;

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

/// Days left at which it is told, and at which it is more than a note: registries renew by
/// themselves where the owner lets them.
const NOTED: i64 = 30;
const PRESSING: i64 = 7;

pub(super) const ENTRY: Entry = Entry {
    code: Code::RegistrationExpiring,
    severity: Severity::Warning,
    gate: GateName::Ownership,
    about: "The registration of the domain runs out within 30 days, or has run out. Once it is gone, so is \
            everything under it; somebody else may register it then.",
    yields: Yields::To(&[Code::RegistrationOnHold, Code::NameUnregistered]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let registration = case.evidence.registration.as_ref()?;
    let end = registration.expires_at?;
    let left = end - case.now;
    if left > Duration::days(NOTED) {
        return None;
    }

    let domain = &registration.domain;
    let whom = registration.registrar.as_deref().unwrap_or("the registrar");
    let when = end.format("%Y-%m-%d");
    let what =
        if left < Duration::zero() { format!("ran out on {when}") } else { format!("runs out on {when}") };
    Some(Diagnosis {
        severity: (left > Duration::days(PRESSING)).then_some(Severity::Note),
        remedy: format!(
            "Renew {domain} with {whom}: its registration {what}. If it is renewed by itself there, see that the \
             payment goes through."
        ),
        remark: "Registrars renew many domains by themselves, some only days before the end.".into(),
        evidence: vec![Sighting::new(
            "the registry",
            format!("expiration {}", end.format("%Y-%m-%d %H:%M UTC")),
        )],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judge::evidence::Evidence;
    use crate::reading::registration::Registration;
    use crate::test;

    fn found(days: i64) -> Option<(Severity, String)> {
        let registration = Registration {
            domain: "onswick.example".into(),
            registrar: Some("Harrow Names".into()),
            expires_at: Some(test::now() + Duration::days(days)),
            holds: Vec::new(),
            read_at: test::now(),
        };
        let host = "timetable.onswick.example";
        let evidence = Evidence { registration: Some(registration), ..Evidence::default() };
        let survey = test::survey(host, &test::healthy(host));
        let found = test::judge_by(&test::domain(host), &survey, evidence);
        let one = found.into_iter().find(|finding| finding.code == Code::RegistrationExpiring)?;
        Some((one.severity, one.remedy))
    }

    #[test]
    fn it_is_noted_a_month_before_and_pressing_in_the_last_week() {
        assert_eq!(found(31), None);
        let (severity, remedy) = found(29).expect("noted");
        assert_eq!(severity, Severity::Note);
        assert!(
            remedy.starts_with("Renew onswick.example with Harrow Names: its registration runs out on"),
            "{remedy}"
        );
        assert_eq!(found(6).expect("pressing").0, Severity::Warning);
        assert!(found(-1).expect("over").1.contains("ran out on"));
    }
}

//! `certificate-expiring`: a certificate runs out soon, and nothing has
//! replaced it in time.

use chrono::Duration;

use crate::judge::case::Case;
use crate::judge::certificate::Origin;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

/// Days left at which it gets more urgent.
pub(super) const RUNGS: [i64; 4] = [1, 7, 14, 30];

pub(super) const ENTRY: Entry = Entry {
    code: Code::CertificateExpiring,
    severity: Severity::Warning,
    gate: GateName::Certificate,
    about: "The certificate runs out in less than 30, 14, 7 or 1 days, and its renewal is overdue; or it was \
            brought in, and a new one has to be.",
    yields: Yields::To(&[]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let held = case.held()?;
    let left = held.facts.not_after - case.now;
    let days = RUNGS.into_iter().find(|days| left <= Duration::days(*days))?;

    let lifetime = held.facts.not_after - held.facts.not_before;
    // A renewal has a tenth of the lifetime before anyone is told.
    let overdue = held.renew_at.is_some_and(|at| case.now > at + lifetime / 10);
    if held.origin == Origin::Ordered && !overdue {
        return None;
    }

    let host = &case.domain.host;
    let within = within(days);
    let end = held.facts.not_after.format("%Y-%m-%d %H:%M UTC");
    let (remedy, remark) = match held.origin {
        Origin::Brought => (
            format!("Bring a new certificate for {host}: this one runs out within {within} at {end}."),
            "It was brought in, so it is not renewed here.",
        ),
        Origin::Ordered => (
            format!(
                "Keep the records. The certificate of {host} runs out within {within} at {end}; the platform \
                 goes on trying to renew it."
            ),
            "Its renewal is overdue; the other findings and the last order say why.",
        ),
    };

    Some(Diagnosis {
        severity: (days == 30).then_some(Severity::Note),
        remedy,
        remark: remark.into(),
        evidence: vec![Sighting::new(
            "the certificate held",
            format!("serial {}, issued by {}", held.facts.serial, held.facts.issuer),
        )],
        ..Diagnosis::default()
    })
}

fn within(days: i64) -> String {
    if days == 1 { "a day,".into() } else { format!("{days} days,") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judge::certificate::Held;
    use crate::judge::evidence::Evidence;
    use crate::test;

    fn found(origin: Origin, left: Duration, renew_at: Option<Duration>) -> Option<(Severity, String)> {
        let host = "onswick.example";
        let now = test::now();
        let mut facts = test::certificate(host);
        (facts.not_before, facts.not_after) = (now + left - Duration::days(90), now + left);
        let held = Held { facts, origin, renew_at: renew_at.map(|d| now + d) };
        let evidence = Evidence { certificate: Some(held), ..Evidence::default() };
        let survey = test::survey(host, &test::healthy(host));
        let found = test::judge_by(&test::domain(host), &survey, evidence);
        found.into_iter().next().map(|f| (f.severity, f.remedy))
    }

    #[test]
    fn one_that_was_brought_in_gets_more_urgent_from_rung_to_rung() {
        assert_eq!(found(Origin::Brought, Duration::days(31), None), None);
        for (left, severity, words) in [
            (29, Severity::Note, "within 30 days"),
            (13, Severity::Warning, "within 14 days"),
            (6, Severity::Warning, "within 7 days"),
            (1, Severity::Warning, "within a day"),
        ] {
            let (got, remedy) = found(Origin::Brought, Duration::days(left), None).expect("found");
            assert_eq!(got, severity, "{left}");
            assert!(remedy.contains(words), "{left}: {remedy}");
        }
    }

    #[test]
    fn one_that_we_renew_is_told_of_once_that_is_overdue() {
        let month = Duration::days(29);
        assert_eq!(found(Origin::Ordered, month, Some(Duration::days(-1))), None);
        assert!(found(Origin::Ordered, month, Some(Duration::days(-10))).is_some());
    }
}

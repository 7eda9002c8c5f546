//! `claimed-twice`: two claims of one name are proved, and one of them holds it.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::moment::moment;
use crate::judge::sighting::Sighting;
use crate::judge::standing::{Contested, Phase, Standing};

pub(super) const ENTRY: Entry = Entry {
    code: Code::ClaimedTwice,
    severity: Severity::Warning,
    gate: GateName::Certificate,
    about: "Another claim of the same name is proved too. While both tokens stand a person rules; once the \
            holder's is gone, the name changes hands after a while.",
    yields: Yields::To(&[]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let (remedy, remark, severity) = match case.domain.ties.standing {
        Standing::Contested(contested) => {
            let (remedy, remark) = of_holder(case, contested);
            (remedy, remark, Severity::Warning)
        }
        Standing::Challenger(contested) => {
            let (remedy, remark) = of_challenger(case, contested);
            let is_next = contested.phase == Phase::Handover;
            (remedy, remark, if is_next { Severity::Note } else { Severity::Blocker })
        }
        Standing::Free | Standing::Holder | Standing::Behind => return None,
    };

    let phase = case.domain.ties.standing.contest()?.phase;
    Some(Diagnosis {
        severity: Some(severity),
        remedy,
        remark: remark.into(),
        evidence: vec![Sighting::new("the claims of this name", format!("the contest is at {phase}"))],
        ..Diagnosis::default()
    })
}

fn of_holder(case: &Case<'_>, contested: Contested) -> (String, &'static str) {
    let host = &case.domain.host;
    let at = case.sheet.host_field(&case.sheet.challenge);
    match contested.phase {
        Phase::Ruling => (
            format!(
                "Keep the TXT record of your sheet at {at}. Another claim of {host} is proved beside yours; the platform's staff rule whose the name is."
            ),
            "Both tokens stand. Rule on the contest.",
        ),
        Phase::Grace => {
            let until = contested.grace_ends_at.map(|at| moment(at, case.now)).unwrap_or_default();
            (
                format!(
                    "Add the TXT record of your sheet at {at} again by {until}. It is gone, and another claim of {host} is proved: after that the name goes over to it."
                ),
                "The holder's token is gone; the name changes hands when its time is up.",
            )
        }
        Phase::Handover => (
            format!(
                "The name {host} goes over to another claim as soon as that has its certificate. If it is yours, ask the platform's staff."
            ),
            "Decided for the challenger, whose certificate is awaited.",
        ),
    }
}

fn of_challenger(case: &Case<'_>, contested: Contested) -> (String, &'static str) {
    let host = &case.domain.host;
    match contested.phase {
        Phase::Ruling => (
            format!(
                "Keep the records. {host} is in use by another claim whose token stands in the zone too; delete that TXT record if it is no longer wanted, or wait for the platform's staff to rule."
            ),
            "Both tokens stand. Rule on the contest.",
        ),
        Phase::Grace => {
            let until = contested.grace_ends_at.map(|at| moment(at, case.now)).unwrap_or_default();
            (
                format!(
                    "Keep the records. {host} is still in use by another claim, which has until {until} to prove itself again."
                ),
                "The holder's token is gone; the name changes hands when its time is up.",
            )
        }
        Phase::Handover => (
            format!("Keep the records. {host} goes over to this claim once its certificate is there."),
            "Decided for this claim; the route is switched with its certificate.",
        ),
    }
}

#[cfg(test)]
mod tests {
    use chrono::Duration;

    use crate::judge::domain::{Domain, Ties};
    use crate::judge::finding::{Finding, Severity};
    use crate::judge::moment::moment;
    use crate::judge::standing::{Contested, Phase, Standing};
    use crate::test::{self, now};

    fn found(standing: impl Fn(Contested) -> Standing, phase: Phase) -> Finding {
        let host = "onswick.example";
        let contested = Contested { phase, grace_ends_at: Some(now() + Duration::hours(2)) };
        let ties = Ties { standing: standing(contested), ..Ties::default() };
        let domain = Domain { ties, ..test::domain(host) };
        let mut found = test::judge(&domain, &test::survey(host, &test::healthy(host)));
        assert_eq!(test::codes(&found), ["claimed-twice"]);
        found.remove(0)
    }

    #[test]
    fn each_side_is_told_what_to_do_in_each_phase() {
        let mut told = Vec::new();
        for phase in Phase::ALL {
            let holder = found(Standing::Contested, *phase);
            assert_eq!(holder.severity, Severity::Warning, "it goes on being served");
            let challenger = found(Standing::Challenger, *phase);
            assert_eq!(challenger.severity == Severity::Blocker, *phase != Phase::Handover);
            told.extend([holder.remedy, challenger.remedy]);
        }
        assert!(told[0].starts_with("Keep the TXT record of your sheet at _quaymark-challenge."));
        let until = moment(now() + Duration::hours(2), now());
        assert!(told[2].contains(&format!("again by {until}")), "{}", told[2]);
        told.sort();
        told.dedup();
        assert_eq!(told.len(), 6);
    }
}

//! `pair-incomplete`: one of two names is ready, and the other is not begun.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::PairIncomplete,
    severity: Severity::Note,
    gate: GateName::Routing,
    about: "The domain was taken in with and without www, and only one of the two is published: visitors \
            who type the other one do not arrive.",
    yields: Yields::To(&[Code::Stalled]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let pair = case.domain.pair.as_ref()?;
    if pair.has_begun() || !case.is_owned() || !case.is_routed() {
        return None;
    }

    let host = &case.domain.host;
    let other = &pair.other;
    Some(Diagnosis {
        remedy: format!(
            "{host} is published, {other} is not. Add what the sheet of {other} lists; keep everything here."
        ),
        remark: if pair.is_primary {
            format!("{other} would lead visitors to {host}.")
        } else {
            format!("{other} is the primary, so nothing can lead there yet.")
        },
        evidence: vec![Sighting::new("the latest look", format!("{other} is at {}", pair.other_stage))],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::judge::domain::Pair;
    use crate::judge::gate::GateName;
    use crate::judge::gate::Stage;
    use crate::test;

    fn found(lines: &[&str], other_stage: Stage) -> Vec<String> {
        let host = "onswick.example";
        let pair = Some(Pair {
            other: format!("www.{host}").into(),
            other_stage,
            is_primary: true,
            other_ready: false,
            other_late: false,
        });
        let domain = crate::judge::domain::Domain { pair, ..test::domain(host) };
        test::judge(&domain, &test::survey(host, lines)).into_iter().map(|f| f.code.to_string()).collect()
    }

    #[test]
    fn the_one_that_is_ready_tells_of_the_other() {
        let healthy = test::healthy("onswick.example");
        let waiting = Stage::At(GateName::Ownership);
        assert_eq!(found(&healthy, waiting), ["pair-incomplete"]);
        assert_eq!(found(&healthy, Stage::Live), [""; 0]);
        assert_eq!(found(&[], waiting), [""; 0], "while neither is begun, nothing is incomplete");
    }
}

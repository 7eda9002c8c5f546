//! `pair-incomplete`: one of two names is ready, and the other is not begun.

use crate::finding::{Case, Diagnosis, Entry, Severity, Sighting};
use crate::gate::{GateName, Stage};

pub(super) const ENTRY: Entry = Entry {
    code: "pair-incomplete",
    severity: Severity::Note,
    gate: GateName::Routing,
    about: "The domain was taken in with and without www, and only one of the two is published: visitors \
            who type the other one do not arrive.",
    yields_to: &["stalled"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let pair = case.domain.pair.as_ref()?;
    let begun = !matches!(pair.other_stage, Stage::At(GateName::Ownership | GateName::Routing));
    if begun || !case.owned() || !case.routed() {
        return None;
    }
    let (host, other) = (&case.domain.host, &pair.other);
    Some(Diagnosis {
        remedy: format!(
            "{host} is published, {other} is not. Add what the sheet of {other} lists; keep everything here."
        ),
        remark: match pair.is_primary {
            true => format!("{other} would lead visitors to {host}."),
            false => format!("{other} is the primary, so nothing can lead there yet."),
        },
        evidence: vec![Sighting {
            source: "the latest look".into(),
            said: format!("{other} is at {}", pair.other_stage),
            ttl: None,
        }],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::domain::Pair;
    use crate::gate::{GateName, Stage};
    use crate::test;

    fn found(lines: &[&str], other_stage: Stage) -> Vec<String> {
        let host = "onswick.example";
        let pair =
            Some(Pair { other: format!("www.{host}"), other_stage, is_primary: true, other_ready: false });
        let domain = crate::domain::Domain { pair, ..test::domain(host) };
        test::judge(&domain, &test::survey(host, lines)).into_iter().map(|f| f.code).collect()
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

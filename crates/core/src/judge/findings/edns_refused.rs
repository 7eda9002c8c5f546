//! `edns-refused`: a server does not answer questions with EDNS, and resolvers do
//! not cope with that.

use std::collections::BTreeSet;

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::answer::{Rcode, Reading};

pub(super) const ENTRY: Entry = Entry {
    code: Code::EdnsRefused,
    severity: Severity::Warning,
    gate: GateName::Routing,
    about: "A name server drops or turns away questions with EDNS (RFC 6891), which resolvers have sent for years. \
            Some ask again without it; others, and so their visitors, get no answer.",
    yields: Yields::To(&[Code::Unreachable]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let bare: BTreeSet<_> = case.survey.readings.iter().filter(|r| is_bare(r)).map(|r| &r.source).collect();
    let failing: Vec<&Reading> = case.survey.readings.iter().filter(|r| is_failing(case, r)).collect();
    if bare.is_empty() || failing.is_empty() {
        return None;
    }

    let servers: BTreeSet<_> = bare.iter().map(ToString::to_string).collect();
    let servers: Vec<_> = servers.into_iter().collect();
    let zone = &case.sheet.zone;
    Some(Diagnosis {
        remedy: format!(
            "Ask your DNS operator to have {} answer questions with EDNS, or move {zone} to servers that do. The records \
             on the sheet are not at fault; keep them.",
            servers.join(" and ")
        ),
        remark: "Asked without EDNS the same servers answer; resolvers that do not try that fail.".into(),
        evidence: failing.into_iter().take(6).map(Sighting::of_failure).collect(),
        ..Diagnosis::default()
    })
}

fn is_bare(reading: &Reading) -> bool {
    reading.source.is_authority() && reading.without_edns
}

/// A resolver that gets no answer for a name of the zone.
fn is_failing(case: &Case<'_>, reading: &Reading) -> bool {
    let is_vantage = !reading.source.is_authority() && !case.target.is_probe(&reading.name);
    is_vantage && reading.rcode() == Some(Rcode::ServFail) && reading.name.is_within(&case.sheet.zone)
}

#[cfg(test)]
mod tests {
    use crate::reading::answer::{Outcome, Rcode};
    use crate::test;

    #[test]
    fn it_is_told_only_where_a_resolver_does_not_cope() {
        let host = "onswick.example";
        let mut survey = test::survey_spread(host, &test::healthy(host), 2, 2);
        for reading in &mut survey.readings {
            reading.without_edns = reading.source.is_authority();
        }
        assert!(test::judge(&test::domain(host), &survey).is_empty(), "everyone copes");

        let failed = Outcome::Answer { rcode: Rcode::ServFail, authoritative: false, records: Vec::new() };
        let vantages = survey.readings.iter_mut().filter(|reading| !reading.source.is_authority());
        vantages.for_each(|reading| reading.outcome = failed.clone());
        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(test::codes(&found), ["edns-refused"], "and it explains whatever else fails");
        assert!(found[0].remedy.contains("have ns1.harrowdns.example (127.53.2.1) answer"));
    }
}

//! `servers-disagree`: some of the zone's servers hold the records, others not.

use crate::finding::{Case, Diagnosis, Entry, Severity, Sighting};
use crate::gate::GateName;
use crate::reading::{RecordData, RecordType, Source};
use crate::verdict::{self, Verdict};

pub(super) const ENTRY: Entry = Entry {
    code: "servers-disagree",
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The zone's name servers give different answers: what one has, another has not, or not yet.",
    yields_to: &["unreachable"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let expected = case.expected();
    let servers = || case.survey.sources().into_iter().filter(|s| s.is_authority());
    let owned = servers().map(|s| (s, verdict::ownership(case.sheet, case.survey, s)));
    let routed = servers().map(|s| (s, expected.routing(case.survey.host_view(s).as_ref())));
    let (gate, what, verdicts) = [
        (GateName::Ownership, "the token", owned.collect::<Vec<_>>()),
        (GateName::Routing, "the routing records", routed.collect()),
    ]
    .into_iter()
    .find(|(_, _, verdicts)| differ(verdicts))?;
    let with: Vec<_> = names(&verdicts, |v| v == Verdict::Match);
    let without = names(&verdicts, |v| !matches!(v, Verdict::Match | Verdict::Unreadable));
    let zone = &case.sheet.zone;
    Some(Diagnosis {
        gate: Some(gate),
        remedy: format!(
            "Nothing to change yet: {} has {what}, {} has not. Name servers of one zone copy from each other, \
             usually within minutes. If it lasts longer than an hour, ask your DNS operator why {zone} differs.",
            with.join(" and "),
            without.join(" and ")
        ),
        remark: remark(case),
        evidence: verdicts.iter().map(|(source, v)| sighting(source, *v)).collect(),
        ..Diagnosis::default()
    })
}

/// Only a difference that decides the gate counts: servers may well hand out
/// addresses in turn, or be wrong each in its own way.
fn differ(verdicts: &[(&Source, Verdict)]) -> bool {
    let any = |wanted: fn(Verdict) -> bool| verdicts.iter().any(|(_, v)| wanted(*v));
    any(|v| v == Verdict::Match) && any(|v| !matches!(v, Verdict::Match | Verdict::Unreadable))
}

fn names(verdicts: &[(&Source, Verdict)], wanted: impl Fn(Verdict) -> bool) -> Vec<String> {
    verdicts.iter().filter(|(_, v)| wanted(*v)).map(|(source, _)| source.to_string()).collect()
}

fn remark(case: &Case<'_>) -> String {
    let answers = case.survey.authority(&case.sheet.zone, RecordType::Soa);
    let serials: Vec<_> = answers
        .filter_map(|(source, records)| {
            let soa = records.iter().find_map(|r| match &r.data {
                RecordData::Soa(soa) => Some(soa.serial),
                _ => None,
            });
            Some(format!("{source} is at serial {}", soa?))
        })
        .collect();
    match serials.is_empty() {
        true => "No server told its serial.".into(),
        false => format!("{}. Equal serials mean that no copy is under way.", serials.join("; ")),
    }
}

fn sighting(source: &Source, verdict: Verdict) -> Sighting {
    let said = match verdict {
        Verdict::Match => "has it",
        Verdict::Unreadable => "gave no answer",
        _ => "does not have it",
    };
    Sighting { source: source.to_string(), said: said.into(), ttl: None }
}

#[cfg(test)]
mod tests {
    use crate::gate::GateName;
    use crate::test;

    #[test]
    fn the_gate_that_hangs_on_it_is_the_one_concerned() {
        let host = "onswick.example";
        for (lines, gate) in [(1, GateName::Routing), (0, GateName::Ownership)] {
            let mut survey = test::survey(host, &test::healthy(host));
            let mut held = test::healthy(host)[..lines].to_vec();
            held.extend(["@ SOA 6", "@ NS ns1.harrowdns.example"]);
            test::second(&mut survey, &held);
            let found = test::judge(&test::domain(host), &survey);
            assert_eq!((test::codes(&found), found[0].gate), (vec!["servers-disagree"], gate));
            assert!(
                found[0].remark.contains("at serial 7; ns2.harrowdns.example (127.53.2.2) is at serial 6")
            );
        }
    }

    #[test]
    fn servers_that_are_wrong_each_in_its_own_way_do_not_disagree() {
        let host = "onswick.example";
        let mut survey = test::survey(host, &["@ A 192.0.2.7"]);
        test::second(&mut survey, &["@ A 192.0.2.8", "@ NS ns1.harrowdns.example"]);
        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(test::codes(&found), ["address-foreign"]);
    }
}

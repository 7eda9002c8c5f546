//! `servers-disagree`: some of the zone's servers hold the records, others not.

use std::collections::BTreeSet;

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::judge::verdict::{self, Verdict};
use crate::name::hostname::Hostname;
use crate::reading::answer::Source;
use crate::reading::record::{RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::ServersDisagree,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The zone's name servers give different answers: what one has, another has not, or not yet.",
    yields: Yields::To(&[Code::Unreachable]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let Difference { gate, what, verdicts } = difference(case)?;
    let with = names(&verdicts, has_it);
    let without = names(&verdicts, lacks_it);
    Some(Diagnosis {
        gate: Some(gate),
        remedy: remedy(case, what, &with.join(" and "), &without.join(" and ")),
        remark: remark(case),
        evidence: verdicts.iter().map(|(source, v)| sighting(source, *v)).collect(),
        ..Diagnosis::default()
    })
}

/// The gate for which some servers have what others lack, where they copy from each other: it comes
/// by itself.
pub(crate) fn is_under_way(case: &Case<'_>) -> Option<GateName> {
    difference(case).map(|difference| difference.gate).filter(|_| providers(case).len() < 2)
}

/// What some servers have and others lack, and the gate that it is for.
struct Difference<'a> {
    gate: GateName,
    what: &'static str,
    verdicts: Vec<(&'a Source, Verdict)>,
}

fn difference<'a>(case: &'a Case<'_>) -> Option<Difference<'a>> {
    if case.servers.len() < 2 {
        return None;
    }
    let owned = case.servers.iter().map(|s| (*s, verdict::ownership(&case.sheet, case.survey, s)));
    let routed = case.servers.iter().map(|s| (*s, case.expected.routing(case.view_of(s))));

    let parts = [
        (GateName::Ownership, "the token", owned.collect::<Vec<_>>()),
        (GateName::Routing, "the routing records", routed.collect()),
    ];
    let (gate, what, verdicts) = parts.into_iter().find(|(_, _, verdicts)| differ(verdicts))?;
    Some(Difference { gate, what, verdicts })
}

/// Servers of one provider copy from each other; those of two, unless told so, do not, and an edit is
/// needed at both.
fn remedy(case: &Case<'_>, what: &str, with: &str, without: &str) -> String {
    let zone = &case.sheet.zone;
    let providers = providers(case);
    if providers.len() < 2 {
        return format!(
            "Nothing to change yet: {with} has {what}, {without} has not. Name servers of one zone copy from each \
             other, usually within minutes. If it lasts longer than an hour, ask your DNS operator why {zone} differs."
        );
    }
    format!(
        "{with} has {what}, {without} has not. The servers are in different domains ({}). Where different providers run \
         them and do not copy from each other, enter the records at each provider, or list the servers of one provider \
         only.",
        providers.into_iter().collect::<Vec<_>>().join(", ")
    )
}

/// The registered domains that the zone's name servers are in.
fn providers(case: &Case<'_>) -> BTreeSet<String> {
    let servers = case.servers.iter().filter_map(|source| match source {
        Source::Authority { server, .. } => Some(Hostname::kept(server.as_str()).registered().to_owned()),
        Source::Vantage { .. } => None,
    });
    servers.collect()
}

/// Only a difference that decides the gate counts: servers may well hand out
/// addresses in turn, or be wrong each in its own way.
fn differ(verdicts: &[(&Source, Verdict)]) -> bool {
    !names(verdicts, has_it).is_empty() && !names(verdicts, lacks_it).is_empty()
}

fn has_it(verdict: Verdict) -> bool {
    verdict == Verdict::Match
}

fn lacks_it(verdict: Verdict) -> bool {
    !matches!(verdict, Verdict::Match | Verdict::Unreadable)
}

fn names(verdicts: &[(&Source, Verdict)], wanted: fn(Verdict) -> bool) -> Vec<String> {
    verdicts.iter().filter(|(_, v)| wanted(*v)).map(|(source, _)| source.to_string()).collect()
}

fn remark(case: &Case<'_>) -> String {
    let mut serials = Vec::new();
    for (source, records) in case.survey.authority(&case.sheet.zone, RecordType::Soa) {
        for record in records {
            if let RecordData::Soa(soa) = &record.data {
                serials.push(format!("{source} is at serial {}", soa.serial));
            }
        }
    }

    if serials.is_empty() {
        return "No server told its serial.".into();
    }
    format!("{}. Equal serials mean that no copy is under way.", serials.join("; "))
}

fn sighting(source: &Source, verdict: Verdict) -> Sighting {
    let said = match verdict {
        Verdict::Match => "has it",
        Verdict::Unreadable => "gave no answer",
        _ => "does not have it",
    };
    Sighting::new(source, said)
}

#[cfg(test)]
mod tests {
    use crate::judge::gate::GateName;
    use crate::reading::answer::Source;
    use crate::reading::survey::Survey;
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
    fn servers_of_different_providers_are_not_said_to_copy_from_each_other() {
        let host = "onswick.example";
        let mut survey = test::survey(host, &test::healthy(host));
        test::second(&mut survey, &["@ SOA 6", "@ NS ns1.harrowdns.example"]);
        let told = |survey: &Survey| test::judge(&test::domain(host), survey).remove(0).remedy;
        assert!(told(&survey).contains("copy from each other, usually within minutes"));

        let other = Source::Authority { server: "ns1.tidewell.test".into(), address: [127, 53, 2, 2].into() };
        let second = survey.readings.iter_mut().filter(|reading| reading.source == test::authority(2));
        second.for_each(|reading| reading.source = other.clone());
        let told = told(&survey);
        assert!(told.contains("different domains (harrowdns.example, tidewell.test)"), "{told}");
        assert!(told.contains("enter the records at each provider"), "{told}");
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

//! `answers-vary`: by turns or by region, visitors are led elsewhere.
//!
//! The platform's own addresses by turns are right. Anybody else's among them are not, however
//! seldom: the certification authority may be given them as well as a visitor.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::judge::variation::{is_part_of, listed};
use crate::reading::record::{RecordData, RecordType};
use crate::reading::view::HostView;

pub(super) const ENTRY: Entry = Entry {
    code: Code::AnswersVary,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The zone's servers answer by turns, by weight or by the visitor's region, and somebody else's address \
            is among the answers, so that some visitors, and perhaps the certification authority, are led there.",
    yields: Yields::To(&[Code::Unreachable, Code::DnssecBroken, Code::NameUnanswered]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    by_turns(case).or_else(|| by_region(case))
}

fn by_turns(case: &Case<'_>) -> Option<Diagnosis> {
    let variation = &case.variation;
    let is_wildcards =
        case.servers.iter().any(|server| case.is_from_wildcard(server, &case.sheet.routed, RecordType::A));
    if !variation.by_turns || is_wildcards {
        return None;
    }
    let foreign = variation.foreign_by_turns(&case.domain.ingress, &case.sheet.canonical);
    if foreign.is_empty() {
        return None;
    }

    let ours = variation.handed_out.iter().filter(|data| !foreign.contains(data));
    let also = if foreign.len() < variation.handed_out.len() {
        format!(", beside {}", listed(ours))
    } else {
        String::new()
    };
    let at = case.sheet.host_field(&case.sheet.routed);
    // Whatever is deleted there takes all that it made with it.
    let edits: Vec<_> = case.sheet.by(case.choice()).map(|line| case.publish(line)).collect();
    Some(Diagnosis {
        remedy: format!(
            "At {at}, the name servers hand out {}{also}, by turns. Look in your DNS editor for what does that: a pool \
             with weights, a failover, or an alias at {at}. Take everything but the platform's addresses out of it; or \
             delete it, and in its place: {}",
            listed(foreign.iter().copied()),
            sentences(&edits)
        ),
        remark: "Seen in turn over the last checks, at the zone's own servers. What a generator makes is no record that \
                 an editor shows."
            .into(),
        evidence: case.host_sightings(|data| !matches!(data, RecordData::Other(_))),
        edits,
        ..Diagnosis::default()
    })
}

fn by_region(case: &Case<'_>) -> Option<Diagnosis> {
    let foreign: Vec<_> =
        case.variation.foreign_by_region(&case.domain.ingress, &case.sheet.canonical).collect();
    let leads_here = |view: &HostView| is_part_of(view, &case.domain.ingress);
    let is_right_here = case.is_routed() || case.views.iter().all(|(_, view)| leads_here(view));
    if foreign.is_empty() || !is_right_here {
        return None;
    }

    let each = foreign.iter().map(|(source, data)| {
        if data.is_empty() {
            format!("{source} is told that nothing stands there")
        } else {
            format!("{source} gets {}", listed(data))
        }
    });
    let each: Vec<_> = each.collect();
    let at = case.sheet.host_field(&case.sheet.routed);
    Some(Diagnosis {
        remedy: format!(
            "At {at}, the name servers give other answers elsewhere: {}, while the records on the sheet are given here. \
             Look in your DNS editor for a rule by region or by network at {at}, and have it give the records on the \
             sheet everywhere.",
            each.join("; ")
        ),
        remark: "The zone's servers have said otherwise here for longer than a resolver may hold an answer, so it is no \
                 older answer that these vantages give."
            .into(),
        evidence: foreign
            .iter()
            .map(|(source, data)| Sighting::new(source, format!("{} {}", case.sheet.routed, listed(data))))
            .collect(),
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use chrono::Duration;

    use crate::judge::finding::Finding;
    use crate::reading::record::{RecordData, RecordType};
    use crate::reading::survey::Survey;
    use crate::test;

    const HOST: &str = "onswick.example";
    const PROOF: &str = "_quaymark-challenge TXT token=u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h";

    /// A zone whose servers name the ingress for longer than a resolver may hold anything, while a
    /// vantage is told of nothing there.
    fn unlike_a_region() -> Survey {
        let mut before: Option<Survey> = None;
        for minutes in [0, 2, 4] {
            let mut survey = test::survey_spread(HOST, &test::healthy(HOST), 1, 1);
            survey.at = test::now() + Duration::minutes(minutes);
            for rtype in [RecordType::A, RecordType::Aaaa] {
                survey.readings.push(test::seen("north", HOST, rtype, &[]));
            }
            survey.remember(before.as_ref());
            before = Some(survey);
        }
        before.expect("a survey")
    }

    /// A zone whose server hands these addresses out by turns, one at a time, beside the IPv6 one.
    fn by_turns(addresses: &[&str]) -> Survey {
        let of =
            |address: &str| test::survey(HOST, &[PROOF, &format!("@ A {address}"), "@ AAAA ::1", "@ SOA 7"]);
        let mut survey = of(addresses[0]);
        for address in addresses.iter().chain(addresses) {
            let readings = of(address).readings.into_iter();
            survey.samples.extend(readings.filter(|r| r.name == HOST && r.rtype == RecordType::A));
        }
        survey.remember(None);
        survey
    }

    fn found(survey: &Survey) -> Vec<Finding> {
        test::judge(&test::domain(HOST), survey)
    }

    #[test]
    fn nothing_is_said_of_servers_that_are_not_to_be_found_now() {
        let before = unlike_a_region();
        assert_eq!(test::codes(&found(&before)), ["answers-vary"]);

        for (zone, code) in
            [(test::unregistered(HOST), "name-unregistered"), (test::unreachable(HOST, "ns1"), "unreachable")]
        {
            let mut survey = test::survey(HOST, &[]);
            survey.zone = zone;
            survey.readings.retain(|reading| !reading.source.is_authority());
            survey.remember(Some(&before));
            assert_eq!(test::codes(&found(&survey)), [code]);
            // What is found again later is not what was handed out before it was registered anew.
            assert_eq!(survey.recent.is_empty(), code == "name-unregistered");
        }
    }

    #[test]
    fn our_own_addresses_by_turns_are_right() {
        assert_eq!(found(&by_turns(&["127.77.0.10", "127.77.0.11"])), []);
    }

    #[test]
    fn somebody_elses_among_them_is_named_whichever_came_last_and_nothing_else_is_said() {
        let orders =
            [["127.77.0.10", "192.0.2.7", "127.77.0.11"], ["192.0.2.7", "127.77.0.11", "127.77.0.10"]];
        let told = orders.map(|addresses| {
            let found = found(&by_turns(&addresses));
            assert_eq!(test::codes(&found), ["answers-vary"]);
            found[0].remedy.clone()
        });
        assert_eq!(told[0], told[1]);
        assert!(
            told[0].contains("hand out A 192.0.2.7, beside A 127.77.0.10, A 127.77.0.11, AAAA ::1, by turns")
        );
        assert!(!told[0].contains("Delete the A record"), "{}", told[0]);
    }

    #[test]
    fn what_takes_the_generators_place_is_the_same_whichever_answer_came_last() {
        let list = |addresses: &[&str]| {
            let edits = test::todo_of(&test::domain(HOST), &by_turns(addresses)).into_iter();
            edits.map(|edit| format!("{} {}", edit.kind, edit.value)).collect::<Vec<_>>()
        };
        let wanted = ["add 127.77.0.10", "add 127.77.0.11", "add ::1"];
        assert_eq!(list(&["127.77.0.10", "192.0.2.7"]), wanted);
        assert_eq!(list(&["192.0.2.7", "127.77.0.11", "127.77.0.10"]), wanted);
    }

    #[test]
    fn a_former_hosts_addresses_by_turns_are_one_finding_too() {
        let found = found(&by_turns(&["192.0.2.7", "192.0.2.8"]));
        assert_eq!(test::codes(&found), ["answers-vary"]);
        let list = test::todo_of(&test::domain(HOST), &by_turns(&["192.0.2.7", "192.0.2.8"]));
        assert!(list.iter().all(|edit| !edit.value.starts_with("192.0.2.")), "{list:?}");
    }

    #[test]
    fn a_region_that_is_led_elsewhere_is_told_once_it_is_no_older_answer() {
        let mut before: Option<Survey> = None;
        let mut told = Vec::new();
        for minutes in [0, 2, 4, 6] {
            let mut survey = test::survey_spread(HOST, &test::healthy(HOST), 1, 1);
            survey.at = test::now() + Duration::minutes(minutes);
            for (rtype, data) in [
                (RecordType::A, RecordData::A([192, 0, 2, 7].into())),
                (RecordType::Aaaa, RecordData::Aaaa("::1".parse().expect("an address"))),
            ] {
                survey.readings.push(test::seen("north", HOST, rtype, &[data]));
            }
            survey.remember(before.as_ref());
            told.push(test::codes(&found(&survey)).contains(&"answers-vary"));
            before = Some(survey);
        }
        assert_eq!(told, [false, true, true, true]);
        let told = found(&before.expect("a survey"));
        assert!(told[0].remedy.contains("north gets A 192.0.2.7"), "{}", told[0].remedy);
    }
}

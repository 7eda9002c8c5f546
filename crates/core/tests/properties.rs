//! What holds for every input, not only for those somebody thought of.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use chrono::Duration;
use nomenta_core::judge::behind::{Behind, Visit};
use nomenta_core::judge::canary::CanaryFetch;
use nomenta_core::judge::certificate::{CertificateFacts, Held, Origin};
use nomenta_core::judge::domain::Domain;
use nomenta_core::judge::evidence::{Evidence, OrderState, Probe, ProbeResult, Problem};
use nomenta_core::judge::gate::{GateName, GateState, Gates, Stage};
use nomenta_core::judge::load::Load;
use nomenta_core::judge::policy::Policy;
use nomenta_core::judge::schedule;
use nomenta_core::judge::step::{Action, step};
use nomenta_core::judge::verdict::{Expected, Verdict};
use nomenta_core::name::dns;
use nomenta_core::name::hostname::Hostname;
use nomenta_core::name::token::Token;
use nomenta_core::reading::answer::{Outcome, Rcode, Reading, Source};
use nomenta_core::reading::delegation::Delegation;
use nomenta_core::reading::record::{Record, RecordData, RecordType};
use nomenta_core::reading::survey::{Authority, Survey, ZoneView};
use nomenta_core::reading::target::Depth;
use nomenta_core::rehearsal::rehearse;
use nomenta_core::zonefile::text;
use nomenta_core::zonefile::{Fate, ZoneFile};
use proptest::collection::vec;
use proptest::prelude::*;

mod common;
use common::{ZONE, domain, platform, start};

const HOST: &str = "timetable.onswick.example";

/// Record data as a customer may publish it: often nearly right.
fn data() -> impl Strategy<Value = RecordData> {
    let token = Token::from_random([7; 20]).txt_value();
    prop_oneof![
        Just(RecordData::A([127, 77, 0, 10].into())),
        Just(RecordData::A([127, 77, 0, 11].into())),
        any::<u32>().prop_map(|bits| RecordData::A(Ipv4Addr::from(bits))),
        Just(RecordData::Aaaa(Ipv6Addr::LOCALHOST)),
        any::<u128>().prop_map(|bits| RecordData::Aaaa(Ipv6Addr::from(bits))),
        Just(RecordData::Cname("onswick.edge.quaymark.example".into())),
        "[a-z]{1,8}\\.example".prop_map(|name| RecordData::Cname(name.into())),
        Just(RecordData::Txt(token.into())),
        vec(any::<u8>(), 0..40).prop_map(|octets| RecordData::Txt(octets.into())),
        ("issue|issuewild|iodef", "[a-z.;= ]{0,20}").prop_map(|(tag, value)| RecordData::Caa {
            flags: 0,
            tag: tag.into(),
            value: value.into(),
        }),
    ]
}

fn outcome(owner: String) -> impl Strategy<Value = Outcome> {
    let rcode = prop_oneof![
        8 => Just(Rcode::NoError),
        2 => Just(Rcode::NxDomain),
        1 => Just(Rcode::ServFail),
        1 => Just(Rcode::Refused),
    ];
    let records = vec((data(), 0..600u32), 0..4);
    prop_oneof![
        8 => (rcode, records).prop_map(move |(rcode, list)| Outcome::Answer {
            rcode,
            authoritative: true,
            records: list
                .into_iter()
                .map(|(data, ttl)| Record { owner: owner.as_str().into(), ttl, data })
                .collect(),
        }),
        1 => Just(Outcome::Silence),
        1 => Just(Outcome::Guarded),
        1 => ".{0,10}".prop_map(|reason| Outcome::Garbled { reason }),
    ]
}

fn sources() -> [Source; 4] {
    let authority = |n: u8| Source::Authority {
        server: format!("ns{n}.harrowdns.example").into(),
        address: [127, 53, 2, n].into(),
    };
    let vantage = |name: &str| Source::Vantage { name: name.into() };
    [authority(1), authority(2), vantage("north"), vantage("south")]
}

fn survey(host: &'static str) -> impl Strategy<Value = Survey> {
    let name = Hostname::parse(host).expect("valid");
    let asked = domain(host).target(&platform()).questions(ZONE, Depth::Full);
    let each: Vec<_> = asked
        .into_iter()
        .flat_map(|q| sources().map(|source| (q.clone(), source)))
        .map(|(q, source)| {
            outcome(q.name.to_string())
                .prop_map(move |outcome| Reading::new(source.clone(), q.name.clone(), q.rtype, outcome, 1))
        })
        .collect();
    let server = Authority { name: "ns1.harrowdns.example".into(), address: [127, 53, 2, 1].into() };
    let zone = prop_oneof![
        8 => delegation().prop_map(move |delegation| ZoneView::Found {
            apex: ZONE.into(),
            servers: vec![server.clone()],
            delegation,
        }),
        1 => Just(ZoneView::Unregistered {
            registered: ZONE.into(),
            registry: "example".into(),
            server: "a.registry.example".into(),
        }),
        1 => Just(ZoneView::Unreachable { zone: ZONE.into(), tried: vec!["nobody".into()], delegation: None }),
    ];
    (zone, each).prop_map(move |(zone, readings)| Survey {
        host: name.clone(),
        at: start(),
        zone,
        readings,
        samples: Vec::new(),
        recent: Default::default(),
        followed: Vec::new(),
        cuts: Vec::new(),
        trust: None,
        signed: None,
        routed: host.into(),
        depth: Depth::Full,
    })
}

fn delegation() -> impl Strategy<Value = Option<Delegation>> {
    let parent = prop_oneof![Just("example"), Just(ZONE)];
    let server = prop_oneof![Just("ns1.quaymark.example"), Just("ns1.harrowdns.example")];
    let servers = proptest::collection::btree_set(server.prop_map(str::to_owned), 1..3);
    proptest::option::of((parent, servers).prop_map(|(parent, servers)| Delegation {
        parent: parent.into(),
        servers: servers.into_iter().map(Into::into).collect(),
        faults: Vec::new(),
    }))
}

fn facts() -> impl Strategy<Value = CertificateFacts> {
    let serial = prop_oneof![Just("5e71a1"), Just("beef")];
    let name = prop_oneof![Just(HOST), Just("other.example")];
    (serial, name, -30..90i64).prop_map(|(serial, name, days)| CertificateFacts {
        serial: serial.into(),
        issuer: "CN=Stampworks".into(),
        names: vec![name.into()],
        not_before: start() - Duration::days(60),
        not_after: start() + Duration::days(days),
    })
}

fn certificate() -> impl Strategy<Value = Held> {
    let origin = prop_oneof![Just(Origin::Ordered), Just(Origin::Brought)];
    (facts(), origin, proptest::option::of(-9..9i64)).prop_map(|(facts, origin, days)| Held {
        facts,
        origin,
        renew_at: days.map(|days| start() + Duration::days(days)),
    })
}

fn order() -> impl Strategy<Value = OrderState> {
    prop_oneof![
        Just(OrderState::None),
        Just(OrderState::Wanted),
        Just(OrderState::Open),
        (-600..600i64).prop_map(|seconds| OrderState::Refused {
            problem: Problem { detail: "no".into(), ..Problem::default() },
            retry_at: start() + Duration::seconds(seconds),
        }),
    ]
}

fn evidence() -> impl Strategy<Value = Evidence> {
    let address: IpAddr = [127, 77, 0, 10].into();
    let fetch = proptest::option::of(".{1,10}").prop_map(move |failure| CanaryFetch { address, failure });
    let probe = (proptest::option::of(facts()), proptest::option::of(".{1,10}")).prop_map(
        move |(served, tls_failure)| ProbeResult {
            address,
            served,
            tls_failure,
            redirect_failure: None,
            pair_failure: None,
        },
    );
    (
        proptest::option::of(survey(HOST)),
        proptest::option::of(vec(fetch.clone(), 0..3)),
        order(),
        proptest::option::of(certificate()),
        proptest::option::of(vec(probe, 0..3)),
        behind(vec(fetch, 0..3)),
    )
        .prop_map(|(survey, canary, order, certificate, probe, behind)| Evidence {
            survey,
            canary,
            order,
            certificate,
            probe: probe.map(|results| Probe { results, default_host: None }),
            behind,
            ..Evidence::default()
        })
}

fn behind(fronts: impl Strategy<Value = Vec<CanaryFetch>>) -> impl Strategy<Value = Behind> {
    (fronts, 0..4).prop_map(|(fronts, known)| {
        let visit = Visit { fronts, ..Visit::default() };
        match known {
            0 => Behind::Unasked,
            1 => Behind::Visited(visit),
            2 => Behind::Remembered(visit),
            _ => Behind::LeftAlone,
        }
    })
}

fn gates() -> impl Strategy<Value = Gates> {
    let state = prop_oneof![
        Just(GateState::Waiting),
        Just(GateState::Passed),
        Just(GateState::Blocked),
        Just(GateState::Lapsed),
    ];
    [state.clone(), state.clone(), state.clone(), state].prop_map(|states| {
        let mut gates = Gates::new(start() - Duration::hours(1));
        gates.0.iter_mut().zip(states).for_each(|(gate, state)| gate.state = state);
        gates
    })
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 512, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_hostname_never_panics_and_what_it_takes_is_sound(typed in ".{0,80}") {
        if let Ok(name) = Hostname::parse(&typed) {
            prop_assert!(name.as_str().len() <= 253);
            prop_assert!(name.as_str().split('.').all(|l| (1..=63).contains(&l.len())));
            prop_assert!(name.as_str().bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-' || b == b'.'));
            prop_assert_eq!(Hostname::parse(name.as_str()), Ok(name.clone()));
            prop_assert!(dns::is_within(name.as_str(), name.registered()));
        }
    }

    #[test]
    fn a_name_survives_every_way_of_pasting_it(labels in vec("[a-z][a-z0-9]{0,9}", 1..4), port in 1..65535u16) {
        let name = format!("{}.onswick.example", labels.join("."));
        for typed in [
            format!("https://{name}:{port}/a?b#c"),
            format!("  {}. ", name.to_uppercase()),
            format!("//{name}/"),
        ] {
            let parsed = Hostname::parse(&typed);
            prop_assert_eq!(parsed.as_ref().map(Hostname::as_str), Ok(name.as_str()));
        }
    }

    #[test]
    fn relative_hosts_lead_back_to_the_name(host in "[a-z]{1,9}(\\.[a-z]{1,9}){0,2}") {
        let name = format!("{host}.{ZONE}");
        let relative = dns::relative(&name, ZONE);
        prop_assert_eq!(format!("{relative}.{ZONE}"), name);
    }

    #[test]
    fn the_same_evidence_gives_the_same_answer(evidence in evidence(), gates in gates()) {
        let domain = Domain { gates, ..domain(HOST) };
        let judge = || step(&domain, &platform(), &evidence, &Policy::default(), start());
        let (one, two) = (judge(), judge());
        prop_assert_eq!(one.gates, two.gates);
        prop_assert_eq!(one.findings, two.findings);
        prop_assert_eq!(one.action, two.action);
        prop_assert_eq!(one.next_look, two.next_look);
    }

    #[test]
    fn no_gate_passes_without_its_evidence(evidence in evidence(), gates in gates()) {
        let domain = Domain { gates: gates.clone(), ..domain(HOST) };
        let policy = Policy::default();
        let outcome = step(&domain, &platform(), &evidence, &policy, start());
        let newly = |name| outcome.gates.passed(name) && !gates.passed(name);
        let token = RecordData::Txt(domain.token.txt_value().into());
        let sheet = domain.sheet(&platform(), &ZONE.into(), None);
        if newly(GateName::Ownership) {
            let survey = evidence.survey.as_ref().expect("a survey");
            let answers: Vec<_> = survey.authority(&sheet.challenge, RecordType::Txt).collect();
            prop_assert!(!answers.is_empty());
            let proof = RecordData::Cname(format!("{}.proof.quaymark.example", domain.token.as_str()).into());
            let proves = |r: &Record| r.data == token || r.data == proof;
            prop_assert!(answers.iter().all(|(_, rs)| rs.iter().any(proves)));
        }
        if newly(GateName::Routing) {
            let survey = evidence.survey.as_ref().expect("a survey");
            let expected = Expected::new(&sheet, &domain.ingress, survey);
            prop_assert!(!survey.authority_views().is_empty());
            for (_, view) in survey.authority_views() {
                prop_assert_eq!(expected.routing(Some(&view)), Verdict::Match);
            }
            prop_assert!(outcome.spread.is_none_or(|s| s + 1e-9 >= policy.quorum));
        }
        if newly(GateName::Certificate) {
            let held = evidence.certificate.as_ref().expect("a certificate");
            prop_assert!(held.covers(HOST, start()));
        }
        if newly(GateName::Serving) {
            let results = &evidence.probe.as_ref().expect("a probe").results;
            let held = evidence.certificate.as_ref().expect("a certificate");
            prop_assert!(!results.is_empty());
            prop_assert!(results.iter().all(|r| r.tls_failure.is_none()));
            prop_assert!(results.iter().all(|r| r.serial() == Some(held.facts.serial.as_str())));
        }
    }

    #[test]
    fn an_order_is_placed_only_after_a_preflight_that_passed(evidence in evidence(), gates in gates()) {
        let domain = Domain { gates, ..domain(HOST) };
        let outcome = step(&domain, &platform(), &evidence, &Policy::default(), start());
        if matches!(outcome.action, Some(Action::PlaceOrder { .. })) {
            prop_assert!(outcome.gates.passed(GateName::Ownership) && outcome.gates.passed(GateName::Routing));
            let fetches = evidence.canary.as_ref().expect("a canary");
            prop_assert!(!fetches.is_empty() && fetches.iter().all(|f| f.failure.is_none()));
            prop_assert!(!matches!(evidence.order, OrderState::Wanted | OrderState::Open));
        }
    }

    #[test]
    fn the_next_look_lies_ahead_and_within_bounds(
        age in 0..100_000_000i64, late in 0..10_000_000i64, strain in 0..10_000_000i64, stage in 0..5usize
    ) {
        let policy = Policy::default();
        let load = Load { late: Duration::seconds(late), strain: Duration::seconds(strain) };
        let moved_at = start() - Duration::seconds(age);
        let next = schedule::next_look(Stage::ALL[stage], moved_at, load, &policy, start());
        prop_assert!(start() + policy.look_first <= next.soonest && next.soonest <= next.due);
        prop_assert!(next.soonest <= start() + policy.look_most);
        prop_assert!(next.due <= start() + policy.look_most.max(policy.look_live));
    }

    #[test]
    fn order_ttl_and_speed_of_answers_never_count_as_a_change(evidence in evidence(), seed in any::<u64>()) {
        let Some(mut survey) = evidence.survey.clone() else { return Ok(()) };
        let before = survey.fingerprint();
        let pivot = usize::try_from(seed % 7).unwrap_or(0).min(survey.readings.len());
        survey.readings.rotate_left(pivot);
        for reading in &mut survey.readings {
            reading.rtt_ms += 5;
            if let Outcome::Answer { records, .. } = &mut reading.outcome {
                records.reverse();
                records.iter_mut().for_each(|r| r.ttl = r.ttl.saturating_sub(1));
            }
        }
        prop_assert_eq!(survey.fingerprint(), before);
    }

    #[test]
    fn a_survey_and_its_gates_survive_being_stored(survey in survey(HOST), gates in gates()) {
        let text = serde_json::to_string(&survey).expect("writes");
        prop_assert_eq!(serde_json::from_str::<Survey>(&text).expect("reads"), survey);
        let text = serde_json::to_string(&gates).expect("writes");
        prop_assert_eq!(serde_json::from_str::<Gates>(&text).expect("reads"), gates);
    }

    #[test]
    fn a_zone_text_never_panics_and_is_left_alone_when_told_to(text in zone_text()) {
        if let Ok(file) = ZoneFile::parse(&text, &ZONE.into()) {
            let same = file.amended(|_| Fate::Stays, &[], "");
            prop_assert_eq!(same.as_ref().map(ZoneFile::text), Ok(text.as_str()));
        }
    }

    #[test]
    fn whatever_goes_the_rest_of_a_zone_text_stays(text in zone_text(), gone in vec(any::<bool>(), 12)) {
        if let Ok(file) = ZoneFile::parse(&text, &ZONE.into()) {
            let is_gone = |index: usize| gone[index % gone.len()];
            // With the SOA goes the zone's name, and the TTL of what states none.
            let keeps_soa = (0..file.entries.len()).all(|i| !is_gone(i) || file.entries[i].record.data.type_name() != "SOA");
            let amended = file.amended(|index| if is_gone(index) { Fate::Gone } else { Fate::Stays }, &[], "");
            prop_assert!(amended.is_ok() || !keeps_soa, "{:?}", amended);
        }
    }

    #[test]
    fn a_rehearsal_never_panics_and_what_passes_once_needs_no_more(text in zone_text()) {
        let domain = domain(HOST);
        let again = |text: &str| rehearse(&domain, &platform(), &Policy::default(), text, start());
        if let Ok(done) = again(&text) && done.passes {
            let twice = again(&done.amended).expect("reads");
            prop_assert!(twice.passes);
            prop_assert_eq!(twice.amended, done.amended);
        }
    }

    #[test]
    fn what_is_written_as_zone_text_is_read_back(list in vec((data(), 0..600u32), 1..6)) {
        let owner = HOST.to_owned();
        let records: Vec<_> = list.into_iter().map(|(data, ttl)| Record { owner: owner.as_str().into(), ttl, data }).collect();
        let file = ZoneFile::parse(&text::lines(ZONE, &records), &ZONE.into()).expect("reads");
        prop_assert!(file.records().eq(&records), "{:?}", file);
    }

    #[test]
    fn a_text_is_the_same_however_it_is_split_into_strings(text in "[ -~]{1,300}", cut in 1..200usize) {
        let quoted = |part: &[u8]| {
            let part = String::from_utf8_lossy(part).replace('\\', "\\\\").replace('"', "\\\"");
            format!("\"{part}\"")
        };
        let strings: Vec<_> = text.as_bytes().chunks(cut).map(quoted).collect();
        let file = ZoneFile::parse(&format!("@ TXT ( {} )", strings.join("\n  ")), &ZONE.into()).expect("reads");
        prop_assert_eq!(&file.entries[0].record.data, &RecordData::Txt(text.into()));
    }
}

/// Lines as people write them: often nearly right.
fn zone_text() -> impl Strategy<Value = String> {
    let owner = prop_oneof![
        Just("@"),
        Just(""),
        Just("timetable"),
        Just("timetable.onswick.example"),
        Just("*"),
        Just("_quaymark-challenge.timetable"),
        Just("www"),
    ];
    let value = prop_oneof![
        Just("A 192.0.2.7".to_owned()),
        Just("AAAA 2001:db8::7".to_owned()),
        Just("CNAME timetable".to_owned()),
        Just("CNAME onswick.edge.quaymark.example.".to_owned()),
        Just("NS ns1.harrowdns.example.".to_owned()),
        Just("MX 10 mx".to_owned()),
        Just("SOA ns1 host ( 1 2 3\n 4 5 )".to_owned()),
        Just("SRV 1 2 3 x".to_owned()),
        "TXT \"[a-z;\\\\\" ]{0,9}\"?",
        "[A-Z]{1,5} [ -~]{0,12}",
    ];
    let line = (owner, proptest::option::of(0..600u32), value, "( ; [a-z]{0,5})?").prop_map(
        |(owner, ttl, value, comment)| {
            let ttl = ttl.map(|t| format!("{t} ")).unwrap_or_default();
            format!("{owner} {ttl}{value}{comment}\n")
        },
    );
    vec(line, 0..12).prop_map(|lines| lines.concat())
}

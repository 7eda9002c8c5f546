//! Values for tests: a made-up domain, and surveys written as zone lines.

use chrono::{DateTime, Duration, Utc};

use crate::domain::Domain;
use crate::evidence::{CertificateFacts, Evidence, OrderState};
use crate::finding::{Case, Finding};
use crate::findings;
use crate::gate::Gates;
use crate::hostname::Hostname;
use crate::ingress::{CanonicalHost, Ingress, Platform};
use crate::policy::Policy;
use crate::reading::{Outcome, Rcode, Reading, Record, RecordData, Source};
use crate::sheet::Sheet;
use crate::survey::{Authority, HostView, Survey, ZoneView, questions};
use crate::token::Token;

const ZONE: &str = "onswick.example";

pub fn now() -> DateTime<Utc> {
    DateTime::from_timestamp(1_790_000_000, 0).expect("in range")
}

pub fn platform() -> Platform {
    Platform { zone: "quaymark.example".into(), brand: "quaymark".into() }
}

pub fn ingress() -> Ingress {
    Ingress {
        name: "harbour".into(),
        revision: 1,
        ipv4: [[127, 77, 0, 10].into(), [127, 77, 0, 11].into()].into(),
        ipv6: ["::1".parse().expect("address")].into(),
        canonical: CanonicalHost::parse("{site}.edge.quaymark.example").expect("valid"),
    }
}

pub fn token() -> Token {
    Token::from_random([0xa7; 20])
}

pub fn policy() -> Policy {
    Policy { ca_identities: vec!["stampworks-ca.example".into()], ..Policy::default() }
}

pub fn domain(host: &str) -> Domain {
    Domain {
        host: Hostname::parse(host).expect("valid"),
        site: "onswick".into(),
        ingress: ingress(),
        token: token(),
        gates: Gates::new(now()),
        zone: ZONE.into(),
        fingerprint: None,
        quiet_looks: 0,
        enrolled_at: now(),
    }
}

pub fn sheet(host: &str) -> Sheet {
    domain(host).sheet(&platform(), ZONE)
}

pub fn certificate(host: &str) -> CertificateFacts {
    CertificateFacts {
        serial: "5e71a1".into(),
        issuer: "CN=Stampworks".into(),
        names: vec![host.into()],
        not_before: now(),
        not_after: now() + Duration::days(90),
    }
}

pub fn view(v4: &[&str], v6: &[&str]) -> HostView {
    let ipv4 = v4.iter().map(|a| a.parse().expect("address")).collect();
    let ipv6 = v6.iter().map(|a| a.parse().expect("address")).collect();
    HostView { cname: None, ipv4, ipv6 }
}

/// The zone lines that a customer with no trouble publishes.
pub fn healthy(host: &str) -> Vec<&'static str> {
    match host {
        "onswick.example" => vec![
            "_quaymark-challenge TXT token=u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h",
            "@ A 127.77.0.10",
            "@ A 127.77.0.11",
            "@ AAAA ::1",
        ],
        "www.onswick.example" => vec![
            "_quaymark-challenge.www TXT token=u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h",
            "www CNAME onswick.edge.quaymark.example",
        ],
        _ => vec![
            "_quaymark-challenge.timetable TXT token=u6t2pj5hu6t2pj5hu6t2pj5hu6t2pj5h",
            "timetable CNAME onswick.edge.quaymark.example",
        ],
    }
}

fn record(line: &str) -> Record {
    let (host, rest) = line.split_once(' ').expect("host");
    let (rtype, value) = rest.split_once(' ').expect("type");
    let owner = if host == "@" { ZONE.to_owned() } else { format!("{host}.{ZONE}") };
    let data = match rtype {
        "A" => RecordData::A(value.parse().expect("address")),
        "AAAA" => RecordData::Aaaa(value.parse().expect("address")),
        "CNAME" => RecordData::Cname(value.into()),
        "TXT" => RecordData::Txt(value.into()),
        "CAA" => {
            let (tag, value) = value.split_once(' ').expect("tag");
            RecordData::Caa { flags: 0, tag: tag.into(), value: value.into() }
        }
        other => panic!("no {other} in tests"),
    };
    Record { owner, ttl: 300, data }
}

fn authority() -> Source {
    Source::Authority { server: "ns1.harrowdns.example".into(), address: [127, 53, 2, 1].into() }
}

fn found() -> ZoneView {
    let server = Authority { name: "ns1.harrowdns.example".into(), address: [127, 53, 2, 1].into() };
    ZoneView::Found { apex: ZONE.into(), servers: vec![server] }
}

fn readings(host: &str, source: &Source, records: &[Record]) -> Vec<Reading> {
    let host = Hostname::parse(host).expect("valid");
    let asked = questions(&host, &platform().challenge_name(host.as_str()), ZONE);
    let answers = |name: &str, rtype: crate::reading::RecordType| {
        let fits = |r: &&Record| {
            let kind = r.data.type_name();
            r.owner == name && (kind == rtype.to_string() || kind == "CNAME")
        };
        records.iter().filter(fits).cloned().collect::<Vec<_>>()
    };
    asked
        .into_iter()
        .map(|q| Reading {
            source: source.clone(),
            outcome: Outcome::Answer {
                rcode: Rcode::NoError,
                authoritative: source.is_authority(),
                records: answers(&q.name, q.rtype),
            },
            name: q.name,
            rtype: q.rtype,
            rtt_ms: 1,
        })
        .collect()
}

/// A survey of `host` by one authority server that holds `lines`.
pub fn survey(host: &str, lines: &[&str]) -> Survey {
    survey_spread(host, lines, 0, 0)
}

/// As [`survey`], with `seeing` of `all` vantages that see the same and the
/// others that see nothing.
pub fn survey_spread(host: &str, lines: &[&str], seeing: usize, all: usize) -> Survey {
    let records: Vec<_> = lines.iter().map(|l| record(l)).collect();
    let mut read = readings(host, &authority(), &records);
    for index in 0..all {
        let source = Source::Vantage { name: format!("vantage-{index}") };
        let held = if index < seeing { &records[..] } else { &[] };
        read.extend(readings(host, &source, held));
    }
    let host = Hostname::parse(host).expect("valid");
    Survey { host, at: now(), zone: found(), readings: read }
}

/// A survey that nobody answered.
pub fn silent_survey(host: &str) -> Survey {
    let mut survey = survey(host, &[]);
    survey.readings.iter_mut().for_each(|r| r.outcome = Outcome::Silence);
    survey
}

pub fn unregistered(name: &str) -> ZoneView {
    ZoneView::Unregistered {
        registered: name.into(),
        registry: "example".into(),
        server: "a.registry.example (127.53.1.1)".into(),
    }
}

pub fn unreachable(zone: &str, tried: &str) -> ZoneView {
    ZoneView::Unreachable { zone: zone.into(), tried: vec![tried.into()] }
}

pub fn diagnose(host: &str, lines: &[&str]) -> Vec<Finding> {
    run(host, survey(host, lines), OrderState::None)
}

pub fn diagnose_with(host: &str, lines: &[&str], order: OrderState) -> Vec<Finding> {
    run(host, survey(host, lines), order)
}

pub fn diagnose_zone(host: &str, zone: ZoneView) -> Vec<Finding> {
    let host_name = Hostname::parse(host).expect("valid");
    let survey = Survey { host: host_name, at: now(), zone, readings: Vec::new() };
    run(host, survey, OrderState::None)
}

fn run(host: &str, survey: Survey, order: OrderState) -> Vec<Finding> {
    let (domain, policy, sheet) = (domain(host), policy(), sheet(host));
    let evidence = Evidence { order, ..Evidence::default() };
    let case = Case { domain: &domain, sheet: &sheet, survey: &survey, evidence: &evidence, policy: &policy };
    findings::diagnose(&case)
}

pub fn codes(found: &[Finding]) -> Vec<&str> {
    found.iter().map(|f| f.code.as_str()).collect()
}

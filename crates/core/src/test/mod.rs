//! Values for tests: a made-up domain, and surveys written as zone lines.

use std::net::IpAddr;

use chrono::{DateTime, Duration, Utc};

use crate::judge::case::Case;
use crate::judge::certificate::{CertificateFacts, Held, Origin};
use crate::judge::domain::{Domain, Ties};
use crate::judge::edit::Edit;
use crate::judge::evidence::{Evidence, OrderState, ProbeResult};
use crate::judge::finding::Finding;
use crate::judge::findings;
use crate::judge::gate::Gates;
use crate::judge::policy::Policy;
use crate::name::dns::{self, DnsName};
use crate::name::hostname::Hostname;
use crate::name::platform::Platform;
use crate::name::token::Token;
use crate::reading::answer::{Outcome, Rcode, Reading, Source};
use crate::reading::delegation::Delegation;
use crate::reading::record::{Record, RecordData, RecordType, Soa};
use crate::reading::survey::{Authority, Survey, ZoneView};
use crate::reading::target::Depth;
use crate::reading::view::HostView;
use crate::sheet::Sheet;
use crate::sheet::ingress::{CanonicalHost, Ingress};

const ZONE: &str = "onswick.example";

pub(crate) fn now() -> DateTime<Utc> {
    DateTime::from_timestamp(1_790_000_000, 0).expect("in range")
}

pub(crate) fn platform() -> Platform {
    Platform {
        zone: "quaymark.example".into(),
        brand: "quaymark".into(),
        proof_zone: Some("proof.quaymark.example".into()),
        acme_zone: Some("acme.quaymark.example".into()),
        dns_for_all: false,
        special_use: vec!["example".into(), "test".into()],
        reserved: Vec::new(),
    }
}

pub(crate) fn ingress() -> Ingress {
    Ingress {
        name: "harbour".into(),
        revision: 1,
        ipv4: [[127, 77, 0, 10].into(), [127, 77, 0, 11].into()].into(),
        ipv6: ["::1".parse().expect("address")].into(),
        canonical: CanonicalHost::parse("{site}.edge.quaymark.example").expect("valid"),
        name_servers: ["ns1.quaymark.example".into(), "ns2.quaymark.example".into()].into(),
        subdomain_addresses: true,
    }
}

pub(crate) fn token() -> Token {
    Token::from_random([0xa7; 20])
}

pub(crate) fn policy() -> Policy {
    Policy {
        ca_identities: vec!["stampworks-ca.example".into()],
        second_look: Duration::zero(),
        ..Policy::default()
    }
}

pub(crate) fn domain(host: &str) -> Domain {
    Domain {
        host: Hostname::parse(host).expect("valid"),
        site: "onswick".into(),
        ingress: ingress(),
        wildcard: false,
        token: token(),
        token_expires_at: now() + Duration::days(30),
        superseded: Vec::new(),
        mail_before: Vec::new(),
        moved_at: now(),
        gates: Gates::new(now()),
        zone: ZONE.into(),
        fingerprint: None,
        enrolled_at: now(),
        pair: None,
        ties: Ties::default(),
    }
}

pub(crate) fn sheet(host: &str) -> Sheet {
    domain(host).sheet(&platform(), &ZONE.into(), None)
}

pub(crate) fn certificate(host: &str) -> CertificateFacts {
    CertificateFacts {
        serial: "5e71a1".into(),
        issuer: "CN=Stampworks".into(),
        names: vec![host.into()],
        not_before: now(),
        not_after: now() + Duration::days(90),
    }
}

pub(crate) fn held(host: &str) -> Held {
    Held { facts: certificate(host), origin: Origin::Ordered, renew_at: None }
}

/// What one address serves.
pub(crate) fn probed(
    address: IpAddr,
    served: Option<CertificateFacts>,
    tls_failure: Option<&str>,
) -> ProbeResult {
    let tls_failure = tls_failure.map(str::to_owned);
    ProbeResult { address, served, tls_failure, redirect_failure: None, pair_failure: None }
}

pub(crate) fn view(v4: &[&str], v6: &[&str]) -> HostView {
    let ipv4 = v4.iter().map(|a| a.parse().expect("address")).collect();
    let ipv6 = v6.iter().map(|a| a.parse().expect("address")).collect();
    HostView { ipv4, ipv6, ..HostView::default() }
}

/// The zone lines that a customer with no trouble publishes.
pub(crate) fn healthy(host: &str) -> Vec<&'static str> {
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

pub(crate) fn record(line: &str) -> Record {
    let (host, rest) = line.split_once(' ').expect("host");
    let (rtype, value) = rest.split_once(' ').expect("type");
    let owner = if host == "@" { DnsName::new(ZONE) } else { DnsName::new(ZONE).child(host) };
    let data = match rtype {
        "A" => RecordData::A(value.parse().expect("address")),
        "AAAA" => RecordData::Aaaa(value.parse().expect("address")),
        "CNAME" => RecordData::Cname(value.into()),
        "NS" => RecordData::Ns(value.into()),
        "TXT" => RecordData::Txt(value.into()),
        "CAA" => {
            let (tag, value) = value.split_once(' ').expect("tag");
            RecordData::Caa { flags: 0, tag: tag.into(), value: value.into() }
        }
        "MX" => {
            let (preference, exchange) = value.split_once(' ').expect("preference");
            RecordData::Mx { preference: preference.parse().expect("number"), exchange: exchange.into() }
        }
        "HTTPS" => {
            let hints = value.split(' ').skip(1).map(|a| a.parse().expect("address")).collect();
            let target = DnsName::new(value.split(' ').next().unwrap_or("").trim_matches('.'));
            RecordData::Https { priority: 1, target, hints }
        }
        "SOA" => {
            let serial = value.parse().expect("serial");
            RecordData::Soa(Soa { serial, minimum: 60, ..Soa::default() }.into())
        }
        other => panic!("no {other} in tests"),
    };
    Record { owner, ttl: 300, data }
}

pub(crate) fn authority(number: u8) -> Source {
    Source::Authority {
        server: DnsName::new(format!("ns{number}.harrowdns.example")),
        address: [127, 53, 2, number].into(),
    }
}

fn found() -> ZoneView {
    delegated(ZONE, "example", &["ns1.harrowdns.example"])
}

/// A zone with one server that answers, delegated by `parent` to `servers`.
pub(crate) fn delegated(apex: &str, parent: &str, servers: &[&str]) -> ZoneView {
    let server = Authority { name: "ns1.harrowdns.example".into(), address: [127, 53, 2, 1].into() };
    let servers_above = servers.iter().map(DnsName::new).collect();
    let delegation = Delegation { parent: parent.into(), servers: servers_above, faults: Vec::new() };
    ZoneView::Found { apex: apex.into(), servers: vec![server], delegation: Some(delegation) }
}

/// What a vantage says about one name.
pub(crate) fn seen(vantage: &str, name: &str, rtype: RecordType, data: &[RecordData]) -> Reading {
    let record = |data: &RecordData| Record { owner: name.into(), ttl: 60, data: data.clone() };
    let records = data.iter().map(record).collect();
    let outcome = Outcome::Answer { rcode: Rcode::NoError, authoritative: false, records };
    Reading::new(Source::Vantage { name: vantage.into() }, name.into(), rtype, outcome, 1)
}

/// Answers as a name server gives them: a CNAME for every type, and wildcards
/// for names that nothing stands at or under (RFC 4592).
fn answers(records: &[Record], name: &str, rtype: RecordType) -> Vec<Record> {
    let exists = records.iter().any(|r| dns::is_within(&r.owner, name));
    let star = format!("*.{}", dns::parent(name));
    let fits = |r: &&Record| {
        let kind = r.data.type_name();
        (r.owner == name || (!exists && r.owner == star.as_str()))
            && (kind == rtype.as_str() || kind == "CNAME")
    };
    records.iter().filter(fits).map(|r| Record { owner: name.into(), ..r.clone() }).collect()
}

pub(crate) fn readings(host: &str, source: &Source, records: &[Record]) -> Vec<Reading> {
    readings_of(&domain(host), source, records)
}

fn readings_of(domain: &Domain, source: &Source, records: &[Record]) -> Vec<Reading> {
    let asked = domain.target(&platform()).questions(ZONE, Depth::Full);
    asked
        .into_iter()
        .map(|q| {
            let records = answers(records, &q.name, q.rtype);
            let authoritative = source.is_authority();
            let outcome = Outcome::Answer { rcode: Rcode::NoError, authoritative, records };
            Reading::new(source.clone(), q.name, q.rtype, outcome, 1)
        })
        .collect()
}

/// A survey of `host` by one authoritative server that holds `lines`.
pub(crate) fn survey(host: &str, lines: &[&str]) -> Survey {
    survey_spread(host, lines, 0, 0)
}

/// A survey of a domain of any kind.
pub(crate) fn survey_of(domain: &Domain, lines: &[&str]) -> Survey {
    let records: Vec<_> = lines.iter().map(|l| record(l)).collect();
    let readings = readings_of(domain, &authority(1), &records);
    let host = domain.host.clone();
    let routed = domain.routed();
    assembled(host, routed, readings)
}

/// As [`survey`], with `seeing` of `all` vantages that see the same and the
/// others that see nothing.
pub(crate) fn survey_spread(host: &str, lines: &[&str], seeing: usize, all: usize) -> Survey {
    let mut records: Vec<_> = lines.iter().map(|l| record(l)).collect();
    records.push(record("@ NS ns1.harrowdns.example"));
    records.push(record("@ SOA 7"));
    let mut read = readings(host, &authority(1), &records);
    for index in 0..all {
        let source = Source::Vantage { name: format!("vantage-{index}") };
        let held = if index < seeing { &records[..] } else { &[] };
        read.extend(readings(host, &source, held));
    }
    let host = Hostname::parse(host).expect("valid");
    let routed = DnsName::from(&host);
    assembled(host, routed, read)
}

fn assembled(host: Hostname, routed: DnsName, readings: Vec<Reading>) -> Survey {
    Survey {
        host,
        at: now(),
        zone: found(),
        readings,
        samples: Vec::new(),
        recent: Default::default(),
        followed: Vec::new(),
        cuts: Vec::new(),
        trust: None,
        signed: None,
        routed,
        depth: Depth::Full,
    }
}

/// Adds a second authoritative server that holds `lines`.
pub(crate) fn second(survey: &mut Survey, lines: &[&str]) {
    let records: Vec<_> = lines.iter().map(|l| record(l)).collect();
    survey.readings.extend(readings(survey.host.as_str(), &authority(2), &records));
}

/// A survey that nobody answered.
pub(crate) fn silent_survey(host: &str) -> Survey {
    let mut survey = survey(host, &[]);
    survey.readings.iter_mut().for_each(|r| r.outcome = Outcome::Silence);
    survey
}

pub(crate) fn unregistered(name: &str) -> ZoneView {
    ZoneView::Unregistered {
        registered: name.into(),
        registry: "example".into(),
        server: "a.registry.example (127.53.1.1)".into(),
    }
}

pub(crate) fn unreachable(zone: &str, tried: &str) -> ZoneView {
    ZoneView::Unreachable { zone: zone.into(), tried: vec![tried.into()], delegation: None }
}

pub(crate) fn diagnose(host: &str, lines: &[&str]) -> Vec<Finding> {
    judge(&domain(host), &survey(host, lines))
}

pub(crate) fn diagnose_with(host: &str, lines: &[&str], order: OrderState) -> Vec<Finding> {
    run_with(&domain(host), &survey(host, lines), order, findings::diagnose)
}

pub(crate) fn diagnose_zone(host: &str, zone: ZoneView) -> Vec<Finding> {
    let survey = Survey { zone, readings: Vec::new(), ..survey(host, &[]) };
    judge(&domain(host), &survey)
}

/// Judges a domain and a survey as they are.
pub(crate) fn judge(domain: &Domain, survey: &Survey) -> Vec<Finding> {
    run(domain, survey, findings::diagnose)
}

/// The customer's list for a zone that holds `lines`.
pub(crate) fn todo(host: &str, lines: &[&str]) -> Vec<Edit> {
    todo_of(&domain(host), &survey(host, lines))
}

/// The customer's list for a domain of any kind.
pub(crate) fn todo_of(domain: &Domain, survey: &Survey) -> Vec<Edit> {
    let list = |case: &Case<'_>| crate::judge::todo::list(case, &findings::diagnose(case));
    run(domain, survey, list)
}

/// What each vantage sees or holds.
pub(crate) fn waits(host: &str, survey: &Survey) -> Vec<crate::judge::waiting::Wait> {
    run(&domain(host), survey, crate::judge::waiting::waits)
}

/// Judges by what else was learned beside the survey.
pub(crate) fn judge_by(domain: &Domain, survey: &Survey, evidence: Evidence) -> Vec<Finding> {
    judge_under(domain, survey, evidence, &policy())
}

/// The same under another policy.
pub(crate) fn judge_under(
    domain: &Domain,
    survey: &Survey,
    evidence: Evidence,
    policy: &Policy,
) -> Vec<Finding> {
    run_by(domain, survey, evidence, policy, findings::diagnose)
}

/// What is told from a case in which nothing but the survey is known.
pub(crate) fn run<T>(domain: &Domain, survey: &Survey, then: impl Fn(&Case<'_>) -> T) -> T {
    run_by(domain, survey, Evidence::default(), &policy(), then)
}

fn run_with<T>(domain: &Domain, survey: &Survey, order: OrderState, then: impl Fn(&Case<'_>) -> T) -> T {
    run_by(domain, survey, Evidence { order, ..Evidence::default() }, &policy(), then)
}

fn run_by<T>(
    domain: &Domain,
    survey: &Survey,
    evidence: Evidence,
    policy: &Policy,
    then: impl Fn(&Case<'_>) -> T,
) -> T {
    then(&Case::new(domain, &platform(), survey, &evidence, policy, now()))
}

pub(crate) fn codes(found: &[Finding]) -> Vec<&str> {
    found.iter().map(|f| f.code.as_str()).collect()
}

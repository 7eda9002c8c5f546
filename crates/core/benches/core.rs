//! How fast the core reads and judges, beside what does a part of the same: names
//! beside the mapping alone, zone files beside a scanner that keeps nothing, and
//! whole judgements by the second. `cargo xtask bench core` runs it.

use std::fmt::Write as _;
use std::hint::black_box;
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use domain::base::iana::Class;
use domain::zonefile::inplace::Zonefile;
use nomenta_core::judge::domain::Domain;
use nomenta_core::judge::evidence::Evidence;
use nomenta_core::judge::policy::Policy;
use nomenta_core::judge::step::step;
use nomenta_core::name::dns::{self, DnsName};
use nomenta_core::name::hostname::Hostname;
use nomenta_core::name::token::Token;
use nomenta_core::reading::answer::{Outcome, Rcode, Reading, Source};
use nomenta_core::reading::delegation::Delegation;
use nomenta_core::reading::record::Record;
use nomenta_core::reading::survey::{Authority, Survey, ZoneView};
use nomenta_core::reading::target::Depth;
use nomenta_core::rehearsal::rehearse;
use nomenta_core::zonefile::ZoneFile;

#[path = "../tests/common/mod.rs"]
mod common;
use common::{ZONE, domain, platform, start};

/// As in the program itself.
#[global_allocator]
static ALLOCATOR: tikv_jemallocator::Jemalloc = tikv_jemallocator::Jemalloc;

const HOST: &str = "timetable.onswick.example";
/// Turns of each; the median counts.
const ROUNDS: usize = 9;
const NAMES: usize = 20_000;
const RECORDS: usize = 100_000;
const JUDGEMENTS: usize = 20_000;
const ADDRESSES: usize = 32_000;

fn main() {
    println!("Medians of {ROUNDS} rounds, turn about, on one core.\n");
    println!("| what | a second | beside | times as long | wanted at most |");
    println!("| --- | ---: | --- | ---: | ---: |");
    names("plain names", |n| format!("w{n}.lines.onswick.example"));
    names("names in their own script", |n| format!("fähre{n}.onswick.example"));
    zones("zone file, a line each", plain_zone());
    zones("zone file, in parentheses", grouped_zone());

    println!("\n| rehearsal of a host with | takes | times as long as of a quarter | linear |");
    println!("| --- | ---: | ---: | ---: |");
    rehearsals();

    println!("\n| judgement | a second on one core | wanted |");
    println!("| --- | ---: | ---: |");
    let token = Token::from_random([7; 20]).txt_value();
    let proof = format!("_quaymark-challenge.timetable TXT \"{token}\"\n");
    judgements("healthy", &format!("{proof}timetable CNAME onswick.edge.quaymark.example.\n"), "50,000");
    judgements(
        "three findings",
        "timetable A 192.0.2.7\ntimetable AAAA 2001:db8::7\n@ CAA 0 issue \"otherstamp-ca.example\"\n\
         _quaymark-challenge.timetable TXT \"token=aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\"\n",
        "",
    );
}

fn timed(work: &mut dyn FnMut()) -> Duration {
    let start = Instant::now();
    work();
    start.elapsed()
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

/// Does both by turns, and tells how much longer the first takes.
fn beside(
    what: &str,
    count: usize,
    other: &str,
    wanted: &str,
    own: &mut dyn FnMut(),
    theirs: &mut dyn FnMut(),
) {
    let (mut times, mut others) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        times.push(timed(own));
        others.push(timed(theirs));
    }

    let (time, other_time) = (median(times).as_secs_f64(), median(others).as_secs_f64());
    let a_second = count as f64 / time;
    println!("| {what} | {a_second:.0} | {other} | {:.2} | {wanted} |", time / other_time);
}

fn names(what: &str, name: fn(usize) -> String) {
    let names: Vec<_> = (0..NAMES).map(name).collect();
    let mut own = || {
        for name in &names {
            black_box(Hostname::parse(black_box(name)).expect("a name"));
        }
    };
    let mut mapping = || {
        for name in &names {
            black_box(idna::domain_to_ascii(black_box(name)).expect("a name"));
        }
    };
    beside(what, NAMES, "the mapping alone", "2", &mut own, &mut mapping);
}

fn head() -> String {
    format!(
        "$ORIGIN {ZONE}.\n$TTL 300\n@ IN SOA ns1 post 7 3600 600 86400 60\n@ IN NS ns1.harrowdns.example.\n"
    )
}

fn plain_zone() -> String {
    let mut text = head();
    for n in 0..RECORDS / 5 {
        let _ = writeln!(text, "w{n} 60 IN A 192.0.2.{}", n % 250);
        let _ = writeln!(text, "w{n} IN AAAA 2001:db8::{n:x}");
        let _ = writeln!(text, "v{n} IN CNAME w{n}.{ZONE}.");
        let _ = writeln!(text, "t{n} IN TXT \"v=spf1 include:mail{n}.example -all\"");
        let _ = writeln!(text, "m{n} IN MX 10 mail ; mail");
    }
    text
}

fn grouped_zone() -> String {
    let mut text = head();
    for n in 0..RECORDS / 2 {
        let _ = writeln!(text, "k{n}._domainkey IN TXT ( \"v=DKIM1; k=rsa; \"\n  \"p=AAAA{n}\" )");
        let _ = writeln!(text, "w{n} ( 60 IN A ; address\n 192.0.2.{} )", n % 250);
    }
    text
}

fn zones(what: &str, text: String) {
    let origin = DnsName::new(ZONE);
    let mut own = || {
        black_box(ZoneFile::parse(black_box(&text), &origin).expect("reads").entries.len());
    };
    let mut scanned = || {
        let mut file = Zonefile::from(text.as_str());
        file.set_origin(format!("{ZONE}.").parse().expect("a name"));
        file.set_default_class(Class::IN);
        while let Some(entry) = file.next_entry().expect("scans") {
            black_box(entry);
        }
    };
    beside(what, RECORDS, "a scanner that keeps nothing", "1.5", &mut own, &mut scanned);
}

/// What one server of the zone and two vantages answer to a whole survey.
fn survey(domain: &Domain, lines: &str, now: DateTime<Utc>) -> Survey {
    let file = ZoneFile::parse(&format!("{}{lines}", head()), &ZONE.into()).expect("reads");
    let server = Authority { name: "ns1.harrowdns.example".into(), address: [127, 53, 2, 1].into() };
    let sources = [
        Source::Authority { server: server.name.clone(), address: server.address },
        Source::Vantage { name: "north".into() },
        Source::Vantage { name: "south".into() },
    ];

    let target = domain.target(&platform());
    let mut readings = Vec::new();
    for source in sources {
        for question in target.questions(ZONE, Depth::Full) {
            let held = file.records().filter(|record| {
                let kind = record.data.type_name();
                record.owner == question.name && (kind == question.rtype.as_str() || kind == "CNAME")
            });
            let records: Vec<Record> = held.cloned().collect();
            let exists = file.records().any(|record| dns::is_within(&record.owner, &question.name));
            let rcode = if exists { Rcode::NoError } else { Rcode::NxDomain };
            let outcome = Outcome::Answer { rcode, authoritative: source.is_authority(), records };
            readings.push(Reading::new(source.clone(), question.name, question.rtype, outcome, 1));
        }
    }

    let servers = [server.name.clone()].into();
    let delegation = Some(Delegation { parent: "example".into(), servers, faults: Vec::new() });
    Survey {
        host: domain.host.clone(),
        at: now,
        zone: ZoneView::Found { apex: ZONE.into(), servers: vec![server], delegation },
        readings,
        samples: Vec::new(),
        recent: Default::default(),
        followed: Vec::new(),
        cuts: Vec::new(),
        trust: None,
        signed: None,
        routed: target.routed,
        depth: Depth::Full,
    }
}

/// A host with many addresses, all in the way, and with four times as many: if the
/// work is linear, it takes four times as long.
fn rehearsals() {
    let now = start();
    let (domain, platform, policy) = (domain(HOST), platform(), Policy::default());
    let mut times = Vec::new();
    for addresses in [ADDRESSES, 4 * ADDRESSES] {
        let mut text = head();
        for n in 0..addresses {
            let _ = writeln!(text, "timetable A 10.{}.{}.{}", n >> 16 & 255, n >> 8 & 255, n & 255);
        }
        let mut run = || {
            let done = rehearse(&domain, &platform, &policy, black_box(&text), now).expect("reads");
            assert!(done.passes);
        };
        times.push(median((0..3).map(|_| timed(&mut run)).collect()).as_secs_f64());
    }
    println!("| {} addresses | {:.2} s | {:.2} | 4 |", 4 * ADDRESSES, times[1], times[1] / times[0]);
}

fn judgements(what: &str, lines: &str, wanted: &str) {
    let now = start();
    let (domain, platform, policy) = (domain(HOST), platform(), Policy::default());
    let policy = Policy { ca_identities: vec!["stampworks-ca.example".into()], ..policy };
    let evidence = Evidence { survey: Some(survey(&domain, lines, now)), ..Evidence::default() };
    let found = step(&domain, &platform, &evidence, &policy, now).findings;

    let mut judge = || {
        for _ in 0..JUDGEMENTS {
            black_box(step(black_box(&domain), &platform, black_box(&evidence), &policy, now));
        }
    };
    let time = median((0..ROUNDS).map(|_| timed(&mut judge)).collect()).as_secs_f64();
    let codes: Vec<_> = found.iter().map(|finding| finding.code.as_str()).collect();
    println!("| {what} ({}) | {:.0} | {wanted} |", codes.join(", "), JUDGEMENTS as f64 / time);
}

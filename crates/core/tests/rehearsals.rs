//! Rehearsals of zones in many ways of writing, with every mistake: each amended
//! file loads, and holds the original's records with the list carried out and
//! nothing else changed, by the word of other servers' readers.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::thread;

use nomenta_core::judge::edit::{Edit, EditKind};
use nomenta_core::judge::policy::Policy;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::platform::Platform;
use nomenta_core::name::token::Token;
use nomenta_core::reading::record::Record;
use nomenta_core::rehearsal::{Rehearsal, rehearse};
use nomenta_core::zonefile::{self, text};

mod common;
use common::{ZONE, domain, start};

const CANONICAL: &str = "onswick.edge.quaymark.example";
/// An apex, a name below it, one deep below, every name under one, and one in its
/// own script.
const HOSTS: [&str; 5] = [
    ZONE,
    "timetable.onswick.example",
    "a.lines.onswick.example",
    "*.lines.onswick.example",
    "fähre.onswick.example",
];
const STYLES: usize = 30;
/// In a run of everything a part of them is enough; this meets every style, host
/// and mistake.
const STRIDE: usize = 13;

/// With a zone for the challenges of wildcards.
fn platform() -> Platform {
    Platform { acme_zone: Some("acme.quaymark.example".into()), ..common::platform() }
}

/// A record as it is to be written.
#[derive(Clone)]
struct Line {
    /// Absolute, without the final dot.
    owner: String,
    rtype: &'static str,
    /// Words of the value; strings have their quotation marks.
    words: Vec<String>,
}

fn line(owner: &str, rtype: &'static str, value: &str) -> Line {
    let mut words = Vec::new();
    let mut rest = value.trim();
    while !rest.is_empty() {
        let end = match rest.strip_prefix('"') {
            Some(inner) => 2 + closing(inner),
            None => rest.find(' ').unwrap_or(rest.len()),
        };
        words.push(rest[..end].to_owned());
        rest = rest[end..].trim_start();
    }
    Line { owner: owner.to_owned(), rtype, words }
}

/// Where a string ends, past escaped quotation marks.
fn closing(inner: &str) -> usize {
    let bytes = inner.as_bytes();
    let mut at = 0;
    while bytes[at] != b'"' {
        at += if bytes[at] == b'\\' { 2 } else { 1 };
    }
    at
}

/// What stands in the zone beside the domain.
fn others() -> Vec<Line> {
    let at = |host: &str| format!("{host}.{ZONE}");
    vec![
        line(ZONE, "NS", "ns1.harrowdns.example."),
        line(ZONE, "NS", "ns2.harrowdns.example."),
        line(ZONE, "MX", "10 mail.onswick.example."),
        line(ZONE, "TXT", "\"v=spf1 mx -all\""),
        line(&at("mail"), "A", "192.0.2.25"),
        line(&at("mail"), "AAAA", "2001:db8::25"),
        line(&at("k1._domainkey"), "TXT", "\"v=DKIM1; k=rsa; \" \"p=AAAA\\\"\\\\B(x)\" \";end\""),
        line(&at("_sip._tcp"), "SRV", "1 2 5060 sip.onswick.example."),
        line(&at("sip"), "A", "192.0.2.30"),
        line(&at("old"), "CNAME", "sites.formerhost.example."),
        line(&at("printer"), "LOC", "52 22 23.000 N 4 53 32.000 E -2.00m 0.00m 10000m 10m"),
    ]
}

/// The mistakes, each by number, for the place where routing stands and the host
/// without its asterisk.
fn mistake(number: usize, routed: &str, host: &str) -> Option<Vec<Line>> {
    let is_apex = host == ZONE;
    let token = Token::from_random([7; 20]).txt_value();
    let challenge = format!("_quaymark-challenge.{host}");
    let proof = line(&challenge, "TXT", &format!("\"{token}\""));
    let at_host = |rtype, value: &str| line(routed, rtype, value);
    let routing = match is_apex {
        true => vec![at_host("A", "127.77.0.10"), at_host("A", "127.77.0.11"), at_host("AAAA", "::1")],
        false => vec![at_host("CNAME", &format!("{CANONICAL}."))],
    };
    let with = |own: Vec<Line>| [vec![proof.clone()], own].concat();
    let routed_with = |own: Vec<Line>| [own, routing.clone()].concat();

    Some(match number {
        0 => vec![],
        1 => with(routing),
        2 => vec![at_host("A", "192.0.2.7")],
        3 => with(vec![at_host("A", "192.0.2.7"), at_host("A", "192.0.2.8"), at_host("AAAA", "2001:db8::7")]),
        4 if !is_apex => with(vec![at_host("CNAME", "shop.formerhost.example.")]),
        5 => with(vec![at_host("A", "127.77.0.10")]),
        6 => with(vec![
            at_host("A", "127.77.0.10"),
            at_host("A", "127.77.0.11"),
            at_host("A", "192.0.2.7"),
            at_host("AAAA", "::1"),
        ]),
        7 => routed_with(vec![line(&challenge, "TXT", "\"token=aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\"")]),
        8 if is_apex => routed_with(vec![at_host("TXT", &format!("\"{token}\""))]),
        9 => routed_with(vec![line(&format!("{challenge}.{ZONE}"), "TXT", &format!("\"{token}\""))]),
        10 => routed_with(vec![line(&challenge, "TXT", &format!("\"{}\"", token.to_uppercase()))]),
        11 => routed_with(vec![line(&challenge, "TXT", &format!("\"\\\"{token}\\\"\""))]),
        12 => routed_with(vec![line(&challenge, "TXT", &format!("\"{}\" \"{}\"", &token[..9], &token[9..]))]),
        13 => with([routing, vec![line(&challenge, "TXT", "\"other=service; x\"")]].concat()),
        14 if !is_apex => with([routing, vec![at_host("A", "192.0.2.7")]].concat()),
        15 if !is_apex => with(
            [
                routing,
                vec![at_host("SRV", "1 2 3 sip.onswick.example."), at_host("MX", "5 mail.onswick.example.")],
            ]
            .concat(),
        ),
        16 => with(vec![line(&format!("*.{ZONE}"), "A", "192.0.2.9")]),
        17 => vec![line(&format!("*.{ZONE}"), "TXT", "\"everything\""), at_host("A", "192.0.2.7")],
        18 => with([routing, vec![line(ZONE, "CAA", "0 issue \"otherstamp-ca.example\"")]].concat()),
        19 => with(
            [
                routing,
                vec![
                    line(ZONE, "CAA", "128 tbs \"x\""),
                    line(ZONE, "CAA", "0 iodef \"mailto:post@onswick.example\""),
                ],
            ]
            .concat(),
        ),
        20 if !is_apex => {
            vec![line(host, "NS", "ns1.tidewell.test."), line(host, "NS", "ns2.tidewell.test.")]
        }
        21 if host.contains("lines") => vec![line(&format!("lines.{ZONE}"), "NS", "ns1.tidewell.test.")],
        22 if is_apex => with([routing, vec![at_host("HTTPS", "1 . alpn=h2 ipv4hint=192.0.2.7")]].concat()),
        23 if host.contains("lines") => {
            vec![line(&format!("lines.{ZONE}"), "DNAME", "lines.formerhost.example.")]
        }
        24 => with(
            routed_with(vec![])
                .into_iter()
                .filter(|l| l.rtype != "CNAME")
                .chain([at_host("AAAA", "2001:db8::9")])
                .collect(),
        ),
        25 => routed_with(vec![line(&challenge, "CNAME", "elsewhere.formerhost.example.")]),
        26 => with((1..=28).map(|n| at_host("A", &format!("192.0.2.{n}"))).collect()),
        27 => vec![
            at_host("A", "192.0.2.7"),
            at_host("MX", "10 mail.onswick.example."),
            at_host("TXT", "\"a\" \"b\""),
        ],
        28 => routed_with(vec![line(
            &challenge,
            "TXT",
            &format!("\"{}\"", Token::from_random([9; 20]).txt_value()),
        )]),
        29 => vec![line(&challenge, "TXT", &format!("\"{CANONICAL}\"")), at_host("A", "127.77.0.10")],
        30 if !is_apex => with(vec![at_host("CNAME", &format!("{CANONICAL}.{ZONE}."))]),
        31 => with([routing, vec![line(&format!("{routed}.{ZONE}"), "A", "127.77.0.10")]].concat()),
        _ => return None,
    })
}

const MISTAKES: usize = 32;

/// One way of writing a zone, each trait of its own from the same number.
struct Style(usize);

impl Style {
    fn is(&self, every: usize, at: usize) -> bool {
        self.0 % every == at
    }

    /// The zone as text.
    fn write(&self, lines: &[Line]) -> String {
        let mut text = String::new();
        text += if self.is(2, 0) { "; exported\n" } else { "\n" };
        text += if self.is(3, 1) { "$TTL 5m ; as ever\n" } else { "$TTL 300\n" };
        text += "$ORIGIN onswick.example.\n";
        text += match self.0 % 4 {
            0 => "@ IN SOA ns1.harrowdns.example. post ( 2026112601 ; serial\n 3600 600\n 86400 60 )\n",
            1 => "onswick.example. 600 IN SOA ns1.harrowdns.example. post.onswick.example. 7 1h 10m 1d 1m\n",
            2 => "@\tSOA\tns1.harrowdns.example. post 7 3600 600 86400 60\n",
            _ => "ONSWICK.example. soa ( ns1.harrowdns.example.\n ( post ) 7 3600 600 86400 60 )\n",
        };

        let mut last = String::new();
        for (index, line) in lines.iter().enumerate() {
            if self.is(5, 3) && index == lines.len() / 2 {
                text += "$ORIGIN example.\n";
            }
            let origin = if self.is(5, 3) && index >= lines.len() / 2 { "example" } else { ZONE };
            text += &self.line(line, origin, last == line.owner, index);
            last.clone_from(&line.owner);
            if self.is(7, 2) && index % 3 == 0 {
                text += "\n  ; between ( \"\n";
            }
        }

        if self.is(6, 5) {
            text = text.trim_end().to_owned();
        }
        if self.is(4, 3) { text.replace('\n', "\r\n") } else { text }
    }

    fn line(&self, line: &Line, origin: &str, repeats: bool, index: usize) -> String {
        let owner = match (repeats && !self.is(4, 1), self.is(3, 0)) {
            (true, _) => String::new(),
            (false, true) => format!("{}.", line.owner),
            (false, false) => relative(&line.owner, origin),
        };
        let owner = if self.is(8, 4) { owner.to_uppercase() } else { owner };
        let ttl = match self.0 % 5 {
            0 => "",
            1 if index.is_multiple_of(2) => "60 ",
            2 => "1h ",
            4 if index % 4 == 1 => "90 ",
            _ => "",
        };
        let class = ["", "IN ", "in ", "CLASS1 "][self.0 % 4];
        let rtype = match (self.is(9, 7), line.rtype) {
            (true, "A") => "TYPE1".to_owned(),
            (true, "TXT") => "TYPE16".to_owned(),
            (_, other) if self.is(6, 1) => other.to_lowercase(),
            (_, other) => other.to_owned(),
        };

        let words = self.words(line, origin);
        let gap = if self.is(2, 1) { "\t" } else { " " };
        let value = match self.0 % 6 {
            1 => format!("( {} )", words.join(" ; one\n\t")),
            3 => format!("({}\n)", words.join(" ")),
            4 => format!("( ( {} )\n ) ; nested ( (", words.join("\n ")),
            5 if words.len() > 1 => format!("{} ( {} )", words[0], words[1..].join("\n  ")),
            _ => words.join(gap),
        };
        let comment = if self.is(7, 4) { " ; \"comment" } else { "" };
        format!("{owner}{gap}{ttl}{class}{rtype}{gap}{value}{comment}\n")
    }

    fn words(&self, line: &Line, origin: &str) -> Vec<String> {
        if self.is(10, 6) && line.rtype == "A" {
            let octets: Vec<u8> = line.words[0].split('.').map(|n| n.parse().expect("an octet")).collect();
            let digits: String = octets.iter().map(|octet| format!("{octet:02X}")).collect();
            return vec!["\\#".into(), "4".into(), digits];
        }
        let is_name = |word: &str| word.ends_with('.') && word.len() > 1 && !word.starts_with('"');
        let word = |word: &String| match is_name(word) && self.is(3, 2) {
            true => relative(word.trim_end_matches('.'), origin),
            false if self.is(11, 8) => word.replace("=", "\\061"),
            false => word.clone(),
        };
        let written: Vec<_> = line.words.iter().map(word).collect();
        // Parameters of a service binding have their equals sign.
        if line.rtype == "HTTPS" { line.words.clone() } else { written }
    }
}

fn relative(name: &str, origin: &str) -> String {
    match name.strip_suffix(origin).map(|rest| rest.trim_end_matches('.')) {
        Some("") => "@".into(),
        Some(rest) if name.ends_with(&format!(".{origin}")) => rest.to_owned(),
        _ => format!("{name}."),
    }
}

/// A zone as the other reader lists it: a line for each record, texts joined.
fn listed(file: &Path) -> Vec<String> {
    let output = Command::new("ldns-read-zone").arg(file).output();
    let output = output.expect("ldns-read-zone, of the Debian package ldnsutils");
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{said}\n{}", fs::read_to_string(file).expect("the file"));
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let mut lines: Vec<_> = text.lines().filter(|line| !line.starts_with(';')).map(listed_line).collect();
    lines.sort();
    lines
}

fn listed_line(line: &str) -> String {
    let mut fields = line.splitn(5, '\t');
    let mut field = || fields.next().unwrap_or_default().to_owned();
    let (owner, ttl, _, rtype, value) = (field().to_lowercase(), field(), field(), field(), field());
    let value = if rtype == "TXT" { value.replace("\" \"", "") } else { value.to_lowercase() };
    format!("{owner}\t{rtype}\t{value}\t{ttl}")
}

/// The record of an edit as that reader lists it, its TTL aside.
fn listed_edit(edit: &Edit, value: &str, file: &Path) -> String {
    let data = zonefile::value(edit.rtype.as_str(), value).expect("a value");
    let record = Record { owner: edit.owner.clone(), ttl: 300, data };
    fs::write(file, format!("{}\n", text::line("", &record))).expect("written");
    without_ttl(&listed(file)[0]).to_owned()
}

fn without_ttl(line: &str) -> &str {
    line.rsplit_once('\t').expect("a TTL").0
}

/// The original with the list carried out on its lines.
fn carried_out(mut lines: Vec<String>, done: &Rehearsal, file: &Path) -> Vec<String> {
    for edit in done.todo.iter().filter(|edit| edit.kind == EditKind::Delete || edit.kind == EditKind::Change)
    {
        let owner = format!("{}.\t{}\t", edit.owner, edit.rtype.as_str());
        let is_looked_into = zonefile::value(edit.rtype.as_str(), edit.value_now()).is_ok();
        let old = is_looked_into.then(|| listed_edit(edit, edit.value_now(), file));
        let is_meant = |line: &String| match &old {
            Some(old) => without_ttl(line) == old,
            // Of a type that is not looked into, every record of the name goes.
            None => line.starts_with(&owner),
        };
        let before = lines.clone();
        lines.retain(|line| !is_meant(line));
        if edit.kind == EditKind::Change {
            let new = listed_edit(edit, &edit.value, file);
            let changed = before.iter().filter(|line| is_meant(line));
            lines.extend(changed.map(|line| format!("{new}\t{}", line.rsplit('\t').next().expect("a TTL"))));
        }
    }
    for edit in done.todo.iter().filter(|edit| edit.kind == EditKind::Add) {
        let new = listed_edit(edit, &edit.value, file);
        if !lines.iter().any(|line| without_ttl(line) == new) {
            lines.push(format!("{new}\t300"));
        }
    }
    lines.sort();
    lines
}

fn shown(list: &[Edit]) -> Vec<String> {
    let edit = |edit: &Edit| format!("{} {} {} {}", edit.kind, edit.owner, edit.rtype.as_str(), edit.value);
    list.iter().map(edit).collect()
}

/// One rehearsal by number; `None` where the mistake cannot be made there.
fn case(number: usize, folder: &Path) -> Option<()> {
    let style = Style(number % STYLES);
    let typed = HOSTS[number / STYLES % HOSTS.len()];
    let domain = domain(typed);
    let routed = domain.routed().to_string();
    let mistake = mistake(number / STYLES / HOSTS.len(), &routed, domain.host.as_str())?;

    let original = style.write(&[others(), mistake].concat());
    let about = format!("case {number}:\n{original}");
    let done = rehearse(&domain, &platform(), &Policy::default(), &original, start())
        .unwrap_or_else(|error| panic!("{error}\n{about}"));

    let (before, after, scratch) = (folder.join("before"), folder.join("after"), folder.join("scratch"));
    fs::write(&before, &original).expect("written");
    fs::write(&after, &done.amended).expect("written");
    let want = carried_out(listed(&before), &done, &scratch);
    let held = listed(&after);
    let lacking: Vec<_> = want.iter().filter(|line| !held.contains(line)).collect();
    let beyond: Vec<_> = held.iter().filter(|line| !want.contains(line)).collect();
    let differs = format!("lacks {lacking:#?}\nhas besides {beyond:#?}\nlist {:#?}", shown(&done.todo));
    assert!(held == want, "{about}\namended:\n{}\n{differs}", done.amended);

    if done.passes {
        let checked = Command::new("named-checkzone").args(["-i", "local", ZONE]).arg(&after).output();
        let checked = checked.expect("named-checkzone, of the Debian package bind9-utils");
        let said = String::from_utf8_lossy(&checked.stdout);
        assert!(checked.status.success(), "{said}\n{about}\namended:\n{}", done.amended);
    }
    Some(())
}

#[test]
fn amended_files_hold_the_original_and_the_list_and_nothing_else() {
    let stride = if std::env::var_os("NOMENTA_FULL").is_some() { 1 } else { STRIDE };
    let all = STYLES * HOSTS.len() * MISTAKES;
    let workers: Vec<_> = (0..2)
        .map(|worker| {
            thread::spawn(move || {
                let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR")).join(format!("rehearsals-{worker}"));
                fs::create_dir_all(&folder).expect("a folder");
                let numbers = (0..all).step_by(stride).skip(worker).step_by(2);
                numbers.filter_map(|number| case(number, &folder)).count()
            })
        })
        .collect();

    let done: usize = workers.into_iter().map(|worker| worker.join().expect("every case holds")).sum();
    assert!(done * stride >= 4_000, "{done} rehearsals");
    println!("{done} rehearsals");
}

#[test]
fn the_zone_of_the_domain_is_found_whatever_the_style() {
    let file = Style(1).write(&others());
    let name = DnsName::new(ZONE);
    let done = rehearse(&domain(HOSTS[1]), &platform(), &Policy::default(), &file, start()).expect("reads");
    assert_eq!((done.zone, done.records), (name, others().len() + 1));
}

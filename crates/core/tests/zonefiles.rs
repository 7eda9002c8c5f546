//! Master files, read beside the readers of two families of name servers.
//!
//! Each case of the table says who reads it: `both` of the other readers, or
//! `named` alone, and we read the same; `neither`, and we refuse it too;
//! `stricter`, where another reader takes what is more likely a slip, and we say
//! so; or `laxer`, where the customer's file is not ours to refuse.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use nomenta_core::zonefile::ZoneFile;

const ZONE: &str = "onswick.example";
const CASES: &str = include_str!("zonefiles.txt");
/// What every case stands behind, unless it begins with a zone of its own.
const HEAD: &str =
    "$ORIGIN onswick.example.\n$TTL 300\n@ IN SOA ns1 post 7 3600 600 86400 60\n@ NS ns1\nns1 A 192.0.2.1\n";

/// Another reader: what it makes of a file, in plain lines.
type Reader = fn(&Path, &str) -> Option<String>;

fn named(file: &Path, zone: &str) -> Option<String> {
    let output = Command::new("named-compilezone")
        .args(["-q", "-i", "none", "-k", "ignore", "-M", "ignore", "-S", "ignore", "-T", "ignore"])
        .args(["-W", "ignore", "-r", "ignore", "-n", "ignore", "-s", "full", "-o", "-", zone])
        .arg(file)
        .output()
        .expect("named-compilezone, of the Debian package bind9-utils");
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).into_owned())
}

fn ldns(file: &Path, _zone: &str) -> Option<String> {
    let output = Command::new("ldns-read-zone").arg(file).output();
    let output = output.expect("ldns-read-zone, of the Debian package ldnsutils");
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).into_owned())
}

/// Records of a file, each with how often it is there; TTLs beside.
#[derive(Debug, Default, PartialEq)]
struct Held {
    records: BTreeMap<String, usize>,
    ttls: BTreeMap<String, u32>,
}

impl Held {
    fn of(text: &str, zone: &str) -> Self {
        let file = ZoneFile::parse(text, &zone.into()).unwrap_or_else(|error| panic!("{error}\n{text}"));
        let mut held = Self::default();
        let mut mixed = Vec::new();
        for record in file.records() {
            let set = format!("{} {}", record.owner, record.data.type_name());
            // The records of a set have one TTL (RFC 2181, section 5.2); which of several is theirs to say.
            if held.ttls.insert(set.clone(), record.ttl).is_some_and(|ttl| ttl != record.ttl) {
                mixed.push(set);
            }
            // Some readers drop a record that is there twice.
            held.records.insert(record.to_string(), 1);
        }
        held.ttls.retain(|set, _| !mixed.contains(set));
        held
    }

    /// Whether another has the same, and the TTLs of the sets that have one here.
    fn is_read_so(&self, other: &Self) -> bool {
        self.records == other.records && self.ttls.iter().all(|(set, ttl)| other.ttls.get(set) == Some(ttl))
    }
}

struct Case {
    who: String,
    text: String,
}

/// Cases are parted by lines that begin with `==`, which say who reads them; `\x`
/// and two digits stand for an octet.
fn cases() -> Vec<Case> {
    let mut cases: Vec<Case> = Vec::new();
    for line in CASES.lines() {
        match (line.strip_prefix("== "), cases.last_mut()) {
            (Some(who), _) => cases.push(Case { who: who.to_owned(), text: String::new() }),
            (None, Some(case)) => case.text.extend([line, "\n"]),
            (None, None) => {}
        }
    }
    for case in &mut cases {
        case.text = unescaped(&case.text);
        if !case.text.contains(" SOA ") {
            case.text = format!("{HEAD}{}", case.text);
        }
    }
    cases
}

fn unescaped(text: &str) -> String {
    let mut octets = Vec::new();
    let mut rest = text;
    while let Some((before, after)) = rest.split_once("\\x") {
        octets.extend(before.bytes());
        octets.push(u8::from_str_radix(&after[..2], 16).expect("two digits"));
        rest = &after[2..];
    }
    octets.extend(rest.bytes());
    String::from_utf8(octets).expect("UTF-8")
}

/// What is wrong with a case, if anything.
fn judge(case: &Case, file: &Path) -> Option<String> {
    fs::write(file, &case.text).expect("written");
    let own = ZoneFile::parse(&case.text, &ZONE.into());
    let read = |reader: Reader| reader(file, ZONE).map(|text| Held::of(&text, ZONE));
    let (who, said) = case.who.split_once(": ").unwrap_or((&case.who, ""));

    match (who, own) {
        ("neither", Err(_)) => read(named).map(|_| "named reads it".into()),
        ("stricter", Err(error)) if !error.to_string().contains(said) => Some(format!("told: {error}")),
        ("stricter", Err(_)) => None,
        ("both" | "named", Ok(_)) => {
            let own = Held::of(&case.text, ZONE);
            let readers: &[(&str, Reader)] = &[("named", named), ("ldns", ldns)];
            let asked = if who == "both" { readers } else { &readers[..1] };
            asked.iter().find_map(|(name, reader)| match read(*reader) {
                Some(theirs) if own.is_read_so(&theirs) => None,
                theirs => Some(format!("{name} reads {theirs:?}\n  we read {own:?}")),
            })
        }
        ("laxer", Ok(_)) => read(named).map(|_| "named reads it".into()),
        (_, Ok(_)) => Some("we read it".into()),
        (_, Err(error)) => Some(format!("we refuse it: {error}")),
    }
}

#[test]
fn master_files_are_read_as_name_servers_read_them() {
    let folder = PathBuf::from(env!("CARGO_TARGET_TMPDIR"));
    let file = folder.join("case.zone");
    let cases = cases();
    let wrong: Vec<_> = cases
        .iter()
        .filter_map(|case| judge(case, &file).map(|why| format!("{}\n{}  {why}", case.who, case.text)))
        .collect();
    assert!(cases.len() > 150, "{} cases", cases.len());
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), cases.len(), wrong.join("\n"));
}

#[test]
fn the_zone_files_of_all_tests_are_read_alike_by_both() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../cli/tests/zones");
    let mut count = 0;
    for entry in fs::read_dir(folder).expect("the zones") {
        let file = entry.expect("a zone").path();
        let zone = file.file_stem().and_then(|name| name.to_str()).expect("a name");
        let own = Held::of(&fs::read_to_string(&file).expect("a text"), zone);
        for reader in [named, ldns] {
            let theirs = Held::of(&reader(&file, zone).expect("it is read"), zone);
            assert!(own.is_read_so(&theirs), "{zone}: {theirs:?}\n{own:?}");
        }
        count += 1;
    }
    assert!(count >= 20, "{count} files");
}

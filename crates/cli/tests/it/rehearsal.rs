//! Rehearsals: what Nomenta makes of zone files, with Knot as the witness.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use futures::future::join_all;
use nomenta_core::judge::edit::EditKind;
use nomenta_core::rehearsal::Rehearsal;
use nomenta_core::sheet::SHEET_TTL;
use nomenta_core::zonefile::{self, ZoneFile};
use nomenta_world::layout::HARROW;
use nomenta_world::wait_for;
use nomenta_world::zones::servers;
use serde_json::json;

use crate::stage::{self, TIME_LIMIT, fresh_zone, stage};

/// The zone, the name in it that is brought, and what is found in the file.
const FILES: [(&str, &str, &[&str]); 20] = [
    ("portmeadow.example", "timetable", &["address-foreign"]),
    ("saltgrass.example", "@", &["address-foreign"]),
    ("eelpool.example", "rides", &["cname-foreign"]),
    ("blackstair.example", "board", &["mail-at-risk"]),
    ("cinderway.example", "apps", &["wildcard-answers"]),
    ("tollgate.example", "@", &["address-surplus", "caa-forbids"]),
    ("larkhaven.example", "lines", &["delegated-away"]),
    ("mudlark.example", "map", &["cname-beside-others"]),
    ("fogbell.example", "@", &["address-foreign", "https-record-stray"]),
    ("quillmoor.example", "night", &["address-foreign"]),
    ("ropewalk.example", "depart", &["token-altered", "value-doubled"]),
    ("shingle.example", "live", &["wrong-type"]),
    ("copperbay.example", "trip", &["address-partial"]),
    ("stillwater.example", "@", &["ipv6-stray"]),
    ("hollowbridge.example", "fares", &["cname-foreign"]),
    ("windlass.example", "@", &["address-foreign"]),
    ("grebeford.example", "ticket", &["cname-beside-others"]),
    ("nettlecombe.example", "info", &["cname-foreign", "token-altered"]),
    ("lantern.example", "go", &["host-doubled"]),
    ("stopfinder.example", "@", &["address-foreign"]),
];

fn file(zone: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/zones").join(format!("{zone}.zone"))
}

async fn rehearsed(zone: &str, host: &str, out: &Path) -> Rehearsal {
    let (zone, out) = (file(zone), out.to_string_lossy().into_owned());
    let words = ["rehearse", host, "--zone", zone.to_str().expect("UTF-8"), "--amended", &out];
    serde_json::from_value(stage().service.cli_json(&words).await).expect("a rehearsal")
}

/// The TTL of each record, by what it says.
fn records(text: &str, zone: &str) -> BTreeMap<String, u32> {
    let file = ZoneFile::parse(text, &zone.into()).expect("reads");
    let each = file.records().map(|r| (shown(&r.owner, r.data.type_name(), &r.data.to_string()), r.ttl));
    each.collect()
}

fn shown(owner: &str, rtype: &str, value: &str) -> String {
    format!("{owner} {rtype} {value}")
}

/// What the file held, with the edits of the list carried out on it.
fn expected(text: &str, zone: &str, done: &Rehearsal) -> BTreeMap<String, u32> {
    let mut held = records(text, zone);
    for edit in &done.todo {
        let value = zonefile::value(edit.rtype.as_str(), &edit.value)
            .map_or_else(|_| edit.value.clone(), |d| d.to_string());
        let now = shown(&edit.owner, edit.rtype.as_str(), edit.was.as_ref().unwrap_or(&edit.value));
        let mut ttl = SHEET_TTL;
        if matches!(edit.kind, EditKind::Delete | EditKind::Change) {
            ttl = held.remove(&now).unwrap_or_else(|| panic!("{now} is not in the file"));
        }
        if matches!(edit.kind, EditKind::Add | EditKind::Change) {
            held.insert(shown(&edit.owner, edit.rtype.as_str(), &value), ttl);
        }
    }
    held
}

async fn amended_passes(zone: &str, label: &str, codes: &[&str]) {
    let stage = stage();
    let host = if label == "@" { zone.to_owned() } else { format!("{label}.{zone}") };
    let (status, answer) = stage.service.post("domains", &json!({ "host": host, "site": "onswick" })).await;
    assert_eq!(status, 201, "{answer}");
    let text = fs::read_to_string(file(zone)).expect("a zone file");
    let out = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("{zone}.amended"));
    let done = rehearsed(zone, &host, &out).await;
    let mut found: Vec<_> = done.findings.iter().map(|f| f.finding.code.as_str()).collect();
    found.sort_unstable();
    assert_eq!(found, codes, "{zone}");
    assert!(done.passes && done.left.is_empty(), "{zone}: {:?}", done.left);

    // Lines that no finding names stand in the amended file as they stood.
    let amended = fs::read_to_string(&out).expect("written");
    let touched: Vec<usize> = done.findings.iter().flat_map(|f| f.lines.clone()).collect();
    let mut rest = amended.as_str();
    for (index, line) in text.lines().enumerate().filter(|(i, _)| !touched.contains(&(i + 1))) {
        // A TTL taken from a line that went is said anew.
        let value = line.split_once(" IN ").map_or(line, |(_, value)| value);
        let kept = rest.find(line).or_else(|| rest.find(line.trim())).or_else(|| rest.find(value));
        let at = kept.unwrap_or_else(|| panic!("{zone}: line {} is gone: {line}", index + 1));
        rest = &rest[at..];
    }

    let zones = &stage.world.zones;
    zones.load(zone, &amended, None).await.unwrap_or_else(|e| panic!("{zone}: {e}\n{amended}"));
    zones.delegate(zone, &servers(HARROW)).await.expect("delegated");
    let served = zones.dump(zone).await.expect("the zone as Knot reads it");
    assert_eq!(records(&served, zone), expected(&text, zone, &done), "{zone}");

    let passed = || async {
        let detail = stage.service.cli_json(&["explain", &host]).await;
        let gates = [0, 1].map(|gate| detail["gates"][gate]["state"] == "passed");
        let findings = detail["findings"].as_array().cloned().unwrap_or_default();
        gates == [true; 2] && findings.iter().all(|f| f["severity"] != "blocker")
    };
    if let Err(error) = wait_for(&format!("{host} passing"), TIME_LIMIT, passed).await {
        panic!("{error}: {}", String::from_utf8_lossy(&stage.service.cli(&["explain", &host]).await.stdout));
    }
}

#[test]
fn twenty_zone_files_come_out_amended_pass_and_are_otherwise_unchanged() {
    stage();
    stage::run(async {
        let played = FILES.map(|(zone, label, codes)| {
            let play = tokio::spawn(amended_passes(zone, label, codes));
            async move { play.await.err().map(|_| zone) }
        });
        let failed: Vec<_> = join_all(played).await.into_iter().flatten().collect();
        assert_eq!(failed, [""; 0]);
    });
}

#[test]
fn a_file_that_cannot_be_read_gives_its_line_and_a_whole_one_reads_well() {
    stage();
    stage::run(async {
        let stage = stage();
        let zone = fresh_zone("rehearse");
        stage.service.enrol(&stage.world, &zone).await;
        let path = Path::new(env!("CARGO_TARGET_TMPDIR")).join("rehearsed.zone");
        let rehearse = async |text: &str, words: &[&str]| {
            fs::write(&path, text).expect("written");
            let call = ["rehearse", &zone, "--zone", path.to_str().expect("UTF-8")];
            let output = stage.service.cli(&[&call, words].concat()).await;
            let told = [output.stdout, output.stderr].map(|b| String::from_utf8_lossy(&b).into_owned());
            (output.status.code(), told)
        };
        let (status, [_, error]) = rehearse("$TTL 60\n@ A 192.0.2\n", &[]).await;
        assert_eq!(status, Some(1));
        assert!(error.contains("Line 2: A wants an IPv4 address, and has 192.0.2."), "{error}");
        let (_, answer) = answer(&zone, "@ A 192.0.2\n").await;
        assert_eq!(
            (&answer["errors"][0]["field"], &answer["errors"][0]["line"]),
            (&json!("zone"), &json!(1))
        );

        let (status, [told, _]) = rehearse("@ A 192.0.2.7\n@ MX 10 mx\n", &[]).await;
        assert_eq!(status, Some(0));
        for want in [
            "holds 2 records of the zone",
            "address-foreign, line 1",
            "delete  A     @",
            "keep    MX    @",
            "With these changes the zone passes ownership and routing.",
        ] {
            assert!(told.contains(want), "no {want:?} in:\n{told}");
        }
        assert!(told.contains("(the token, see the sheet)"), "the token is not on the screen:\n{told}");
        let (_, [zone_lines, _]) = rehearse("@ MX 10 mx\n", &["--as", "zone"]).await;
        assert!(zone_lines.starts_with("@ MX 10 mx\n; For "), "{zone_lines}");
    });
}

async fn answer(host: &str, text: &str) -> (u16, serde_json::Value) {
    let request = stage().service.request("POST", &format!("domains/{host}/rehearsal"), stage::ADMIN);
    let response =
        request.header("content-type", "text/dns").body(text.to_owned()).send().await.expect("sent");
    (response.status().as_u16(), response.json().await.expect("JSON"))
}

#[test]
fn files_that_no_server_would_read_are_told_apart_and_a_change_has_its_notes() {
    stage();
    stage::run(async {
        let (service, zone) = (&stage().service, fresh_zone("notes"));
        service.enrol(&stage().world, &zone).await;
        let path = |name: &str| Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("{zone}.{name}"));
        let run = async |file: &Path| {
            let file = file.to_string_lossy();
            let output = service.cli(&["rehearse", &zone, "--zone", &file]).await;
            let text = |octets: &[u8]| String::from_utf8_lossy(octets).into_owned();
            (output.status.code(), text(&output.stdout), text(&output.stderr))
        };

        for (name, octets, wants) in [
            ("latin", b"a A 192.0.2.7\nb TXT \"caf\xe9\"\n".to_vec(), ["Line 2", "not UTF-8"]),
            ("mark", b"\xef\xbb\xbfa A 192.0.2.7\n".to_vec(), ["Line 1", "byte order mark"]),
            ("script", "fähre A 192.0.2.7\n".into(), ["Line 1", "xn--fhre-loa"]),
            ("lone", b"a A 192.0.2.7\rb A 192.0.2.8\n".to_vec(), ["Line 1", "carriage return"]),
            ("large", vec![b'a'; 33 << 20], ["larger than 32 MiB", "at and under the domain"]),
        ] {
            let file = path(name);
            fs::write(&file, octets).expect("written");
            let (status, _, told) = run(&file).await;
            assert_eq!(status, Some(1), "{name}: {told}");
            assert!(wants.iter().all(|want| told.contains(want)), "{name}: {told}");
        }

        let signed = format!(
            "$TTL 300\n@ SOA ns1.harrowdns.example. post 7 3600 600 86400 60\n@ NS ns1.harrowdns.example.\n\
             @ RRSIG NS 13 2 300 20261201000000 20261101000000 4711 {zone}. AAAA\n"
        );
        let file = path("signed");
        fs::write(&file, signed).expect("written");
        let (status, told, error) = run(&file).await;
        assert_eq!(status, Some(0), "{error}");
        for want in ["The serial of the SOA record stays 7.", "The file is signed (RRSIG records: 1)."] {
            assert!(told.contains(want), "no {want} in:\n{told}");
        }
    });
}

//! Zones as nobody has thought of them, and all of them right: each signed in a way of its own or not
//! at all, with wildcards, aliases, other people's records and zones within zones.

use nomenta_world::families::{Family, Signing, Vouching, Zone};
use rand::rngs::StdRng;
use rand::seq::{IndexedRandom, SliceRandom};
use rand::{Rng, SeedableRng};

use super::states::{Mended, State};

/// Records that are nobody's business, wherever the host is.
const BESIDE: [&str; 12] = [
    "mail A 192.0.2.25",
    "@ MX 10 mail",
    "@ TXT \"v=spf1 mx -all\"",
    "_dmarc TXT \"v=DMARC1; p=none\"",
    "ftp CNAME mail",
    "_sip._tcp SRV 0 5 5060 mail",
    "* TXT \"nothing here\"",
    "*.old A 192.0.2.9",
    "@ CAA 0 issue \"stampworks-ca.example\"",
    "@ CAA 0 iodef \"mailto:hostmaster@harrowhost.example\"",
    "away NS nsd.servers.test.",
    "xn--bcher-kva A 192.0.2.26",
];
/// Hosts below the apex.
const BELOW: [&str; 4] = ["www", "timetable", "a.b", "lines.north"];
/// Who signs, and how.
const SIGNED: [(Family, Signing); 6] = [
    (Family::Nsd, Signing::Nsec),
    (Family::Nsd, Signing::Nsec3),
    (Family::Nsd, Signing::OptOut),
    (Family::Knot, Signing::ByServer),
    (Family::KnotOnline, Signing::ByServer),
    (Family::PowerDns, Signing::ByServer),
];
const UNSIGNED: [Family; 4] = [Family::Nsd, Family::Knot, Family::PowerDns, Family::Gdnsd];

/// So many of them.
pub(super) fn zones(seed: u64, count: usize) -> Vec<State> {
    let mut rng = StdRng::seed_from_u64(seed);
    (0..count).map(|index| zone(&mut rng, seed, index)).collect()
}

fn zone(rng: &mut StdRng, seed: u64, index: usize) -> State {
    let apex = format!("rnd{index}.{}", ["example", "test"].choose(rng).expect("one"));
    let host = match rng.random_bool(0.3) {
        true => "@",
        false => BELOW.choose(rng).expect("one"),
    };

    let (family, signing) = match rng.random_bool(0.7) {
        true => SIGNED.choose(rng).map(|(family, signing)| (*family, Some(*signing))).expect("one"),
        false => (*UNSIGNED.choose(rng).expect("one"), None),
    };
    let mut lines = [proof(rng, host), routing(rng, host)].concat();
    for line in BESIDE {
        // gdnsd knows fewer types.
        let is_known = family != Family::Gdnsd || !line.contains(" CAA ");
        if is_known && rng.random_bool(0.4) {
            lines.push(line.to_owned());
        }
    }
    lines.shuffle(rng);

    let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
    let mut zone = Zone::new(&apex, family, &lines);
    if let Some(signing) = signing {
        zone = zone.signed(signing);
        // A zone that is signed before its registrar has been told, and one that it tells nonsense of.
        if rng.random_bool(0.2) {
            let others = [Vouching::None, Vouching::UnknownAlgorithm, Vouching::UnknownDigest];
            zone.vouching = *others.choose(rng).expect("one");
        }
    }
    State {
        name: format!("random zone {index} of seed {seed}, {family} {signing:?}: {lines:?}"),
        host: host.to_owned(),
        zone,
        above: None,
        want: &[],
        passes: true,
        mended: Mended::ByList,
    }
}

/// The token, in one of the ways.
fn proof(rng: &mut StdRng, host: &str) -> Vec<String> {
    let label =
        if host == "@" { "_quaymark-challenge".to_owned() } else { format!("_quaymark-challenge.{host}") };
    match rng.random_range(0..3) {
        0 => vec![format!("{label} CNAME BARE.proof.quaymark.example.")],
        1 => vec![format!("{label} TXT TOKEN"), format!("{label} TXT \"another text\"")],
        _ => vec![format!("{label} TXT TOKEN")],
    }
}

/// What leads visitors here, in one of the ways.
fn routing(rng: &mut StdRng, host: &str) -> Vec<String> {
    let addresses = ["A 127.77.0.10", "A 127.77.0.11", "AAAA ::1"].map(|data| format!("{host} {data}"));
    match (host, rng.random_range(0..3)) {
        ("@", _) | (_, 0) => addresses.to_vec(),
        (_, 1) => vec![format!("{host} CNAME onward"), "onward CNAME CANONICAL".into()],
        _ => vec![format!("{host} CNAME CANONICAL")],
    }
}

//! One mistake is one finding: whatever single thing is done to a zone that was in
//! order.

use proptest::prelude::*;
use proptest::sample::{Index, select};

use crate::judge::finding::Finding;
use crate::test;

/// Records of the customer's own, which have nothing to do with the platform.
const BYSTANDERS: [&str; 5] = [
    "mail A 192.0.2.9",
    "@ MX 10 mail.onswick.example",
    "@ TXT v=spf1 mx -all",
    "_dmarc TXT v=DMARC1; p=none",
    "shop CNAME shop.harrowhost.example",
];

/// One thing done to a zone.
#[derive(Clone, Debug)]
enum Slip {
    /// A record taken away.
    Delete(Index),
    /// A value with something done to it.
    Value(Index, &'static str),
    /// An owner with something done to it.
    Owner(Index, &'static str),
    /// A record that was not there.
    Add(&'static str),
}

const VALUES: [&str; 6] = ["cut", "capitals", "quoted", "dot", "foreign", "doubled"];
const OWNERS: [&str; 4] = ["doubled", "above", "bare", "sideways"];
const STRAYS: [&str; 10] = [
    "@ A 192.0.2.7",
    "timetable A 192.0.2.7",
    "@ AAAA 2001:db8::7",
    "timetable TXT checked-by=former",
    "@ TXT other-service=1",
    "_quaymark-challenge TXT other-service=1",
    "@ CAA issue otherstamp-ca.example",
    "@ HTTPS . 192.0.2.7",
    "* A 192.0.2.7",
    "www A 192.0.2.7",
];

fn slip() -> impl Strategy<Value = Slip> {
    prop_oneof![
        any::<Index>().prop_map(Slip::Delete),
        (any::<Index>(), select(&VALUES[..])).prop_map(|(at, how)| Slip::Value(at, how)),
        (any::<Index>(), select(&OWNERS[..])).prop_map(|(at, how)| Slip::Owner(at, how)),
        select(&STRAYS[..]).prop_map(Slip::Add),
    ]
}

/// The zone after a slip; `None` where it comes to nothing that a zone may hold.
fn after(host: &str, slip: &Slip) -> Option<Vec<String>> {
    let sound = test::healthy(host);
    let mut zone: Vec<String> = sound.iter().chain(&BYSTANDERS).map(|line| (*line).to_owned()).collect();
    match slip {
        Slip::Delete(at) => drop(zone.remove(at.index(sound.len()))),
        Slip::Add(line) => zone.push((*line).to_owned()),
        Slip::Value(at, how) => {
            let line = &mut zone[at.index(sound.len())];
            *line = changed_value(line, how)?;
        }
        Slip::Owner(at, how) => {
            let line = &mut zone[at.index(sound.len())];
            *line = changed_owner(line, how)?;
        }
    }
    Some(zone)
}

fn changed_value(line: &str, how: &str) -> Option<String> {
    let (head, value) = line.rsplit_once(' ')?;
    let is_text = head.ends_with(" TXT");
    let is_alias = head.ends_with(" CNAME");
    let value = match how {
        "cut" if is_text => value[..value.len() - 8].to_owned(),
        "capitals" if is_text => value.to_uppercase(),
        "quoted" if is_text => format!("\"{value}\""),
        "dot" if is_text => format!("{value}."),
        "foreign" if head.ends_with(" A") => "192.0.2.7".to_owned(),
        "foreign" if head.ends_with(" AAAA") => "2001:db8::7".to_owned(),
        "foreign" if is_alias => "sites.formerhost.example".to_owned(),
        "doubled" if is_alias => format!("{value}.onswick.example"),
        _ => return None,
    };
    Some(format!("{head} {value}"))
}

fn changed_owner(line: &str, how: &str) -> Option<String> {
    let (owner, rest) = line.split_once(' ')?;
    let owner = match how {
        "doubled" if owner != "@" => format!("{owner}.onswick.example"),
        "above" => owner.split_once('.').map_or("@", |(label, _)| label).to_owned(),
        "bare" if owner.starts_with('_') => owner.trim_start_matches('_').to_owned(),
        "sideways" => "elsewhere".to_owned(),
        _ => return None,
    };
    Some(format!("{owner} {rest}"))
}

fn judged(host: &str, zone: &[String]) -> Vec<Finding> {
    let mut domain = test::domain(host);
    domain.mail_before = BYSTANDERS[1..4].iter().map(|line| test::record(line)).collect();
    let lines: Vec<&str> = zone.iter().map(String::as_str).collect();
    test::judge(&domain, &test::survey(host, &lines))
}

proptest! {
    #[test]
    fn one_slip_is_at_most_one_finding(
        host in select(&["onswick.example", "timetable.onswick.example"][..]),
        slip in slip(),
    ) {
        let Some(zone) = after(host, &slip) else { return Ok(()) };
        let found = judged(host, &zone);
        prop_assert!(found.len() <= 1, "{:?}: {:?}", slip, test::codes(&found));
    }

    #[test]
    fn what_resolvers_do_not_tell_apart_is_no_finding(
        host in select(&["onswick.example", "timetable.onswick.example"][..]),
        order in any::<Index>(),
    ) {
        let sound = test::healthy(host);
        let mut zone: Vec<String> = sound.iter().chain(&BYSTANDERS).map(|line| (*line).to_owned()).collect();
        let places = zone.len();
        zone.rotate_left(order.index(places));
        for line in &mut zone {
            if let Some((owner, rest)) = line.split_once(' ') {
                *line = format!("{} {rest}", owner.to_uppercase());
            }
        }
        prop_assert_eq!(judged(host, &zone), []);
    }
}

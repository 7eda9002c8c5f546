//! CAA sets, each with the answer that the RFCs' text gives.

use nomenta_core::reading::caa::{self, Objection, Wish};
use nomenta_core::reading::method::Method;
use nomenta_core::reading::octets::Octets;
use nomenta_core::reading::record::{Record, RecordData};

/// Lines of two answers and a set, parted by tabs.
const TABLE: &str = include_str!("caa.tsv");
const ACCOUNT: &str = "https://ca.stampworks.example/acct/7";

fn record(property: &str) -> Record {
    let mut words = property.splitn(3, ' ');
    let mut word = || words.next().expect("flags, tag and value");
    let flags = word().parse().expect("flags");
    // In the table a tab is written as \t and a line end as \n.
    let octets = |text: &str| Octets::unescaped(&text.replace("\\t", "\\009").replace("\\n", "\\010"));
    let data = RecordData::Caa { flags, tag: octets(word()), value: octets(word()) };
    Record { owner: "onswick.example".into(), ttl: 60, data }
}

fn answer(records: &[Record], wildcard: bool) -> &'static str {
    let identities = ["stampworks-ca.example".to_owned()];
    let method = if wildcard { Method::Dns } else { Method::Http };
    let wish = Wish { identities: &identities, wildcard, method, account: Some(ACCOUNT) };
    match caa::objection(&records.iter().collect::<Vec<_>>(), &wish) {
        None => "may",
        Some(Objection::Issuer) => "issuer",
        Some(Objection::Account(_)) => "account",
        Some(Objection::Method(_)) => "method",
        Some(Objection::Repeated(_)) => "repeated",
        Some(Objection::Malformed(_)) => "malformed",
        Some(Objection::Critical(_)) => "critical",
    }
}

#[test]
fn every_set_is_judged_as_the_standards_say() {
    let mut wrong = Vec::new();
    let mut count = 0;
    for line in TABLE.lines().filter(|line| !line.starts_with('#')) {
        let mut cells = line.split('\t');
        let wanted = [cells.next(), cells.next()].map(|answer| answer.expect("two answers"));
        let records: Vec<_> = cells.map(record).collect();

        let given = [false, true].map(|wildcard| answer(&records, wildcard));
        if given != wanted {
            wrong.push(format!("{line}: {given:?}"));
        }
        count += 1;
    }
    assert!(count >= 60, "{count} sets");
    assert!(wrong.is_empty(), "{} of {count}:\n{}", wrong.len(), wrong.join("\n"));
}

#[test]
fn an_empty_set_restricts_nothing_and_an_account_is_asked_for_where_one_is_named() {
    assert_eq!(answer(&[], false), "may");
    let names = |property: &str| caa::names_account(&[&record(property)]);
    assert!(names("0 issue x.example; AccountURI=y"));
    assert!(!names("0 issue x.example"));
    assert!(!names("0 issue accounturi=x"));
}

//! CAA sets of any octets are judged, and one that lets us issue names us.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nomenta_core::reading::caa::{self, Wish};
use nomenta_core::reading::method::Method;
use nomenta_core::reading::record::{Record, RecordData};
use nomenta_fuzz::within_limits;

const ISSUER: &str = "stampworks-ca.example";

fuzz_target!(|set: Vec<(u8, u8, Vec<u8>, bool)>| {
    let octets = set.iter().map(|(.., value, _)| value.len()).sum();
    let records: Vec<_> = set
        .into_iter()
        .map(|(flags, tag, mut value, is_ours)| {
            let tag: &[u8] = [&b"issue"[..], b"issuewild", b"iodef", b"tbs"][usize::from(tag % 4)];
            if is_ours {
                value.splice(0..0, ISSUER.bytes());
            }
            let data = RecordData::Caa { flags, tag: tag.to_vec().into(), value: value.into() };
            Record { owner: "onswick.example".into(), ttl: 60, data }
        })
        .collect();

    let records: Vec<_> = records.iter().collect();
    let identities = [ISSUER.to_owned()];
    within_limits(octets, || {
        for wildcard in [false, true] {
            let wish = Wish { identities: &identities, wildcard, method: Method::Dns, account: None };
            let restricts = |record: &&&Record| match &record.data {
                RecordData::Caa { tag, .. } => {
                    tag.as_bytes() == b"issue" || wildcard && tag.as_bytes() == b"issuewild"
                }
                _ => false,
            };
            let names_us = |record: &&Record| match &record.data {
                RecordData::Caa { value, .. } => {
                    caa::means_one_of(value, &identities) && !caa::allows_nobody(value)
                }
                _ => false,
            };
            if caa::objection(&records, &wish).is_none() {
                let mut restricting = records.iter().filter(restricts).peekable();
                assert!(restricting.peek().is_none() || restricting.any(names_us), "{records:?}");
            }
        }
        caa::names_account(&records);
    });
});

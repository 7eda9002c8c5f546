//! However a zone is amended, the file holds what it should, or is not handed out.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nomenta_core::reading::record::{Record, RecordData};
use nomenta_core::zonefile::{Fate, ZoneFile};
use nomenta_fuzz::within_limits;

fuzz_target!(|input: (u64, Vec<u8>, &str)| {
    let (fates, value, text) = input;
    let Ok(file) = ZoneFile::parse(text, &"onswick.example".into()) else { return };
    let txt = RecordData::Txt(value.into());
    let added = [Record { owner: "new.onswick.example".into(), ttl: 300, data: txt.clone() }];

    // With the SOA goes the zone's name, and the TTL of what states none.
    let fate = |index: usize| {
        let kind = file.entries[index].record.data.type_name();
        match fates >> (index % 32 * 2) & 3 {
            0 if kind != "SOA" => Fate::Gone,
            1 if kind == "TXT" => Fate::Becomes(txt.clone()),
            _ => Fate::Stays,
        }
    };
    within_limits(2 * text.len(), || {
        let amended = file.amended(fate, &added, "Fuzz").expect("what was read can be amended");
        assert!(amended.text().ends_with('\n'));
    });
});

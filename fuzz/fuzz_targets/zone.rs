//! The zone reader takes any text, and leaves it alone when told to.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nomenta_core::zonefile::{Fate, ZoneFile};

fuzz_target!(|text: &str| {
    if let Ok(file) = ZoneFile::parse(text, &"onswick.example".into()) {
        assert_eq!(file.amended(|_| Fate::Stays, &[]), text);
        let first_gone = file.amended(|index| if index == 0 { Fate::Gone } else { Fate::Stays }, &[]);
        let again = ZoneFile::parse(&first_gone, &file.zone);
        assert!(again.is_ok_and(|again| again.records().eq(file.records().skip(1))) || file.entries.is_empty() || changes_zone(&file));
    }
});

/// Whether taking the first record away moves what the others mean: with the
/// SOA goes the zone's name, and the TTL of records that state none.
fn changes_zone(file: &ZoneFile) -> bool {
    file.entries[0].record.data.type_name() == "SOA"
}

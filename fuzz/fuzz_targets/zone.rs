//! The zone reader takes any text, leaves it alone when told to, and amends it so
//! that every other record stays what it is.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nomenta_core::zonefile::{Fate, ZoneFile};
use nomenta_fuzz::within_limits;

fuzz_target!(|text: &str| {
    let mut file = None;
    within_limits(text.len(), || file = ZoneFile::parse(text, &"onswick.example".into()).ok());
    let Some(file) = file else { return };
    let same = file.amended(|_| Fate::Stays, &[], "");
    assert_eq!(same.expect("the same again").text(), text);

    // With the SOA goes the zone's name, and the TTL of what states none.
    let is_soa = |index: usize| file.entries[index].record.data.type_name() == "SOA";
    for parity in 0..2 {
        let fate = |index| if index % 2 == parity && !is_soa(index) { Fate::Gone } else { Fate::Stays };
        file.amended(fate, &[], "").expect("the rest stays");
    }
});

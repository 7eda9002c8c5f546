//! The reply parser takes any bytes.
#![no_main]

use libfuzzer_sys::fuzz_target;
use nomenta_core::reading::record::RecordType;

const TYPES: [RecordType; 4] = [RecordType::A, RecordType::Txt, RecordType::Caa, RecordType::Https];

fuzz_target!(|bytes: &[u8]| {
    for rtype in TYPES {
        nomenta_dns::read_reply(bytes, "onswick.example", rtype);
    }
});

//! A table of domains of any octets is read and judged, or refused; a row is accepted once.
#![no_main]

use std::collections::BTreeSet;

use libfuzzer_sys::fuzz_target;
use nomenta_core::intake::row::Columns;
use nomenta_core::intake::table::Table;
use nomenta_core::name::platform::Platform;
use nomenta_fuzz::within_limits;

fuzz_target!(|octets: &[u8]| {
    let platform = Platform {
        zone: "quaymark.example".into(),
        brand: "quaymark".into(),
        proof_zone: None,
        acme_zone: None,
        dns_for_all: false,
        special_use: vec!["example".into()],
        reserved: Vec::new(),
    };
    within_limits(octets.len(), || {
        let Ok(table) = Table::read(octets, 1_000) else { return };
        let Ok(columns) = Columns::of(&table) else { return };
        let mut lines = BTreeSet::new();
        for row in &table.rows {
            assert!(lines.insert(row.line), "two rows on line {}", row.line);
            let _ = (columns.host(row), columns.site(row));
            let _ = columns.read(row, &platform);
        }
    });
});

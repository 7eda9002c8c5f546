//! The catalogue of findings: one file each, with its detector, its two texts
//! and its tests.

use crate::finding::{Case, Diagnosis, Entry, Finding};

mod address_foreign;
mod address_partial;
mod address_surplus;
mod caa_forbids;
mod cname_foreign;
mod host_doubled;
mod ipv6_stray;
mod issuer_refused;
mod name_unregistered;
mod token_altered;
mod unreachable;

/// Every finding, roots of trouble first, so that consequences can yield.
pub static CATALOGUE: &[&Entry] = &[
    &name_unregistered::ENTRY,
    &unreachable::ENTRY,
    &host_doubled::ENTRY,
    &token_altered::ENTRY,
    &cname_foreign::ENTRY,
    &address_foreign::ENTRY,
    &address_surplus::ENTRY,
    &address_partial::ENTRY,
    &ipv6_stray::ENTRY,
    &caa_forbids::ENTRY,
    &issuer_refused::ENTRY,
];

/// Runs every detector; an entry yields to those that explain it.
pub fn diagnose(case: &Case<'_>) -> Vec<Finding> {
    let mut found: Vec<Finding> = Vec::new();
    for entry in CATALOGUE {
        let explained = found.iter().any(|f| entry.yields_to.contains(&f.code.as_str()));
        if !explained && let Some(diagnosis) = (entry.detect)(case) {
            found.push(finding(entry, diagnosis));
        }
    }
    found
}

fn finding(entry: &Entry, diagnosis: Diagnosis) -> Finding {
    let Diagnosis { gate, remedy, remark, evidence, edits } = diagnosis;
    let (severity, gate) = (entry.severity, gate.unwrap_or(entry.gate));
    Finding { code: entry.code.to_owned(), severity, gate, remedy, remark, evidence, edits }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    #[test]
    fn codes_are_unique_and_yield_only_to_earlier_ones() {
        for (index, entry) in CATALOGUE.iter().enumerate() {
            let earlier: Vec<_> = CATALOGUE[..index].iter().map(|e| e.code).collect();
            assert!(!earlier.contains(&entry.code), "{} stands twice", entry.code);
            for code in entry.yields_to {
                assert!(earlier.contains(code), "{} yields to {code}", entry.code);
            }
        }
    }

    #[test]
    fn a_healthy_zone_gives_no_finding() {
        for host in ["onswick.example", "timetable.onswick.example"] {
            let found = test::diagnose(host, &test::healthy(host));
            assert_eq!(found, [], "{host}");
        }
    }

    #[test]
    fn an_empty_zone_is_waiting_and_not_wrong() {
        assert_eq!(test::diagnose("timetable.onswick.example", &[]), []);
        assert_eq!(test::diagnose("onswick.example", &[]), []);
    }
}

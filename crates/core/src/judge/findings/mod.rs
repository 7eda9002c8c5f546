//! The catalogue of findings: one file each, with its detector, its two texts
//! and its tests.

use crate::judge::behind::Behind;
use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Finding, Severity};

mod address_foreign;
mod address_partial;
mod address_surplus;
mod allowance_reached;
mod answers_vary;
mod caa_forbids;
mod caa_unreadable;
mod certificate_expiring;
mod certificate_foreign;
mod challenge_blocked;
mod choices_mixed;
mod claimed_twice;
mod cname_at_apex;
mod cname_beside_others;
mod cname_chain_broken;
mod cname_foreign;
mod default_host_listed;
mod delegated_away;
mod delegation_mismatch;
mod dname_above;
mod dnssec_broken;
mod edns_refused;
mod forwarding_elsewhere;
mod fronted;
mod host_doubled;
mod https_record_stray;
mod inside_held_name;
mod ipv6_stray;
mod issuer_refused;
mod issuer_throttled;
mod left_behind;
mod mail_at_risk;
mod mail_lost;
mod name_reserved;
mod name_unanswered;
mod name_unregistered;
mod pair_incomplete;
mod registration_expiring;
mod registration_on_hold;
pub(crate) mod server_lame;
pub(crate) mod servers_disagree;
mod stalled;
mod survey_cut_short;
mod tcp_closed;
mod token_altered;
mod token_misplaced;
mod token_superseded;
mod unreachable;
mod value_doubled;
mod wildcard_answers;
mod wrong_type;

#[cfg(test)]
mod single_edits;

/// Every finding, roots of trouble first, so that consequences can yield.
pub static CATALOGUE: &[&Entry] = &[
    &name_reserved::ENTRY,
    &claimed_twice::ENTRY,
    &registration_on_hold::ENTRY,
    &name_unregistered::ENTRY,
    &registration_expiring::ENTRY,
    &unreachable::ENTRY,
    &survey_cut_short::ENTRY,
    &dnssec_broken::ENTRY,
    &delegated_away::ENTRY,
    &server_lame::ENTRY,
    &tcp_closed::ENTRY,
    &edns_refused::ENTRY,
    &name_unanswered::ENTRY,
    &answers_vary::ENTRY,
    &servers_disagree::ENTRY,
    &dname_above::ENTRY,
    &host_doubled::ENTRY,
    &token_superseded::ENTRY,
    &token_misplaced::ENTRY,
    &wildcard_answers::ENTRY,
    &token_altered::ENTRY,
    &wrong_type::ENTRY,
    &value_doubled::ENTRY,
    &cname_at_apex::ENTRY,
    &choices_mixed::ENTRY,
    &delegation_mismatch::ENTRY,
    &cname_beside_others::ENTRY,
    &fronted::ENTRY,
    &cname_chain_broken::ENTRY,
    &cname_foreign::ENTRY,
    &forwarding_elsewhere::ENTRY,
    &address_foreign::ENTRY,
    &address_surplus::ENTRY,
    &address_partial::ENTRY,
    &ipv6_stray::ENTRY,
    &https_record_stray::ENTRY,
    &mail_at_risk::ENTRY,
    &mail_lost::ENTRY,
    &inside_held_name::ENTRY,
    &allowance_reached::ENTRY,
    &caa_forbids::ENTRY,
    &caa_unreadable::ENTRY,
    &challenge_blocked::ENTRY,
    &issuer_throttled::ENTRY,
    &issuer_refused::ENTRY,
    &certificate_expiring::ENTRY,
    &certificate_foreign::ENTRY,
    &default_host_listed::ENTRY,
    &stalled::ENTRY,
    &pair_incomplete::ENTRY,
    &left_behind::ENTRY,
];

/// Findings behind which a proxy may stand that passes visitors on.
pub const FRONTABLE: [Code; 3] = [Code::AddressForeign, Code::CnameForeign, Code::CnameChainBroken];
/// What is said with them where nobody has seen what stands there.
const LEFT_ALONE: &str = " What stands behind the addresses is not known yet: their network was visited often just \
                          now, and is left alone for a minute (serve --visits-a-minute).";

/// Whether a finding keeps its gate from passing, as the catalogue has it.
pub fn is_blocker(code: Code) -> bool {
    CATALOGUE.iter().any(|entry| entry.code == code && entry.severity == Severity::Blocker)
}

/// Runs every detector; an entry yields to those that explain it. Of a domain
/// that has left only what is left behind matters.
pub fn diagnose(case: &Case<'_>) -> Vec<Finding> {
    let mut found: Vec<Finding> = Vec::new();
    let has_left = case.domain.ties.ending.is_some();

    for entry in CATALOGUE.iter().filter(|entry| has_left == (entry.code == Code::LeftBehind)) {
        if entry.yields.is_explained_by(&found) {
            continue;
        }
        if let Some(diagnosis) = (entry.detect)(case) {
            found.push(finding(entry, diagnosis));
        }
    }

    if case.evidence.behind == Behind::LeftAlone {
        let told = found.iter_mut().filter(|finding| FRONTABLE.contains(&finding.code));
        told.for_each(|finding| finding.remark.push_str(LEFT_ALONE));
    }
    let mask = case.domain.mask_of_others(case.survey);
    found.iter_mut().for_each(|finding| finding.hide(&mask));
    found
}

fn finding(entry: &Entry, diagnosis: Diagnosis) -> Finding {
    Finding {
        code: entry.code,
        severity: diagnosis.severity.unwrap_or(entry.severity),
        gate: diagnosis.gate.unwrap_or(entry.gate),
        remedy: diagnosis.remedy,
        remark: diagnosis.remark,
        evidence: diagnosis.evidence,
        edits: diagnosis.edits,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::judge::finding::Yields;
    use crate::test;

    #[test]
    fn codes_are_unique_and_yield_only_to_earlier_ones() {
        for (index, entry) in CATALOGUE.iter().enumerate() {
            let earlier: Vec<_> = CATALOGUE[..index].iter().map(|e| e.code).collect();
            assert!(!earlier.contains(&entry.code), "{} stands twice", entry.code);

            let Yields::To(codes) = entry.yields else { continue };
            for code in codes {
                assert!(earlier.contains(code), "{} yields to {code}", entry.code);
            }
        }
        assert_eq!(CATALOGUE.len(), Code::ALL.len(), "every code has its detector");
    }

    #[test]
    fn the_token_of_another_claim_is_told_masked_and_edited_whole() {
        let other = "token=qqqqqqqqrrrrrrrrssssssssttttttt2";
        let zone = [format!("timetable TXT {other}"), "timetable A 192.0.2.7".into()];
        let list = test::todo("timetable.onswick.example", &zone.each_ref().map(String::as_str));
        assert!(list.iter().any(|edit| edit.value.contains(other)), "{list:?}");
        let found = test::diagnose("timetable.onswick.example", &zone.each_ref().map(String::as_str));
        let told: String = found.iter().map(|finding| finding.remedy.clone() + &finding.remark).collect();
        assert!(!told.contains(other), "{told}");
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

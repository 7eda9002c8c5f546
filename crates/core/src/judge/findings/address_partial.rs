//! `address-partial`: some of our addresses are missing.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::verdict::AddressSplit;
use crate::reading::record::{RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::AddressPartial,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "Some of the platform's addresses are published and others are missing.",
    yields: Yields::To(&[
        Code::AnswersVary,
        Code::ServersDisagree,
        Code::ChoicesMixed,
        Code::CnameBesideOthers,
        Code::WrongType,
        Code::WildcardAnswers,
        Code::CnameForeign,
        Code::AddressForeign,
        Code::AddressSurplus,
    ]),
    detect,
};

/// Some are there and some are not. A stray AAAA has its own finding, whose
/// remedy adds what is missing.
fn is_partial(split: &AddressSplit) -> bool {
    let has_some = !split.ours_v4.is_empty() || !split.ours_v6.is_empty();
    let lacks_six = !split.missing_v6.is_empty() && split.foreign_v6.is_empty();
    has_some && (!split.missing_v4.is_empty() || lacks_six)
}

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let split = case.first_split(is_partial)?;
    let mut edits = case.additions(RecordType::A, &split.missing_v4);
    if split.foreign_v6.is_empty() {
        edits.extend(case.additions(RecordType::Aaaa, &split.missing_v6));
    }

    Some(Diagnosis {
        remedy: format!("{} The others are right; keep them.", sentences(&edits)),
        remark: "All addresses of the ingress are needed, so that one may be taken out of service.".into(),
        evidence: case.host_sightings(|data| matches!(data, RecordData::A(_) | RecordData::Aaaa(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_missing_ones_are_named() {
        let found = test::diagnose("onswick.example", &["@ A 127.77.0.11", "@ AAAA ::1"]);
        assert_eq!(test::codes(&found), ["address-partial"]);
        assert!(found[0].remedy.starts_with("Add the A record 127.77.0.10 at @. The others are right"));
    }
}

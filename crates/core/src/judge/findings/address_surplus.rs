//! `address-surplus`: ours are there, and others beside them.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::reading::record::{RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::AddressSurplus,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "Beside the platform's A records stands another one, which takes its share of the visitors.",
    yields: Yields::To(&[
        Code::AnswersVary,
        Code::ServersDisagree,
        Code::ChoicesMixed,
        Code::CnameBesideOthers,
        Code::WrongType,
        Code::WildcardAnswers,
        Code::CnameForeign,
        Code::AddressForeign,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let split = case.first_split(|s| !s.foreign_v4.is_empty() && !s.ours_v4.is_empty())?;
    let mut edits = case.deletions(RecordType::A, &split.foreign_v4);
    edits.extend(case.deletions(RecordType::Aaaa, &split.foreign_v6));
    edits.extend(case.additions(RecordType::A, &split.missing_v4));
    edits.extend(case.additions(RecordType::Aaaa, &split.missing_v6));
    edits.extend(case.edits_at_host(EditKind::Keep, RecordType::A, &split.ours_v4));

    let kept = split.ours_v4.len();
    let all = kept + split.foreign_v4.len();
    Some(Diagnosis {
        remedy: format!("{} Only {kept} of {all} addresses are ours.", sentences(&edits)),
        remark: "Resolvers hand the addresses out in turn, so some visitors and the certification \
                 authority may reach the other host."
            .into(),
        evidence: case.host_sightings(|data| matches!(data, RecordData::A(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_extra_one_is_deleted_and_ours_are_kept() {
        let mut zone = test::healthy("onswick.example");
        zone.push("@ A 192.0.2.7");
        let found = test::diagnose("onswick.example", &zone);
        assert_eq!(test::codes(&found), ["address-surplus"]);
        assert!(found[0].remedy.starts_with(
            "Delete the A record 192.0.2.7 at @. Keep the A record 127.77.0.10 at @. Keep the A record"
        ));
    }
}

//! `cname-foreign`: the name is an alias of somebody else's host.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::reading::record::RecordData;

pub(super) const ENTRY: Entry = Entry {
    code: Code::CnameForeign,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The name has a CNAME record that points at another host than the platform's, usually one left \
            by the former host.",
    yields: Yields::To(&[
        Code::AnswersVary,
        Code::Fronted,
        Code::ServersDisagree,
        Code::ValueDoubled,
        Code::CnameAtApex,
        Code::ChoicesMixed,
        Code::CnameBesideOthers,
        Code::CnameChainBroken,
        Code::WildcardAnswers,
        Code::DnameAbove,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let target = case.foreign_alias()?;
    let edits = vec![case.change_cname(target)];

    Some(Diagnosis {
        remedy: format!("{} It now points at {target}, so visitors go there.", sentences(&edits)),
        remark: format!("Expected the canonical host {}.", case.sheet.canonical),
        evidence: case.host_sightings(|data| matches!(data, RecordData::Cname(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn the_cname_is_changed_to_the_canonical_host() {
        let found = test::diagnose("timetable.onswick.example", &["timetable CNAME shop.harrowhost.example"]);
        assert_eq!(test::codes(&found), ["cname-foreign"]);
        assert_eq!(
            found[0].remedy,
            "Change the CNAME record at timetable to onswick.edge.quaymark.example. \
             It now points at shop.harrowhost.example, so visitors go there."
        );
    }
}

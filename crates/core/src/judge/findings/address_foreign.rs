//! `address-foreign`: every address of the name is somebody else's.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::reading::record::RecordData;

pub(super) const ENTRY: Entry = Entry {
    code: Code::AddressForeign,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The name has A records, and none of them is the platform's: the former host still serves it.",
    yields: Yields::To(&[
        Code::AnswersVary,
        Code::Fronted,
        Code::ServersDisagree,
        Code::ChoicesMixed,
        Code::CnameBesideOthers,
        Code::WrongType,
        Code::WildcardAnswers,
        Code::CnameForeign,
        Code::ForwardingElsewhere,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let split = case.first_split(|s| !s.foreign_v4.is_empty() && s.ours_v4.is_empty())?;
    let edits = case.replacements(&split);

    Some(Diagnosis {
        remedy: format!(
            "{} Until then visitors reach the former host. Keep mail records.",
            sentences(&edits)
        ),
        remark: "No address of the ingress is among the published ones.".into(),
        evidence: case.host_sightings(|data| matches!(data, RecordData::A(_) | RecordData::Aaaa(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn an_apex_swaps_addresses() {
        let found = test::diagnose("onswick.example", &["@ A 192.0.2.7"]);
        assert_eq!(test::codes(&found), ["address-foreign"]);
        assert!(found[0].remedy.starts_with(
            "Delete the A record 192.0.2.7 at @. Add the A record 127.77.0.10 at @. \
             Add the A record 127.77.0.11 at @. Add the AAAA record ::1 at @."
        ));
    }

    #[test]
    fn a_subdomain_swaps_its_address_for_a_cname_and_foreign_ipv6_goes_too() {
        let found = test::diagnose("www.onswick.example", &["www A 192.0.2.7", "www AAAA 2001:db8::7"]);
        assert_eq!(test::codes(&found), ["address-foreign"]);
        assert!(found[0].remedy.contains("Delete the AAAA record 2001:db8::7 at www. Add the CNAME record"));
    }
}

//! `ipv6-stray`: the IPv4 side is ours, the IPv6 side is not.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::reading::record::{RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::Ipv6Stray,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "An AAAA record of the former host is left. Visitors with IPv6, and certification authorities, \
            which try IPv6 first, go there.",
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

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let split = case.first_split(|s| !s.foreign_v6.is_empty())?;
    let mut edits = case.deletions(RecordType::Aaaa, &split.foreign_v6);
    if !split.ours_v4.is_empty() {
        edits.extend(case.additions(RecordType::Aaaa, &split.missing_v6));
    }

    Some(Diagnosis {
        remedy: format!("{} It sends everyone who has IPv6 to the former host.", sentences(&edits)),
        remark: "Certification authorities try IPv6 first, so validation would end at the other host.".into(),
        evidence: case.host_sightings(|data| matches!(data, RecordData::Aaaa(_))),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn only_the_stray_address_is_named() {
        let found =
            test::diagnose("onswick.example", &["@ A 127.77.0.10", "@ A 127.77.0.11", "@ AAAA 2001:db8::7"]);
        assert_eq!(test::codes(&found), ["ipv6-stray"]);
        assert!(
            found[0]
                .remedy
                .starts_with("Delete the AAAA record 2001:db8::7 at @. Add the AAAA record ::1 at @.")
        );
    }
}

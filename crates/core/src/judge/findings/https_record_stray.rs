//! `https-record-stray`: an HTTPS record leads browsers somewhere else.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::record::RecordType;

pub(super) const ENTRY: Entry = Entry {
    code: Code::HttpsRecordStray,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "An HTTPS record (RFC 9460) at the name gives another target or addresses that are not the \
            platform's. Browsers believe it before the A and AAAA records.",
    yields: Yields::To(&[Code::ServersDisagree]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let held: Vec<_> = case
        .survey
        .held(&case.sheet.routed, RecordType::Https)
        .filter(|(_, record)| case.is_stray_binding(record))
        .collect();
    held.first()?;

    let edits = case.edit_records(EditKind::Delete, &held);
    Some(Diagnosis {
        remedy: format!(
            "{} Browsers follow it to the former host, whatever else is published.",
            sentences(&edits)
        ),
        remark: "Address lookups look right, so command-line checks pass while browsers fail.".into(),
        evidence: Sighting::of_all(&held),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::test;

    fn with(line: &str) -> Vec<String> {
        let mut zone = test::healthy("onswick.example");
        zone.push(line);
        test::diagnose("onswick.example", &zone).iter().map(|f| f.code.to_string()).collect()
    }

    #[test]
    fn foreign_hints_and_targets_are_stray_and_our_own_are_not() {
        assert_eq!(with("@ HTTPS . 192.0.2.7"), ["https-record-stray"]);
        assert_eq!(with("@ HTTPS cdn.harrowhost.example"), ["https-record-stray"]);
        assert_eq!(with("@ HTTPS . 127.77.0.10 ::1"), [""; 0]);
        assert_eq!(with("@ HTTPS onswick.edge.quaymark.example"), [""; 0]);
    }
}

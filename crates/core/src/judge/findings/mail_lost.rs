//! `mail-lost`: mail records that stood at enrolment are gone.

use crate::judge::baseline::policy;
use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::record::{Record, RecordData, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: Code::MailLost,
    severity: Severity::Warning,
    gate: GateName::Routing,
    about: "The baseline has mail records (MX, or TXT with v=spf1 or v=DMARC1), and none of that kind is \
            left: they were deleted along with the former host's records. Mail bounces, or counts as forged.",
    yields: Yields::To(&[Code::Unreachable, Code::NameUnregistered, Code::ServersDisagree]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let lost: Vec<&Record> = case.domain.mail_before.iter().filter(|r| is_lost(case, r)).collect();
    lost.first()?;

    let edits: Vec<_> = lost.iter().map(|record| case.edit_record(EditKind::Add, record)).collect();
    Some(Diagnosis {
        remedy: format!("{} {}", sentences(&edits), consequence(&lost)),
        remark: "The records were there when the domain was taken in.".into(),
        evidence: lost.iter().map(|record| Sighting::of("the baseline", record)).collect(),
        edits,
        ..Diagnosis::default()
    })
}

fn consequence(lost: &[&Record]) -> String {
    match lost.iter().find(|r| matches!(r.data, RecordData::Mx { .. })) {
        Some(mail) => format!("Without it mail to {} does not arrive.", mail.owner),
        None => format!("Without it mail from {} may be taken for forged.", lost[0].owner),
    }
}

/// A changed mail host or policy is the customer's own affair; none at all is
/// not.
fn is_lost(case: &Case<'_>, record: &Record) -> bool {
    let rtype = if matches!(record.data, RecordData::Txt(_)) { RecordType::Txt } else { RecordType::Mx };

    let mut answers = case.survey.authority(&record.owner, rtype).peekable();
    let is_known = answers.peek().is_some();
    is_known && !answers.any(|(_, records)| records.iter().any(|other| is_same_kind(record, other)))
}

fn is_same_kind(one: &Record, other: &Record) -> bool {
    match one.data {
        RecordData::Txt(_) => policy(&one.data) == policy(&other.data),
        _ => matches!(other.data, RecordData::Mx { .. }),
    }
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn a_policy_that_vanished_is_given_back_and_one_that_changed_is_left_alone() {
        let host = "onswick.example";
        let mut domain = test::domain(host);
        domain.mail_before = vec![test::record("@ MX 10 mx.onswick.example")];
        domain.mail_before.push(test::record("@ TXT v=spf1 mx -all"));
        let judge = |lines: &[&str]| {
            let zone = [&test::healthy(host)[..], lines].concat();
            let found = test::judge(&domain, &test::survey(host, &zone));
            found.iter().map(|f| f.remedy.clone()).collect::<Vec<_>>()
        };
        let mail = "@ MX 10 mx.onswick.example";
        assert!(judge(&[mail, "@ TXT v=spf1 include:posthus.example -all"]).is_empty());
        assert_eq!(
            judge(&[mail, "@ TXT something else"]),
            [
                "Add the TXT record \"v=spf1 mx -all\" at @. Without it mail from onswick.example may be taken for forged."
            ]
        );
    }

    #[test]
    fn exchanges_are_lost_only_when_none_is_left() {
        let host = "onswick.example";
        let mut domain = test::domain(host);
        domain.mail_before = vec![test::record("@ MX 10 mx.onswick.example")];
        let judge = |lines: &[&str]| {
            let zone = [&test::healthy(host)[..], lines].concat();
            let found = test::judge(&domain, &test::survey(host, &zone));
            found.iter().map(|f| f.remedy.clone()).collect::<Vec<_>>()
        };
        assert!(judge(&["@ MX 10 mx.onswick.example"]).is_empty());
        assert!(judge(&["@ MX 5 post.harrowhost.example"]).is_empty());
        assert_eq!(
            judge(&[]),
            [
                "Add the MX record 10 mx.onswick.example at @. Without it mail to onswick.example does not arrive."
            ]
        );
    }
}

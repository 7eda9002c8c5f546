//! `mail-lost`: mail records that stood at enrolment are gone.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, Sighting, sentences};
use crate::gate::GateName;
use crate::reading::{Record, RecordType};

pub(super) const ENTRY: Entry = Entry {
    code: "mail-lost",
    severity: Severity::Warning,
    gate: GateName::Routing,
    about: "The baseline has mail records, and none is left: they were deleted along with the former \
            host's records. Mail bounces.",
    yields_to: &["unreachable", "name-unregistered", "servers-disagree"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let lost: Vec<&Record> = case.domain.mail_before.iter().filter(|r| is_lost(case, r)).collect();
    lost.first()?;
    let edits: Vec<_> = lost.iter().map(|r| case.edit_record(EditKind::Add, r)).collect();
    let sighted = |r: &&Record| Sighting {
        source: "the baseline".into(),
        said: format!("{} {} {}", r.owner, r.data.type_name(), r.data),
        ttl: Some(r.ttl),
    };
    Some(Diagnosis {
        remedy: format!("{} Without it mail to {} does not arrive.", sentences(&edits), lost[0].owner),
        remark: "The records were there when the domain was taken in.".into(),
        evidence: lost.iter().map(sighted).collect(),
        edits,
        ..Diagnosis::default()
    })
}

/// A changed mail host is the customer's own affair; no mail host at all is not.
fn is_lost(case: &Case<'_>, record: &Record) -> bool {
    let mut answers = case.survey.authority(&record.owner, RecordType::Mx).peekable();
    answers.peek().is_some() && answers.all(|(_, records)| records.is_empty())
}

#[cfg(test)]
mod tests {
    use crate::test;

    #[test]
    fn mail_that_vanished_is_given_back_and_mail_that_moved_is_left_alone() {
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

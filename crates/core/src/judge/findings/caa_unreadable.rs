//! `caa-unreadable`: nobody answers whether CAA records restrict who may issue.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::reading::climb::CaaView;

pub(super) const ENTRY: Entry = Entry {
    code: Code::CaaUnreadable,
    severity: Severity::Blocker,
    gate: GateName::Certificate,
    about: "The name servers fail when they are asked for CAA records. A certification authority may not issue \
            while it cannot tell whether it is allowed to (RFC 8659, section 3).",
    yields: Yields::To(&[
        Code::NameUnregistered,
        Code::Unreachable,
        Code::DnssecBroken,
        Code::NameUnanswered,
        Code::ServerLame,
        Code::TcpClosed,
        Code::EdnsRefused,
        Code::CnameChainBroken,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let CaaView::Unread { owner, why, theirs: true } = case.caa() else { return None };

    Some(Diagnosis {
        remedy: format!(
            "Ask your DNS operator why its servers fail for CAA records at {owner}; an answer that there are none is \
             enough. No certificate can be issued until they answer. Keep the records."
        ),
        remark: format!("{why} for {owner} CAA; the certification authority will be answered no better."),
        evidence: vec![Sighting::new(&case.sheet.zone, format!("{owner} CAA: {why}"))],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::reading::answer::{Outcome, Rcode};
    use crate::reading::record::RecordType;
    use crate::test;

    #[test]
    fn a_server_that_fails_for_caa_alone_forbids_what_it_does_not_know_of() {
        let host = "onswick.example";
        let mut survey = test::survey_spread(host, &test::healthy(host), 2, 2);
        let failed = Outcome::Answer { rcode: Rcode::ServFail, authoritative: false, records: Vec::new() };
        for reading in survey.readings.iter_mut().filter(|r| r.rtype == RecordType::Caa && r.name == host) {
            reading.outcome = failed.clone();
        }

        let found = test::judge(&test::domain(host), &survey);
        assert_eq!(test::codes(&found), ["caa-unreadable"]);
        assert!(found[0].remark.contains("answers SERVFAIL for onswick.example CAA"), "{}", found[0].remark);
    }

    #[test]
    fn silence_of_our_own_vantages_is_held_against_nobody() {
        let host = "onswick.example";
        let mut survey = test::survey_spread(host, &test::healthy(host), 2, 2);
        let vantages =
            survey.readings.iter_mut().filter(|r| r.rtype == RecordType::Caa && !r.source.is_authority());
        vantages.for_each(|reading| reading.outcome = Outcome::Silence);
        assert!(test::judge(&test::domain(host), &survey).is_empty());
    }
}

//! `forwarding-elsewhere`: an editor's web forwarding sends visitors away.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::sentences;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::ForwardingElsewhere,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The name stands at a web forwarder, which sends every visitor on to another address: a service \
            of the DNS editor that was once switched on, and that puts its own records in.",
    yields: Yields::To(&[
        Code::AnswersVary,
        Code::Fronted,
        Code::ServersDisagree,
        Code::ChoicesMixed,
        Code::CnameBesideOthers,
        Code::WrongType,
        Code::WildcardAnswers,
        Code::CnameForeign,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let forwards = case.evidence.behind.forwards();
    let forward = forwards.first()?;
    let split = case.first_split(|s| !s.foreign_v4.is_empty() && s.ours_v4.is_empty())?;
    let edits = case.replacements(&split);
    let host = &case.domain.host;

    Some(Diagnosis {
        remedy: format!(
            "Switch the forwarding of {host} off in the DNS editor; it leads to {}. Then: {}",
            forward.location,
            sentences(&edits)
        ),
        remark: "While forwarding is on, many editors put its records back or refuse others beside them."
            .into(),
        evidence: forwards
            .iter()
            .map(|f| Sighting::new(f.address, format!("sends http://{host}/ on to {}", f.location)))
            .collect(),
        edits,
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use crate::judge::behind::{Behind, Forward, Visit};
    use crate::judge::evidence::Evidence;
    use crate::test;

    fn found(lines: &[&str], forwards: Vec<Forward>) -> Vec<String> {
        let host = "onswick.example";
        let behind = Behind::Visited(Visit { forwards, ..Visit::default() });
        let evidence = Evidence { behind, ..Evidence::default() };
        let found = test::judge_by(&test::domain(host), &test::survey(host, lines), evidence);
        found.into_iter().map(|f| f.code.to_string()).collect()
    }

    #[test]
    fn a_redirect_away_explains_the_foreign_address() {
        let forward = Forward { address: [192, 0, 2, 7].into(), location: "https://old.example/".into() };
        assert_eq!(found(&["@ A 192.0.2.7"], vec![forward]), ["forwarding-elsewhere"]);
        assert_eq!(found(&["@ A 192.0.2.7"], Vec::new()), ["address-foreign"]);
        assert_eq!(found(&test::healthy("onswick.example"), Vec::new()), [""; 0]);
    }
}

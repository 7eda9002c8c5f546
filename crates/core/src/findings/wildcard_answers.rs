//! `wildcard-answers`: a wildcard stands in for a record that is missing.

use crate::finding::{Case, Diagnosis, EditKind, Entry, Severity, sentences, sighting};
use crate::gate::GateName;
use crate::names;
use crate::reading::{Record, RecordType, Source};
use crate::sheet::{Line, Purpose};

pub(super) const ENTRY: Entry = Entry {
    code: "wildcard-answers",
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The name itself holds nothing; a wildcard record answers in its place (RFC 4592), and not \
            with what the sheet asks for.",
    yields_to: &["servers-disagree", "host-doubled", "token-misplaced"],
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let token = (!case.owned()).then(|| synthesized(case, &case.sheet.challenge, RecordType::Txt));
    let host = (!case.routed()).then(|| synthesized(case, &case.sheet.routed, RecordType::A));
    let (gate, purpose, held) = [
        (GateName::Ownership, Purpose::Ownership, token.unwrap_or_default()),
        (GateName::Routing, Purpose::Routing, host.unwrap_or_default()),
    ]
    .into_iter()
    .find(|(_, _, held)| !held.is_empty())?;
    let star = star(case, purpose);
    let keep = held.iter().map(|(_, r)| crate::finding::Edit {
        kind: EditKind::Keep,
        owner: star.clone(),
        host_field: case.sheet.host_field(&star),
        ..case.edit_record(EditKind::Keep, r)
    });
    let lines: Vec<&Line> = match purpose {
        Purpose::Routing => case.sheet.by(case.way()).collect(),
        _ => case.sheet.preferred(purpose).collect(),
    };
    let mut edits: Vec<_> = lines.into_iter().map(|line| case.publish(line)).collect();
    edits.extend(keep);
    Some(Diagnosis {
        gate: Some(gate),
        remedy: format!(
            "{} The wildcard answers for every name that has no record of its own; a record at the name comes first.",
            sentences(&edits)
        ),
        remark: "A name beside it, which nobody publishes, gives the same answer.".into(),
        evidence: held.iter().map(|(source, record)| sighting(source, record)).collect(),
        edits,
        ..Diagnosis::default()
    })
}

/// The wildcard's own name: beside the host, or under it where something
/// stands at the host (RFC 4592, section 2.2.1).
fn star(case: &Case<'_>, purpose: Purpose) -> String {
    let (host, routed) = (case.domain.host.as_str(), &case.sheet.routed);
    let mut held = case.survey.held(routed, RecordType::A);
    let stands = case.sheet.apex || held.any(|(source, _)| !case.from_wildcard(source, routed));
    match purpose {
        Purpose::Ownership if stands => format!("*.{host}"),
        _ => format!("*.{}", names::parent(host)),
    }
}

fn synthesized<'a>(case: &'a Case<'_>, name: &'a str, rtype: RecordType) -> Vec<(&'a Source, &'a Record)> {
    case.survey.held(name, rtype).filter(|(source, _)| case.from_wildcard(source, name)).collect()
}

#[cfg(test)]
mod tests {
    use crate::test;

    const HOST: &str = "timetable.onswick.example";

    #[test]
    fn the_wildcard_is_kept_and_the_name_gets_its_own_record() {
        let found = test::diagnose(HOST, &["* A 192.0.2.7"]);
        assert_eq!(test::codes(&found), ["wildcard-answers"]);
        assert!(
            found[0].remedy.starts_with(
                "Add the CNAME record onswick.edge.quaymark.example at timetable. \
                 Keep the A record 192.0.2.7 at *."
            ),
            "{}",
            found[0].remedy
        );
    }

    #[test]
    fn a_text_wildcard_in_the_place_of_the_token_is_no_altered_token() {
        let found = test::diagnose("onswick.example", &["* TXT v=spf1 -all"]);
        assert_eq!(test::codes(&found), ["wildcard-answers"]);
    }

    #[test]
    fn a_wildcard_that_leads_here_is_no_trouble() {
        assert!(test::diagnose(HOST, &["* CNAME onswick.edge.quaymark.example"]).is_empty());
        let token = test::healthy(HOST)[0];
        let found = test::diagnose(HOST, &[token, "* A 192.0.2.7"]);
        assert!(
            found.is_empty(),
            "a record under the name ends the wildcard's reach (RFC 4592, section 2.2.2)"
        );
    }

    #[test]
    fn the_same_address_at_name_and_wildcard_is_the_wildcards_to_anyone_who_asks() {
        let token = test::healthy(HOST)[0];
        let found = test::diagnose(HOST, &[token, "* A 192.0.2.7", "timetable A 192.0.2.8"]);
        assert_eq!(test::codes(&found), ["address-foreign"], "the name has a record of its own");
    }
}

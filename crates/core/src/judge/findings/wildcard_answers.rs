//! `wildcard-answers`: a wildcard stands in for a record that is missing.

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{Edit, EditKind, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::{self, DnsName};
use crate::reading::answer::Source;
use crate::reading::record::{Record, RecordType};
use crate::sheet::line::{Line, Purpose};

pub(super) const ENTRY: Entry = Entry {
    code: Code::WildcardAnswers,
    severity: Severity::Blocker,
    gate: GateName::Ownership,
    about: "The name itself holds nothing; a wildcard record answers in its place (RFC 4592), and not \
            with what the sheet asks for.",
    yields: Yields::To(&[Code::ServersDisagree, Code::DnameAbove, Code::HostDoubled, Code::TokenMisplaced]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let (purpose, held) = answered(case)?;
    let mut lines: Vec<&Line> = Vec::new();
    if purpose == Purpose::Ownership {
        lines.extend(case.sheet.preferred(purpose));
    }
    // A record under the host ends the wildcard's reach for the host too (RFC
    // 4592, section 2.2.2).
    if purpose == Purpose::Routing || !synthesized(case, &case.sheet.routed, RecordType::A).is_empty() {
        lines.extend(case.sheet.by(case.choice()));
    }

    let star = star(case, purpose);
    let mut edits: Vec<_> = lines.into_iter().map(|line| case.publish(line)).collect();
    // What it hands out by turns is another record each time, and what it makes of the name that is
    // asked for another one at each name.
    let kept: Vec<_> =
        held.iter().copied().filter(|(_, record)| is_everywhere(case, purpose, record)).collect();
    let kept = if case.variation.by_turns { &[][..] } else { &kept };
    for kept in case.edit_records(EditKind::Keep, kept) {
        edits.push(Edit { owner: star.clone(), host_field: case.sheet.host_field(&star), ..kept });
    }

    Some(Diagnosis {
        gate: Some(GateName::of(purpose)),
        remedy: format!(
            "{} The wildcard at {} answers for every name that has no record of its own; a record at the name comes \
             first.",
            sentences(&edits),
            case.sheet.host_field(&star)
        ),
        remark: "A name beside it, which nobody publishes, gives the same answer.".into(),
        evidence: Sighting::of_all(&held),
        edits,
        ..Diagnosis::default()
    })
}

/// What a wildcard answers for first, and with what.
fn answered<'a>(case: &'a Case<'_>) -> Option<(Purpose, Vec<(&'a Source, &'a Record)>)> {
    if !case.is_owned() {
        let held = synthesized(case, &case.sheet.challenge, RecordType::Txt);
        if !held.is_empty() {
            return Some((Purpose::Ownership, held));
        }
    }
    if case.is_routed() {
        return None;
    }

    let held = synthesized(case, &case.sheet.routed, RecordType::A);
    (!held.is_empty()).then_some((Purpose::Routing, held))
}

/// The wildcard's own name: beside the host, or under it where something
/// stands at the host (RFC 4592, section 2.2.1).
fn star(case: &Case<'_>, purpose: Purpose) -> DnsName {
    let host = case.domain.host.as_str();
    let stands = case.sheet.apex || case.own(&case.sheet.routed, RecordType::A).next().is_some();

    match purpose {
        Purpose::Ownership if stands => DnsName::new(host).child("*"),
        _ => DnsName::new(dns::parent(host)).child("*"),
    }
}

/// Whether the name beside has the same record, and so has the wildcard.
fn is_everywhere(case: &Case<'_>, purpose: Purpose, record: &Record) -> bool {
    let name = if purpose == Purpose::Ownership { &case.sheet.challenge } else { &case.sheet.routed };
    let beside = case.beside(name);
    record
        .data
        .rtype()
        .is_some_and(|rtype| case.survey.held(&beside, rtype).any(|(_, other)| other.data == record.data))
}

fn synthesized<'a>(case: &'a Case<'_>, name: &'a str, rtype: RecordType) -> Vec<(&'a Source, &'a Record)> {
    let held = case.survey.held(name, rtype);
    let mut are_from_wildcard = case.are_from_wildcard(name, rtype);
    held.filter(|(source, _)| are_from_wildcard(source)).collect()
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

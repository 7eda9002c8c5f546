//! `name-unanswered`: the zone's servers answer other questions, and fail at one.
//!
//! A server may fail at just one name or one type: at an alias whose target cannot be resolved,
//! at a circle of aliases, at names with an underscore, or at a type that it does not know. What
//! it says of the zone's start shows that the server itself is sound.

use std::collections::{BTreeMap, BTreeSet};

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::edit::{Edit, sentences};
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;
use crate::name::dns::DnsName;
use crate::reading::answer::{Outcome, Rcode, Reading, Source};
use crate::reading::record::RecordType;
use crate::sheet::line::{Choice, Purpose};

pub(super) const ENTRY: Entry = Entry {
    code: Code::NameUnanswered,
    severity: Severity::Blocker,
    gate: GateName::Routing,
    about: "The zone's name servers answer questions about the zone, and fail, refuse or stay silent at one name or \
            one record type. An alias whose target cannot be resolved does that, and so do servers that do not \
            know a type or do not take names with an underscore.",
    yields: Yields::To(&[
        Code::Unreachable,
        Code::DnssecBroken,
        Code::DelegatedAway,
        Code::TcpClosed,
        Code::EdnsRefused,
    ]),
    detect,
};

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let failing: Vec<Question<'_>> = questions(case).filter_map(|part| Question::of(case, part)).collect();
    let worst = failing.iter().find(|question| question.is_unread).or_else(|| failing.first())?;

    let edits = if worst.is_unread { edits(case, worst) } else { Vec::new() };
    let at_worst = failing.iter().filter(|question| question.name == worst.name);
    let types: Vec<_> = at_worst.map(|question| question.rtype.as_str()).collect();

    Some(Diagnosis {
        gate: Some(worst.gate),
        severity: Some(if worst.is_unread { Severity::Blocker } else { Severity::Warning }),
        remedy: remedy(case, worst, &types.join(" and "), &edits),
        remark: format!(
            "About {} itself the same servers answer, so the servers are up. Resolvers get the same failure.",
            case.sheet.zone
        ),
        evidence: failing
            .iter()
            .flat_map(|question| &question.readings)
            .map(|r| Sighting::of_failure(r))
            .collect(),
        edits,
    })
}

/// A question that a gate needs an answer to, and the readings that fail at it.
struct Question<'a> {
    gate: GateName,
    name: &'a DnsName,
    rtype: RecordType,
    readings: Vec<&'a Reading>,
    /// Whether no server answers it.
    is_unread: bool,
}

fn questions<'a>(case: &'a Case<'_>) -> impl Iterator<Item = (GateName, &'a DnsName, RecordType)> {
    [
        (GateName::Ownership, &case.sheet.challenge, RecordType::Txt),
        (GateName::Routing, &case.sheet.routed, RecordType::A),
        (GateName::Routing, &case.sheet.routed, RecordType::Aaaa),
    ]
    .into_iter()
    .filter(|(gate, ..)| *gate != GateName::Ownership || !case.is_owned())
}

impl<'a> Question<'a> {
    fn of(case: &'a Case<'_>, (gate, name, rtype): (GateName, &'a DnsName, RecordType)) -> Option<Self> {
        let readings: Vec<&Reading> = case
            .survey
            .of(name, rtype)
            .filter(|reading| is_failure(reading) && is_sound(case, &reading.source))
            .collect();
        let is_unread = case.survey.authority(name, rtype).next().is_none();
        // Where others show an alias, it is what this one fails at, and is judged as that.
        let is_explained = !is_unread && gate == GateName::Routing && case.has_alias();
        (!readings.is_empty() && !is_explained).then_some(Self { gate, name, rtype, readings, is_unread })
    }
}

impl Question<'_> {
    /// Whether it is a type of address that the servers do not know: no record makes them.
    fn is_of_unknown_type(&self) -> bool {
        if self.gate == GateName::Ownership {
            return false;
        }
        let mut codes = self.readings.iter().map(|reading| &reading.outcome);
        codes.all(|outcome| matches!(outcome, Outcome::Answer { rcode: Rcode::NOT_IMPLEMENTED, .. }))
    }
}

/// Whether a server of the zone gave something that nobody can use.
fn is_failure(reading: &Reading) -> bool {
    let is_of_no_use = match &reading.outcome {
        Outcome::Answer { rcode, .. } => !matches!(rcode, Rcode::NoError | Rcode::NxDomain),
        Outcome::Silence | Outcome::Garbled { .. } => true,
        _ => false,
    };
    reading.source.is_authority() && is_of_no_use
}

/// Whether a server answers with authority about the zone itself.
fn is_sound(case: &Case<'_>, server: &Source) -> bool {
    let mut starts = case.survey.authority(&case.sheet.zone, RecordType::Soa);
    starts.any(|(source, _)| source == server)
}

/// What goes round it: the token at the host where names with an underscore are refused, records
/// of one's own where an alias fails.
fn edits(case: &Case<'_>, question: &Question<'_>) -> Vec<Edit> {
    if question.is_of_unknown_type() {
        return Vec::new();
    }
    match question.gate {
        GateName::Ownership if case.choice() == Choice::Cname => Vec::new(),
        GateName::Ownership => {
            let at_host = case.sheet.of(Purpose::Ownership).filter(|line| line.choice == Choice::HostTxt);
            at_host.map(|line| case.publish(line)).collect()
        }
        _ => case.sheet.by(case.choice()).map(|line| case.publish(line)).collect(),
    }
}

fn remedy(case: &Case<'_>, question: &Question<'_>, types: &str, edits: &[Edit]) -> String {
    let servers: BTreeSet<_> = question.readings.iter().map(|reading| reading.source.to_string()).collect();
    let servers = servers.into_iter().collect::<Vec<_>>().join(" and ");
    let at = case.sheet.host_field(question.name);
    let head = format!("Asked for the {types} records at {at}, {}.", said(question));

    if !question.is_unread {
        return format!(
            "{head} The other name servers answer. Ask your DNS operator to have {servers} mended; the records on the \
             sheet are not at fault."
        );
    }
    if question.is_of_unknown_type() {
        return format!(
            "{head} It does not know that record type. Ask your DNS operator to have {servers} answer for it; the \
             records on the sheet are not at fault."
        );
    }
    match question.gate {
        GateName::Ownership if edits.is_empty() => format!(
            "{head} Ask your DNS operator to have {servers} answer for names that begin with an underscore; the \
             record on the sheet is not at fault."
        ),
        GateName::Ownership => {
            format!("{head} {} It does the same there, at a name without an underscore.", sentences(edits))
        }
        _ => format!(
            "{head} If an alias stands there, its target cannot be resolved: delete it. {} If it is still so after \
             that, ask your DNS operator why.",
            sentences(edits)
        ),
    }
}

/// Who does what, once for each answer that is given.
fn said(question: &Question<'_>) -> String {
    let mut by_failure: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    for reading in &question.readings {
        let failure = reading.failure().unwrap_or_default();
        by_failure.entry(failure).or_default().insert(reading.source.to_string());
    }

    let said: Vec<_> = by_failure.into_iter().map(|(failure, servers)| each(&failure, servers)).collect();
    said.join(", and ")
}

fn each(failure: &str, servers: BTreeSet<String>) -> String {
    let each = if servers.len() > 1 { "each " } else { "" };
    format!("{} {each}{failure}", servers.into_iter().collect::<Vec<_>>().join(" and "))
}

#[cfg(test)]
mod tests {
    use crate::judge::finding::{Finding, Severity};
    use crate::judge::gate::GateName;
    use crate::reading::answer::{Outcome, Rcode, Reading};
    use crate::reading::record::RecordType;
    use crate::reading::survey::Survey;
    use crate::test;

    const APEX: &str = "onswick.example";

    fn failed(rcode: Rcode) -> Outcome {
        Outcome::Answer { rcode, authoritative: false, records: Vec::new() }
    }

    /// A sound zone, with some answers of its servers replaced.
    fn failing(host: &str, outcome: &Outcome, wanted: impl Fn(&Reading) -> bool) -> Survey {
        let mut survey = test::survey_spread(host, &test::healthy(host), 0, 0);
        let readings = survey.readings.iter_mut().filter(|reading| wanted(reading));
        readings.for_each(|reading| reading.outcome = outcome.clone());
        survey
    }

    fn found(host: &str, survey: &Survey) -> Finding {
        let mut found = test::judge(&test::domain(host), survey);
        assert_eq!(test::codes(&found), ["name-unanswered"]);
        found.remove(0)
    }

    #[test]
    fn an_alias_that_cannot_be_resolved_is_told_with_name_type_and_server() {
        let is_address = |r: &Reading| r.name == APEX && matches!(r.rtype, RecordType::A | RecordType::Aaaa);
        let found = found(APEX, &failing(APEX, &failed(Rcode::ServFail), is_address));
        assert_eq!((found.gate, found.severity), (GateName::Routing, Severity::Blocker));
        assert!(
            found.remedy.starts_with(
                "Asked for the A and AAAA records at @, ns1.harrowdns.example (127.53.2.1) answers SERVFAIL. If an \
                 alias stands there, its target cannot be resolved: delete it. Add the A record 127.77.0.10 at @."
            ),
            "{}",
            found.remedy
        );
    }

    #[test]
    fn where_names_with_an_underscore_are_refused_the_token_goes_to_the_host() {
        let is_challenge = |r: &Reading| r.name.starts_with("_quaymark-challenge");
        for outcome in [failed(Rcode::Refused), failed(Rcode::Other(4)), Outcome::Silence] {
            let found = found(APEX, &failing(APEX, &outcome, is_challenge));
            assert_eq!(found.gate, GateName::Ownership);
            assert!(found.remedy.contains(" at @. It does the same there"), "{}", found.remedy);
        }

        let host = "timetable.onswick.example";
        let beside_alias = found(host, &failing(host, &failed(Rcode::Refused), is_challenge));
        assert!(beside_alias.edits.is_empty(), "nothing stands beside a CNAME");
        assert!(beside_alias.remedy.contains("answer for names that begin with an underscore"));
    }

    #[test]
    fn nothing_is_to_be_edited_where_a_type_is_not_known() {
        let is_ipv6 = |r: &Reading| r.name == APEX && r.rtype == RecordType::Aaaa;
        let found = found(APEX, &failing(APEX, &failed(Rcode::NOT_IMPLEMENTED), is_ipv6));
        assert!(found.remedy.contains("It does not know that record type."), "{}", found.remedy);
        assert!(found.edits.is_empty(), "{:?}", found.edits);
    }

    #[test]
    fn one_server_of_two_that_fails_is_a_warning() {
        let mut survey = test::survey_spread(APEX, &test::healthy(APEX), 0, 0);
        let sound = [&test::healthy(APEX)[..], &["@ NS ns1.harrowdns.example", "@ SOA 7"]].concat();
        test::second(&mut survey, &sound);
        let at_second =
            |r: &&mut Reading| r.source == test::authority(2) && r.name == APEX && r.rtype == RecordType::A;
        survey.readings.iter_mut().filter(at_second).for_each(|r| r.outcome = failed(Rcode::ServFail));
        let found = found(APEX, &survey);
        assert_eq!(found.severity, Severity::Warning);
        assert!(found.remedy.contains("The other name servers answer."), "{}", found.remedy);
    }

    #[test]
    fn a_server_that_fails_at_everything_is_another_matter() {
        let survey = failing(APEX, &failed(Rcode::Refused), |_| true);
        assert_eq!(test::codes(&test::judge(&test::domain(APEX), &survey)), ["server-lame"]);
    }
}

//! What changed about a domain that was in order: from what to what.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::judge::evidence::{Probe, ProbeResult};
use crate::name::dns;
use crate::reading::record::RecordType;
use crate::reading::survey::Survey;
use crate::reading::target::Target;

/// One difference between two looks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Drift {
    /// What differs: a record set such as `www.onswick.example A`, or what an
    /// address serves.
    pub what: String,
    /// Values before; empty if there was nothing.
    pub from: Vec<String>,
    /// Values now.
    pub to: Vec<String>,
}

/// Differences in the records that count: token, host, CAA, name servers. Sets
/// that nobody answered for, then or now, are left out.
pub fn of_records(target: &Target, before: &Survey, after: &Survey) -> Vec<Drift> {
    let zone = after.apex().cloned().unwrap_or_default();
    let mut wanted = vec![
        (target.challenge.as_str(), RecordType::Txt),
        (target.routed.as_str(), RecordType::A),
        (target.routed.as_str(), RecordType::Aaaa),
        (zone.as_str(), RecordType::Ns),
    ];
    wanted.extend(dns::climb(target.host.as_str()).map(|name| (name, RecordType::Caa)));
    // What is handed out by turns differs each time, and has not drifted.
    if after.recent.varies_by_turns() {
        wanted.retain(|(name, _)| *name != target.routed.as_str());
    }
    wanted.into_iter().filter_map(|(name, rtype)| of_set(before, after, name, rtype)).collect()
}

fn of_set(before: &Survey, after: &Survey, name: &str, rtype: RecordType) -> Option<Drift> {
    let from = values(before, name, rtype)?;
    let to = values(after, name, rtype)?;
    if from == to {
        return None;
    }

    let what = format!("{name} {rtype}");
    Some(Drift { what, from: from.into_iter().collect(), to: to.into_iter().collect() })
}

/// What the authoritative servers together hold, or lead to.
fn values(survey: &Survey, name: &str, rtype: RecordType) -> Option<BTreeSet<String>> {
    let mut answers = survey.authority(name, rtype).peekable();
    answers.peek()?;

    let own = answers.flat_map(|(_, records)| records.iter().filter(|r| r.owner == name));
    Some(own.map(|record| record.data.typed()).collect())
}

/// Differences in what each address serves: certificate and redirects.
pub fn of_serving(before: &Probe, after: &Probe) -> Vec<Drift> {
    let mut drifts = Vec::new();

    for now in &after.results {
        let Some(then) = before.results.iter().find(|r| r.address == now.address) else { continue };
        for (aspect, read) in ASPECTS {
            let from = read(then);
            let to = read(now);
            if from != to {
                let what = format!("{} {aspect}", now.address);
                drifts.push(Drift { what, from: vec![from], to: vec![to] });
            }
        }
    }
    drifts
}

/// Tells one aspect of what an address serves.
type Read = fn(&ProbeResult) -> String;

/// What of an address is compared, and how it reads.
const ASPECTS: [(&str, Read); 3] = [
    ("certificate", certificate),
    ("redirect to HTTPS", |result| or_right(&result.redirect_failure)),
    ("redirect to the primary", |result| or_right(&result.pair_failure)),
];

fn certificate(result: &ProbeResult) -> String {
    match (&result.served, &result.tls_failure) {
        (_, Some(failure)) => failure.clone(),
        (Some(facts), None) => format!("{} by {}", facts.serial, facts.issuer),
        (None, None) => "none".into(),
    }
}

fn or_right(failure: &Option<String>) -> String {
    failure.clone().unwrap_or_else(|| "right".into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test;

    const HOST: &str = "onswick.example";

    fn between(before: &[&str], after: &[&str]) -> Vec<Drift> {
        let target = test::domain(HOST).target(&test::platform());
        of_records(&target, &test::survey(HOST, before), &test::survey(HOST, after))
    }

    #[test]
    fn a_changed_set_is_told_from_what_to_what() {
        let drifts = between(&["@ A 127.77.0.10", "@ A 127.77.0.11"], &["@ A 192.0.2.7", "@ CAA issue ;"]);
        let shown: Vec<_> = drifts.iter().map(|d| (d.what.as_str(), d.from.len(), d.to.clone())).collect();
        assert_eq!(
            shown,
            [
                ("onswick.example A", 2, vec!["A 192.0.2.7".to_owned()]),
                ("onswick.example CAA", 0, vec!["CAA 0 issue \";\"".to_owned()]),
            ]
        );
        assert_eq!(between(&["@ A 192.0.2.7"], &["@ A 192.0.2.7"]), []);
    }

    #[test]
    fn silence_is_no_change() {
        let target = test::domain(HOST).target(&test::platform());
        let survey = test::survey(HOST, &["@ A 192.0.2.7"]);
        assert_eq!(of_records(&target, &survey, &test::silent_survey(HOST)), []);
    }

    #[test]
    fn serving_is_compared_address_by_address() {
        let address = [127, 77, 0, 10].into();
        let probe = |facts, failure: Option<&str>| Probe {
            results: vec![test::probed(address, facts, failure)],
            default_host: None,
        };
        let good = probe(Some(test::certificate(HOST)), None);
        assert_eq!(of_serving(&good, &good), []);
        let drifts = of_serving(&good, &probe(None, Some("certificate expired")));
        assert_eq!(drifts[0].what, "127.77.0.10 certificate");
        assert_eq!(drifts[0].from, ["5e71a1 by CN=Stampworks"]);
        assert_eq!(drifts[0].to, ["certificate expired"]);
    }
}

//! What changed about a domain that was in order: from what to what.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::evidence::{Probe, ProbeResult};
use crate::reading::RecordType;
use crate::survey::{Survey, Target};

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
    let zone = after.apex().unwrap_or_default();
    let mut wanted = vec![
        (target.challenge.clone(), RecordType::Txt),
        (target.routed.clone(), RecordType::A),
        (target.routed.clone(), RecordType::Aaaa),
        (zone.to_owned(), RecordType::Ns),
    ];
    wanted.extend(crate::names::climb(target.host.as_str()).map(|name| (name.to_owned(), RecordType::Caa)));
    let differs = |(name, rtype): &(String, RecordType)| {
        let (from, to) = (values(before, name, *rtype)?, values(after, name, *rtype)?);
        (from != to).then(|| Drift {
            what: format!("{name} {rtype}"),
            from: from.into_iter().collect(),
            to: to.into_iter().collect(),
        })
    };
    wanted.iter().filter_map(differs).collect()
}

/// What the authority servers together hold, or lead to.
fn values(survey: &Survey, name: &str, rtype: RecordType) -> Option<BTreeSet<String>> {
    let mut answers = survey.authority(name, rtype).peekable();
    answers.peek()?;
    let own = answers.flat_map(|(_, records)| records.iter().filter(|r| r.owner == name));
    Some(own.map(|r| format!("{} {}", r.data.type_name(), r.data)).collect())
}

/// Differences in what each address serves: certificate and redirects.
pub fn of_serving(before: &Probe, after: &Probe) -> Vec<Drift> {
    let mut drifts = Vec::new();
    for now in &after.results {
        let Some(then) = before.results.iter().find(|r| r.address == now.address) else { continue };
        for (aspect, read) in ASPECTS {
            let (from, to) = (read(then), read(now));
            if from != to {
                let what = format!("{} {aspect}", now.address);
                drifts.push(Drift { what, from: vec![from], to: vec![to] });
            }
        }
    }
    drifts
}

type Aspect = fn(&ProbeResult) -> String;

const ASPECTS: [(&str, Aspect); 3] = [
    ("certificate", |r| match (&r.served, &r.tls_failure) {
        (_, Some(failure)) => failure.clone(),
        (Some(facts), None) => format!("{} by {}", facts.serial, facts.issuer),
        (None, None) => "none".into(),
    }),
    ("redirect to HTTPS", |r| r.redirect_failure.clone().unwrap_or_else(|| "right".into())),
    ("redirect to the primary", |r| r.pair_failure.clone().unwrap_or_else(|| "right".into())),
];

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

//! `issuer-throttled`: orders wait, because the CA or the platform's own budget
//! says so.

use crate::judge::evidence::{Limit, OrderState, Spent};
use chrono::{DateTime, Utc};

use crate::judge::case::Case;
use crate::judge::code::Code;
use crate::judge::finding::{Diagnosis, Entry, Severity, Yields};
use crate::judge::gate::GateName;
use crate::judge::sighting::Sighting;

pub(super) const ENTRY: Entry = Entry {
    code: Code::IssuerThrottled,
    severity: Severity::Warning,
    gate: GateName::Certificate,
    about: "No certificate is ordered for a while: the certification authority has asked for patience, or \
            the platform's own budget of orders is used up. Nothing is wrong with the domain.",
    yields: Yields::To(&[Code::NameUnregistered, Code::Unreachable, Code::CaaForbids]),
    detect,
};

/// Why orders wait, and until when.
pub(super) struct Throttle {
    said: String,
    until: DateTime<Utc>,
    source: &'static str,
}

/// What holds orders back now.
pub(super) fn throttle(case: &Case<'_>) -> Option<Throttle> {
    let throttle = match (&case.evidence.order, &case.evidence.budget) {
        (OrderState::Refused { problem, retry_at }, _) if problem.is_throttling() => {
            Throttle { said: problem.detail.clone(), until: *retry_at, source: "certification authority" }
        }
        (_, Some(Spent { limit: Limit::Issuer, free_at })) => {
            Throttle { said: Limit::Issuer.to_string(), until: *free_at, source: "certification authority" }
        }
        // The order that used it up is on its way.
        (OrderState::Wanted | OrderState::Open, _) | (_, None) => return None,
        (_, Some(Spent { limit, free_at })) => {
            Throttle { said: limit.to_string(), until: *free_at, source: "the platform's budget" }
        }
    };
    (throttle.until > case.now).then_some(throttle)
}

fn detect(case: &Case<'_>) -> Option<Diagnosis> {
    let Throttle { said, until, source } = throttle(case)?;
    let until = until.format("%Y-%m-%d %H:%M:%S UTC");

    Some(Diagnosis {
        remedy: format!(
            "Keep the records. The certificate for {} is ordered at about {until}, by itself.",
            case.domain.host
        ),
        remark: format!("{}. Nothing is ordered before {until}.", said.trim_end_matches('.')),
        evidence: vec![Sighting::new(source, said)],
        ..Diagnosis::default()
    })
}

#[cfg(test)]
mod tests {
    use chrono::Duration;

    use crate::judge::evidence::{Evidence, Limit, OrderState, Problem, Spent};
    use crate::test;

    fn codes(evidence: Evidence) -> Vec<String> {
        let host = "onswick.example";
        let survey = test::survey(host, &test::healthy(host));
        test::judge_by(&test::domain(host), &survey, evidence)
            .into_iter()
            .map(|f| f.code.to_string())
            .collect()
    }

    #[test]
    fn the_cas_request_for_patience_is_no_refusal_and_ends_by_itself() {
        for (seconds, want) in [(60, vec!["issuer-throttled"]), (-1, vec![])] {
            let kind = "urn:ietf:params:acme:error:rateLimited".to_owned();
            let problem = Problem { kind, detail: "too many orders".into(), ..Problem::default() };
            let order = OrderState::Refused { problem, retry_at: test::now() + Duration::seconds(seconds) };
            assert_eq!(codes(Evidence { order, ..Evidence::default() }), want);
        }
    }

    #[test]
    fn a_spent_budget_is_shown_while_it_lasts() {
        let own = || Limit::Own("40 orders in a week for onswick.example".into());
        let spent = |order, limit, seconds| {
            let free_at = test::now() + Duration::seconds(seconds);
            codes(Evidence { order, budget: Some(Spent { limit, free_at }), ..Evidence::default() })
        };
        assert_eq!(spent(OrderState::None, own(), 60), ["issuer-throttled"]);
        assert_eq!(spent(OrderState::None, own(), 0), [""; 0]);
        assert_eq!(spent(OrderState::Open, own(), 60), [""; 0], "the order that used it up is on its way");
        assert_eq!(spent(OrderState::Open, Limit::Issuer, 60), ["issuer-throttled"]);
    }
}

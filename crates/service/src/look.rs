//! A look: survey, judge, gather what the judgement asks for, write it down.

use chrono::Utc;
use nomenta_certs::keypair;
use nomenta_core::evidence::Evidence;
use nomenta_core::step::{self, Action, Outcome};
use nomenta_core::survey::Survey;
use nomenta_store::{DomainRecord, Lease};

use crate::App;

/// What private keys are sealed for.
pub(crate) const PRIVATE_KEY: &str = "private key";

/// Looks at one domain.
pub(crate) async fn perform(app: &App, lease: &Lease) -> anyhow::Result<()> {
    let record = app.store.domain(lease.domain_id).await?;
    let host = &record.domain.host;
    let survey = app.surveyor.survey(host, &app.config.platform.challenge_name(host.as_str())).await;
    let mut evidence = Evidence {
        survey: Some(survey.clone()),
        order: app.store.order_state(record.id).await?,
        certificate: app.store.certificate(record.id).await?.map(|held| held.facts),
        ..Evidence::default()
    };
    let outcome = judge(app, &record, &survey, &mut evidence).await;
    let sealed_key = match outcome.action {
        Some(Action::PlaceOrder) => Some(app.sealer.seal(PRIVATE_KEY, keypair::generate()?.as_bytes())),
        _ => None,
    };
    let now = Utc::now();
    app.store.finish_look(lease, &record, &survey, &outcome, sealed_key.as_deref(), now).await?;
    Ok(())
}

/// Judges, gathers the one thing that was asked for, and judges again.
async fn judge(app: &App, record: &DomainRecord, survey: &Survey, evidence: &mut Evidence) -> Outcome {
    let config = &app.config;
    let domain = &record.domain;
    let decide =
        |evidence: &Evidence| step::step(domain, &config.platform, evidence, &config.policy, Utc::now());
    let outcome = decide(evidence);
    let addresses = step::addresses_to_visit(domain, &config.platform, survey);
    match outcome.action {
        Some(Action::FetchCanary) => {
            evidence.canary = Some(app.visitor.canary(&domain.host, &addresses, &app.sealer).await);
        }
        Some(Action::Probe) => evidence.probe = Some(app.visitor.probe(&domain.host, &addresses).await),
        Some(Action::PlaceOrder) | None => return outcome,
    }
    decide(evidence)
}

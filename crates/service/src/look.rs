//! A look: survey, judge, gather what the judgement asks for, write it down.

use chrono::Utc;
use nomenta_certs::keypair;
use nomenta_core::evidence::Evidence;
use nomenta_core::form::Form;
use nomenta_core::step::{self, Action, Outcome};
use nomenta_core::survey::{Depth, Survey, ZoneView};
use nomenta_store::{DomainRecord, Lease, Looked};

use crate::App;

/// What private keys are sealed for.
pub(crate) const PRIVATE_KEY: &str = "private key";

/// Looks at one domain.
pub(crate) async fn perform(app: &App, lease: &Lease) -> anyhow::Result<()> {
    let mut record = app.store.domain(lease.domain_id).await?;
    let target = record.domain.target(&app.config.platform);
    // Before the customer has had the sheet for long enough to change anything.
    let baseline = match record.baseline {
        None => app.surveyor.baseline(&target).await,
        Some(_) => None,
    };
    if let Some(baseline) = &baseline {
        record.domain.mail_before = baseline.mail();
    }
    let survey = app.surveyor.survey(&target, Depth::Full).await;
    record.domain.form = form(app, &survey);
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
    let looked = Looked {
        survey: &survey,
        baseline: baseline.as_ref(),
        outcome: &outcome,
        sealed_key: sealed_key.as_deref(),
    };
    app.store.finish_look(lease, &record, &looked, Utc::now()).await?;
    Ok(())
}

/// How the customer's DNS editor wants lines typed, by its name servers.
pub(crate) fn form(app: &App, survey: &Survey) -> Option<Form> {
    let ZoneView::Found { servers, .. } = &survey.zone else { return None };
    app.config.book.find(servers.iter().map(|s| s.name.as_str())).cloned()
}

/// Judges, gathers the one thing that was asked for, and judges again.
async fn judge(app: &App, record: &DomainRecord, survey: &Survey, evidence: &mut Evidence) -> Outcome {
    let config = &app.config;
    let domain = &record.domain;
    let decide =
        |evidence: &Evidence| step::step(domain, &config.platform, evidence, &config.policy, Utc::now());
    let addresses = || step::addresses_to_visit(domain, &config.platform, survey);
    let outcome = decide(evidence);
    match outcome.action {
        Some(Action::FetchCanary) => {
            evidence.canary = Some(app.visitor.canary(&domain.host, &addresses(), &app.sealer).await);
        }
        Some(Action::Probe) => evidence.probe = Some(app.visitor.probe(&domain.host, &addresses()).await),
        Some(Action::FollowForwards) => {
            let foreign = step::foreign_addresses(domain, survey);
            evidence.forwards = Some(app.visitor.forwards(&domain.host, &foreign).await);
        }
        Some(Action::PlaceOrder) | None => return outcome,
    }
    decide(evidence)
}

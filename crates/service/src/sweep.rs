//! A sweep: quick looks at many domains at once. One that has changed in any
//! way is given back to the queue for a full look.

use std::time::Duration;

use chrono::{DateTime, Utc};
use nomenta_core::judge::schedule;
use nomenta_core::name::subject::Subject;
use nomenta_core::reading::survey::Survey;
use nomenta_core::reading::target::Target;
use nomenta_dns::Glance;
use nomenta_store::{Glanced, Sight, Sweep};
use tokio::time::interval;

use crate::App;

/// How often a sweep's lease is renewed; well within its term.
const RENEW_EVERY: Duration = Duration::from_secs(4);

/// Glances at every domain of a sweep.
pub(crate) async fn perform(app: &App, sweep: &Sweep) -> anyhow::Result<()> {
    let glances: Vec<Glance> = sweep.sights.iter().map(|s| glance(app, s)).collect::<Result<_, _>>()?;
    let surveys = tokio::select! {
        surveys = app.surveyor.glance(&glances) => surveys,
        () = keep(app, sweep) => return Ok(()),
    };
    let now = Utc::now();
    let seen = sweep.sights.iter().zip(&glances).zip(&surveys);
    let glanced: Vec<_> = seen
        .map(|((sight, glance), survey)| judge(app, sight, &glance.target, survey.as_ref(), now))
        .collect();
    let same = glanced.iter().filter(|g| g.due > now).count();
    metrics::counter!("nomenta_glances_total", "result" => "same").increment(same as u64);
    metrics::counter!("nomenta_glances_total", "result" => "differs")
        .increment((glanced.len() - same) as u64);
    app.store.finish_sweep(sweep, &glanced, now).await?;
    Ok(())
}

fn glance(app: &App, sight: &Sight) -> anyhow::Result<Glance> {
    let subject = Subject::parse(&sight.host)?;
    let target = Target::new(&subject, &app.config.platform, String::new());
    Ok(Glance { target, zone: sight.zone.clone() })
}

fn judge(app: &App, sight: &Sight, target: &Target, survey: Option<&Survey>, now: DateTime<Utc>) -> Glanced {
    let policy = &app.config.policy;
    let Sight { domain_id, stage, quiet_looks, quick_looks, .. } = *sight;
    match survey.map(|s| s.quick_fingerprint(target)) {
        Some(print) if print == sight.quick => {
            let quiet = quiet_looks.saturating_add(quick_looks).saturating_add(1);
            let due = schedule::next_look(stage, quiet, policy, None, now);
            Glanced { domain_id, due, quick: quick_looks + 1 < policy.quick_looks }
        }
        _ => Glanced { domain_id, due: now, quick: false },
    }
}

/// Renews until dropped; ends only when the database does not answer, and then
/// the lease runs out by itself.
async fn keep(app: &App, sweep: &Sweep) {
    let mut ticks = interval(RENEW_EVERY);
    ticks.tick().await;
    loop {
        ticks.tick().await;
        if let Err(error) = app.store.renew_sweep(sweep).await {
            tracing::warn!(%error, "a sweep was given up");
            return;
        }
    }
}

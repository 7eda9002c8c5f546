//! A sweep: quick looks at many domains at once. One that has changed in any
//! way is given back to the queue for a full look.

use std::time::Duration;

use chrono::{DateTime, Utc};
use nomenta_core::judge::schedule;
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::subject::Subject;
use nomenta_core::reading::survey::Survey;
use nomenta_core::reading::target::Target;
use nomenta_dns::QuickLook;
use nomenta_store::{QuickDone, QuickTask, Sweep};
use tokio::time::interval;

use crate::App;

/// How often a sweep's lease is renewed; well within its term.
const RENEW_EVERY: Duration = Duration::from_secs(4);

/// Looks quickly at every domain of a sweep.
pub(crate) async fn perform(app: &App, sweep: &Sweep) -> anyhow::Result<()> {
    let looks = sweep.tasks.iter().map(|task| quick_look(app, task));
    let looks: Vec<QuickLook> = looks.collect::<Result<_, _>>()?;
    let surveys = tokio::select! {
        surveys = app.surveyor.look_quickly(&looks) => surveys,
        () = keep(app, sweep) => return Ok(()),
    };

    let now = Utc::now();
    let mut done = Vec::with_capacity(looks.len());
    for ((task, look), survey) in sweep.tasks.iter().zip(&looks).zip(&surveys) {
        done.push(judge(app, task, &look.target, survey.as_ref(), now));
    }

    let same = done.iter().filter(|one| one.due > now).count();
    count("same", same);
    count("differs", done.len() - same);
    app.looks.finish_sweep(sweep, &done, now).await?;

    Ok(())
}

fn count(result: &'static str, looks: usize) {
    metrics::counter!("nomenta_quick_looks_total", "result" => result).increment(looks as u64);
}

fn quick_look(app: &App, task: &QuickTask) -> anyhow::Result<QuickLook> {
    let subject = Subject::kept(&task.host);
    // Whatever the host leads to counts, not whether that is right.
    let target = Target::new(&subject, &app.config.platform, DnsName::root());
    Ok(QuickLook { target, zone: task.zone.clone() })
}

fn judge(
    app: &App,
    task: &QuickTask,
    target: &Target,
    survey: Option<&Survey>,
    now: DateTime<Utc>,
) -> QuickDone {
    let is_same = survey.is_some_and(|survey| survey.quick_fingerprint(target) == task.quick);
    if !is_same {
        return QuickDone { domain_id: task.domain_id, due: now, quick: false };
    }

    let policy = &app.config.policy;
    let quiet_looks = task.quiet_looks.saturating_add(task.quick_looks).saturating_add(1);
    QuickDone {
        domain_id: task.domain_id,
        due: schedule::next_look(task.stage, quiet_looks, policy, None, now),
        quick: task.quick_looks + 1 < policy.quick_looks,
    }
}

/// Renews until dropped; ends only when the database does not answer, and then
/// the lease runs out by itself.
async fn keep(app: &App, sweep: &Sweep) {
    let mut ticks = interval(RENEW_EVERY);
    ticks.tick().await;

    loop {
        ticks.tick().await;
        if let Err(error) = app.looks.renew_sweep(sweep).await {
            app.repeats.warn("a sweep was given up", &error);
            return;
        }
    }
}

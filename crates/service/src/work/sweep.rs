//! A sweep: quick looks at many domains at once. One that has changed in any
//! way is given back to the queue for a full look.

use std::cmp::Reverse;
use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use nomenta_core::judge::load::Load;
use nomenta_core::judge::schedule::{self, NextLook};
use nomenta_core::name::dns::DnsName;
use nomenta_core::name::subject::Subject;
use nomenta_core::reading::target::Target;
use nomenta_dns::{QuickLook, QuickView};
use nomenta_store::{QuickDone, QuickTask, Sweep, Then};
use tokio::time::interval;

use crate::App;

/// How often a sweep's lease is renewed; well within its term.
const RENEW_EVERY: Duration = Duration::from_secs(4);

/// Domains of one sweep that customers may have edited. Where more have changed, it was whoever
/// runs their servers, and nobody else is to wait for that.
const MOST_EDITED: usize = 20;

/// What a quick look found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Was {
    Same,
    Another,
    /// Nothing was asked.
    PutOff,
}

/// Looks quickly at the domains of a sweep, those that are most overdue first: the others are put
/// off where one server would have too much to do.
pub(crate) async fn perform(app: &App, mut sweep: Sweep) -> anyhow::Result<()> {
    let begun = Utc::now();
    sweep.tasks.sort_by_cached_key(|task| Reverse(overdue(app, task, begun)));

    let looks = sweep.tasks.iter().map(|task| quick_look(app, task));
    let looks: Vec<QuickLook> = looks.collect::<Result<_, _>>()?;
    let views = tokio::select! {
        views = app.surveyor.look_quickly(&looks) => views,
        () = keep(app, &sweep) => return Ok(()),
    };

    let now = Utc::now();
    let mut done = Vec::with_capacity(looks.len());
    for ((task, look), view) in sweep.tasks.iter().zip(&looks).zip(&views) {
        done.push(judge(app, task, &look.target, view, now));
    }

    if done.iter().filter(|(_, one)| one.then == Then::FullNow).count() > MOST_EDITED {
        done.iter_mut().for_each(|(_, one)| one.then = one.then.in_its_turn());
    }

    for (result, was) in [("same", Was::Same), ("differs", Was::Another), ("put-off", Was::PutOff)] {
        count(result, done.iter().filter(|(is, _)| *is == was).count());
    }
    let done: Vec<_> = done.into_iter().map(|(_, done)| done).collect();
    app.looks.finish_sweep(&sweep, &done, now).await?;
    if done.iter().any(|one| matches!(one.then, Then::Full | Then::FullNow)) {
        app.hub.full.notify_one();
    }

    Ok(())
}

fn count(result: &'static str, looks: usize) {
    metrics::counter!("nomenta_quick_looks_total", "result" => result).increment(looks as u64);
}

fn overdue(app: &App, task: &QuickTask, now: DateTime<Utc>) -> i64 {
    schedule::overdue(task.stage, task.moved_at, task.seen_at, &app.config.policy, now)
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
    view: &QuickView,
    now: DateTime<Utc>,
) -> (Was, QuickDone) {
    let policy = &app.config.policy;
    let domain_id = task.domain_id;
    let strain = TimeDelta::from_std(view.strain).unwrap_or(policy.look_most).min(policy.look_most);
    if view.is_put_off {
        let at = NextLook::at(now + strain);
        return (Was::PutOff, QuickDone { domain_id, at, then: Then::SameAgain });
    }

    let Some(survey) = &view.survey else {
        return (Was::Another, QuickDone { domain_id, at: NextLook::at(now), then: Then::Full });
    };
    if survey.quick_fingerprint(target) != task.quick {
        return (Was::Another, QuickDone { domain_id, at: NextLook::at(now), then: Then::FullNow });
    }

    let load = Load { late: app.late(task.late), strain };
    let at = schedule::next_look(task.stage, task.moved_at, load, policy, now);
    let has_more = task.quick_looks + 1 < schedule::quick_looks(task.stage, policy);
    let then = if has_more { Then::Quick } else { Then::Full };
    (Was::Same, QuickDone { domain_id, at, then })
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

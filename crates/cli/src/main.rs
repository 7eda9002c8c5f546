//! The `nomenta` command: the service, and the client of the API.

mod args;
mod client;
mod commands;
mod follow;
mod render;

use std::process::ExitCode;

use clap::Parser;

use args::{Arguments, Verb};
use client::Client;

/// Messages and records are made by the thousand on one thread and freed on
/// another, which the system's allocator is slow at.
#[global_allocator]
static ALLOCATOR: tikv_jemallocator::Jemalloc = tikv_jemallocator::Jemalloc;

/// How a command ended, beside failing.
pub(crate) enum Done {
    /// All was done.
    Yes,
    /// What was waited for did not come in time.
    NotYet,
}

#[tokio::main]
async fn main() -> ExitCode {
    leave_quietly_when_nobody_reads();
    let arguments = Arguments::parse();
    match dispatch(arguments).await {
        Ok(Done::Yes) => ExitCode::SUCCESS,
        Ok(Done::NotYet) => ExitCode::from(3),
        Err(error) => {
            eprintln!("nomenta: {error:#}");
            ExitCode::FAILURE
        }
    }
}

/// Output may be cut short by whoever it is piped to, which is no failure.
fn leave_quietly_when_nobody_reads() {
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |info| {
        let said = info.payload().downcast_ref::<String>();
        if said.is_some_and(|said| said.starts_with("failed printing to stdout")) {
            std::process::exit(0);
        }
        usual(info);
    }));
}

async fn dispatch(arguments: Arguments) -> anyhow::Result<Done> {
    let Arguments { url, key, roots, shape, account, verb } = arguments;
    let client = Client::new(url, key, roots.as_deref(), account)?;

    match verb {
        Verb::Serve(options) => commands::serve::run(*options).await,
        Verb::Openapi => commands::serve::openapi(),
        Verb::Findings => commands::findings::run(shape),
        Verb::Account(verb) => commands::registry::account(&client, shape, verb).await,
        Verb::Site(verb) => commands::registry::site(&client, shape, verb).await,
        Verb::Ingress(verb) => commands::registry::ingress(&client, shape, verb).await,
        Verb::Operator(verb) => commands::operator::run(&client, shape, verb).await,
        Verb::Key(verb) => commands::registry::key(&client, shape, verb).await,
        Verb::Enrol(options) => commands::domain::enrol(&client, shape, options).await,
        Verb::Sheet(options) => commands::domain::show_sheet(&client, shape, options).await,
        Verb::Baseline { host } => commands::domain::baseline(&client, shape, &host).await,
        Verb::Rehearse(options) => commands::rehearse::run(&client, shape, options).await,
        Verb::Survey(options) => commands::domain::survey(&client, shape, options).await,
        Verb::Explain { host, reveal } => commands::domain::tell(&client, shape, &host, reveal).await,
        Verb::Roster(options) => commands::domain::roster(&client, shape, options).await,
        Verb::Certificate(verb) => commands::certificate::run(&client, shape, verb).await,
        Verb::Contest(verb) => commands::contest::run(&client, shape, verb).await,
        Verb::Move(options) => commands::life::change(&client, shape, options).await,
        Verb::Pause { host } => commands::life::pause(&client, shape, &host).await,
        Verb::Resume { host } => commands::life::resume(&client, shape, &host).await,
        Verb::Release { host } => commands::life::release(&client, shape, &host).await,
        Verb::Intake(options) => commands::intake::run(&client, shape, options).await,
        Verb::Bulk(verb) => commands::job::bulk(&client, shape, verb).await,
        Verb::Job(verb) => commands::job::run(&client, shape, verb).await,
        Verb::Handoff(verb) => commands::handoff::handoff(&client, shape, verb).await,
        Verb::Publish(verb) => commands::publish::run(&client, shape, verb).await,
        Verb::Hook(verb) => commands::notice::hook(&client, shape, verb).await,
        Verb::Notice(verb) => commands::notice::notice(&client, shape, verb).await,
        Verb::Session(verb) => commands::registry::session(&client, shape, verb).await,
        Verb::Audit(options) => commands::audit::run(&client, shape, options).await,
        Verb::History { host } => commands::domain::history(&client, shape, &host).await,
    }
}

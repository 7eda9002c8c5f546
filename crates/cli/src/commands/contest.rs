//! `contest`.

use chrono::Utc;
use nomenta_api::contest::{Contest, ContestQuery, NewRuling, Party};
use nomenta_core::judge::gate::GateName;

use crate::Done;
use crate::args::{ContestVerb, Shape};
use crate::client::Client;
use crate::render::{exact, explain, hanging, listing, said, shown, span, wrapped};

/// Contests asked for at once.
const PAGE: i64 = 500;

pub(crate) async fn run(client: &Client, shape: Shape, verb: ContestVerb) -> anyhow::Result<Done> {
    match verb {
        ContestVerb::List { settled } => {
            let query = ContestQuery { settled, after: None, limit: Some(PAGE) };
            let rows: Vec<Contest> = client.pages("contests", &query, usize::MAX).await?;
            listing(shape, &rows, ["CONTEST", "DOMAIN", "HOLDER", "CHALLENGER", "STATE", "FOR"], line)
        }
        ContestVerb::Show { id } => {
            let contest: Contest = client.get(&format!("contests/{id}")).await?;
            shown(shape, &contest, || print(&contest))
        }
        ContestVerb::Rule { id, side, because } => {
            let ruling = NewRuling { side: side.to_string(), because };
            let contest: Contest = client.post(&format!("contests/{id}/ruling"), &ruling).await?;
            said(shape, &contest, &wrapped(&format!("Ruled for the {side}. {}", contest.told)))
        }
    }
}

fn line(contest: &Contest) -> [String; 6] {
    let state = match &contest.settled {
        Some(settled) => settled.outcome.to_string(),
        None => contest.phase.to_string(),
    };
    [
        contest.id.to_string(),
        contest.shown.clone(),
        contest.holder.account.clone(),
        contest.challenger.account.clone(),
        state,
        span(contest.opened_at, Utc::now()),
    ]
}

fn print(contest: &Contest) {
    println!("{}   contested for {}\n", contest.shown, span(contest.opened_at, Utc::now()));
    println!("{}\n", wrapped(&contest.told));
    print_party("Holder", &contest.holder);
    print_party("Challenger", &contest.challenger);

    if let Some(ruling) = &contest.ruling {
        let head = format!("Ruled for the {} by {}, {}: ", ruling.side, ruling.by, exact(ruling.at));
        println!("{}", hanging(&head, &ruling.because));
    }
}

fn print_party(side: &str, party: &Party) {
    println!("{side}: {}   site {}", party.account, party.site);
    println!("  claimed     {}", exact(party.enrolled_at));
    if let Some(since) = party.held_since {
        println!("  holds it    {}", exact(since));
    }
    println!("  gates       {}  {}", explain::posts(explain::states(&party.gates)), party.stage);
    println!("{}\n", hanging("  ownership   ", &party.gates.get(GateName::Ownership).reason));
}

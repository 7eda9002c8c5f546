//! `publish`.

use std::io::Read;
use std::path::Path;

use anyhow::Context;
use nomenta_api::publication::{
    GiveKey, KeptKey, NewPublication, Publication, PublicationPlan, PublicationsQuery, WriteAct, WriteLine,
    ZoneKey,
};
use reqwest::Method;
use serde_json::json;

use super::job::is_wanted;
use crate::Done;
use crate::args::{PublishVerb, Shape};
use crate::client::Client;
use crate::render::{listing, moment, said, shown};

/// Lines asked for at once.
const PAGE: i64 = 500;

pub(crate) async fn run(client: &Client, shape: Shape, verb: PublishVerb) -> anyhow::Result<Done> {
    match verb {
        PublishVerb::Key { host, file: None, .. } => {
            let KeptKey { key } = client.get(&format!("domains/{host}/zone-key")).await?;
            let key = key.context("No key of the zone is kept. Give one: nomenta publish key HOST FILE")?;
            said(shape, &key, &kept(&key))
        }
        PublishVerb::Key { host, file: Some(file), server } => {
            let given = GiveKey { key: read(&file)?, server };
            let key: ZoneKey = client.put(&format!("domains/{host}/zone-key"), &given).await?;
            said(
                shape,
                &key,
                &format!("{}\nSee what would be written: nomenta publish plan {host}", kept(&key)),
            )
        }
        PublishVerb::ForgetKey { host } => {
            client.ask(Method::DELETE, &format!("domains/{host}/zone-key")).await?;
            said(
                shape,
                &json!({ "forgotten": host }),
                "Forgotten. Nothing is written to this zone without a key.",
            )
        }
        PublishVerb::Plan { host } => {
            let plan: PublicationPlan = client.get(&format!("domains/{host}/publication-plan")).await?;
            shown(shape, &plan, || print_plan(&plan))
        }
        PublishVerb::Send { host, yes } => send(client, shape, &host, yes).await,
        PublishVerb::List { host } => {
            let query = PublicationsQuery { limit: Some(PAGE), ..PublicationsQuery::default() };
            let path = format!("domains/{host}/publications");
            let rows: Vec<Publication> = client.pages(&path, &query, usize::MAX).await?;
            listing(shape, &rows, ["ID", "SENT", "ZONE", "SERVER", "REMOVED", "ADDED", "STATE"], |one| {
                let count = |act| WriteLine::count(&one.lines, act).to_string();
                [
                    one.id.to_string(),
                    moment(one.created_at),
                    one.zone.to_string(),
                    one.server.clone(),
                    count(WriteAct::Remove),
                    count(WriteAct::Add),
                    one.because.as_ref().map_or(one.state.to_string(), |why| format!("{}: {why}", one.state)),
                ]
            })
        }
        PublishVerb::Undo { id } => {
            let one: Publication = client.call(Method::POST, &format!("publications/{id}/undo")).await?;
            let sentence = match &one.because {
                Some(because) => because.clone(),
                None => format!("Taken back: the zone {} is as it was before.", one.zone),
            };
            said(shape, &one, &sentence)
        }
    }
}

async fn send(client: &Client, shape: Shape, host: &str, yes: bool) -> anyhow::Result<Done> {
    let plan: PublicationPlan = client.get(&format!("domains/{host}/publication-plan")).await?;
    if !yes {
        shown(shape, &plan, || print_plan(&plan))?;
        if shape != Shape::Table || !is_wanted()? {
            eprintln!("Nothing was written. Give --yes to do it.");
            return Ok(Done::Yes);
        }
    }

    let new = NewPublication { plan: Some(plan.plan) };
    let one: Publication = client.post(&format!("domains/{host}/publications"), &new).await?;
    let sentence = format!(
        "Written to {} at {}: {}. A look is on its way: nomenta explain {host}\nTake it back with: nomenta publish undo {}",
        one.zone,
        one.server,
        counted(&one.lines),
        one.id
    );
    said(shape, &one, &sentence)
}

fn kept(key: &ZoneKey) -> String {
    let server = key.server.as_ref().map(|server| format!(", for the server {server}")).unwrap_or_default();
    format!("The key {} ({}) of {} is kept, sealed{server}.", key.name, key.algorithm, key.zone)
}

fn print_plan(plan: &PublicationPlan) {
    println!("To {} at {}, signed with {}:", plan.zone, plan.server, plan.key_name);
    let owners = plan.lines.iter().map(|line| line.owner.as_str().len()).max().unwrap_or(0);
    for line in &plan.lines {
        println!("  {:<6}  {:<owners$}  {:<5}  {}", line.act, line.owner, line.rtype, line.value);
    }
    println!(
        "All of it or nothing, and only while {} record sets are as they were read just now.",
        plan.depends_on
    );
}

fn counted(lines: &[WriteLine]) -> String {
    let [removed, added] = [WriteAct::Remove, WriteAct::Add].map(|act| WriteLine::count(lines, act));
    format!("{removed} removed, {added} added")
}

fn read(file: &Path) -> anyhow::Result<String> {
    if file == Path::new("-") {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).context("Standard input cannot be read")?;
        return Ok(text);
    }
    std::fs::read_to_string(file).with_context(|| format!("{} cannot be read", file.display()))
}

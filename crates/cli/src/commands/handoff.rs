//! `handoff`.

use chrono::{DateTime, Utc};
use nomenta_api::handoff::{
    Handoff, HandoffView, HandoffsQuery, MadeHandoff, NewHandoff, OneClickOffer, ShowQuery,
};
use reqwest::Method;
use serde_json::json;

use crate::Done;
use crate::args::{HandoffVerb, Shape};
use crate::client::Client;
use crate::render::{listing, moment, said};

/// Lines asked for at once.
const PAGE: i64 = 500;

pub(crate) async fn handoff(client: &Client, shape: Shape, verb: HandoffVerb) -> anyhow::Result<Done> {
    match verb {
        HandoffVerb::Make { host, whole_zone, language, days, mail_to } => {
            let new = NewHandoff { language, days: Some(days), whole_zone, mail_to };
            let made: MadeHandoff = client.post(&format!("domains/{host}/handoffs"), &new).await?;
            let until = moment(made.expires_at);
            let sent = match &made.mailed_to {
                Some(address) => format!("It was sent to {address}."),
                None => "Send it to the customer now: it is not shown again.".to_owned(),
            };
            let sentence = format!("{}\n{sent} It is good until {until}.", made.link);
            said(shape, &made, &sentence)
        }
        HandoffVerb::List { host } => {
            let query = HandoffsQuery {
                account: client.account().map(str::to_owned),
                host,
                after: None,
                limit: Some(PAGE),
            };
            let rows: Vec<Handoff> = client.pages("handoffs", &query, usize::MAX).await?;
            let header = ["ID", "ACCOUNT", "FOR", "LANGUAGE", "ENDS IN", "OPENED", "STATE"];
            listing(shape, &rows, header, |link| {
                [
                    link.id.to_string(),
                    link.account.clone(),
                    about(link),
                    link.language.map(|language| language.to_string()).unwrap_or_default(),
                    link.hint.clone(),
                    link.opened_at.map_or_else(|| "never".into(), moment),
                    force(link, Utc::now()),
                ]
            })
        }
        HandoffVerb::Revoke { id } => {
            client.ask(Method::DELETE, &format!("handoffs/{id}")).await?;
            said(shape, &json!({ "revoked": id }), "Revoked. Whoever has it open sees that it has ended.")
        }
        HandoffVerb::Offer { host } => {
            let offer: OneClickOffer = client.get(&format!("domains/{host}/one-click")).await?;
            said(shape, &offer, &offered(&host, &offer))
        }
        HandoffVerb::Read { link, language } => {
            read(client, shape, &link, language.map(|one| one.to_string())).await
        }
    }
}

async fn read(client: &Client, shape: Shape, link: &str, language: Option<String>) -> anyhow::Result<Done> {
    let secret = link.trim_end_matches('/').rsplit('/').next().unwrap_or(link);
    let guest = client.with_key(secret);
    let query = ShowQuery { language, wait: None };
    if shape == Shape::Json {
        let view: HandoffView = guest.get_with("handoff", &query).await?;
        return said(shape, &view, "");
    }

    print!("{}", guest.text_with("handoff", &query, "text/markdown").await?);
    Ok(Done::Yes)
}

fn offered(host: &str, offer: &OneClickOffer) -> String {
    match (&offer.operator, &offer.because) {
        (Some(operator), None) => {
            format!("{operator} sets {host} up in one click: the link of the customer offers it.")
        }
        (Some(operator), Some(because)) => {
            format!("{operator} does not set {host} up in one click. {because}")
        }
        (None, because) => {
            format!("Nobody sets {host} up in one click. {}", because.as_deref().unwrap_or_default())
        }
    }
}

/// What it shows: a domain, or every one in a zone.
fn about(link: &Handoff) -> String {
    match &link.zone {
        Some(zone) => format!("all in {zone}"),
        None => link.host.to_string(),
    }
}

/// Whether a link shows anything, and until when.
fn force(link: &Handoff, now: DateTime<Utc>) -> String {
    match link.revoked_at {
        Some(_) => "revoked".into(),
        None if link.expires_at <= now => "expired".into(),
        None => format!("until {}", moment(link.expires_at)),
    }
}

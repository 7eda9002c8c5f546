//! `hook` and `notice`.

use nomenta_api::notice::{
    DeliveriesQuery, Delivery, MadeHook, NewHook, NewRecipient, PreviewQuery, Receiver, ReceiversQuery,
    Redelivered, Redelivery, WrittenMail,
};
use nomenta_core::notice::NoticeKind;
use reqwest::Method;
use serde_json::json;

use crate::Done;
use crate::args::{HookVerb, NoticeVerb, Shape};
use crate::client::Client;
use crate::render::{listing, moment, said, shown};

/// Lines asked for at once.
const PAGE: i64 = 500;

pub(crate) async fn hook(client: &Client, shape: Shape, verb: HookVerb) -> anyhow::Result<Done> {
    match verb {
        HookVerb::Add { to, kind } => {
            let new = NewHook { url: to, account: client.account().map(str::to_owned), kinds: kind };
            let made: MadeHook = client.post("hooks", &new).await?;
            said(shape, &made, &kept(&made))
        }
        HookVerb::List => receivers(client, shape, "hooks", "URL").await,
        HookVerb::Rotate { id } => {
            let made: MadeHook = client.call(Method::POST, &format!("hooks/{id}/rotation")).await?;
            let until = made.former_until.map(moment).unwrap_or_default();
            let sentence =
                format!("{}\nCalls are signed with the former one too until {until}.", kept(&made));
            said(shape, &made, &sentence)
        }
        HookVerb::Remove { id } => {
            client.ask(Method::DELETE, &format!("hooks/{id}")).await?;
            said(shape, &json!({ "removed": id }), "Removed. What it had yet to be told is forgotten.")
        }
    }
}

pub(crate) async fn notice(client: &Client, shape: Shape, verb: NoticeVerb) -> anyhow::Result<Done> {
    match verb {
        NoticeVerb::List { state, receiver, most } => {
            let query = DeliveriesQuery {
                account: client.account().map(str::to_owned),
                state: state.map(|state| state.to_string()),
                receiver,
                after: None,
                limit: Some(PAGE.min(i64::try_from(most.max(1))?)),
            };
            let rows: Vec<Delivery> = client.pages("notices", &query, most).await?;
            listing(shape, &rows, ["ID", "HAPPENED", "DOMAIN", "WHAT", "TO", "TRIES", "STATE"], |one| {
                [
                    one.id.to_string(),
                    moment(one.at),
                    one.host.to_string(),
                    one.kind.to_string(),
                    one.target.clone(),
                    one.tries.to_string(),
                    state_of(one),
                ]
            })
        }
        NoticeVerb::Redeliver { id, all } => {
            let done: Redelivered = match all {
                true => client.post("notices/redelivery", &Redelivery { receiver: id }).await?,
                false => client.call(Method::POST, &format!("notices/{id}/redelivery")).await?,
            };
            said(shape, &done, &format!("{} on the way again.", done.count))
        }
        NoticeVerb::Preview { kind, language, count, html } => {
            let query = PreviewQuery {
                kind: kind.to_string(),
                language: Some(language.to_string()),
                count: Some(count),
            };
            let mail: WrittenMail = client.get_with("notices/preview", &query).await?;
            shown(shape, &mail, || match html {
                true => print!("{}", mail.html),
                false => print!("Subject: {}\n\n{}", mail.subject, mail.text),
            })
        }
        NoticeVerb::Tell { address, kind, language, quiet } => {
            let account = client.account().map(str::to_owned);
            let new = NewRecipient { address, account, kinds: kind, language, quiet };
            let one: Receiver = client.post("recipients", &new).await?;
            let sentence = format!("{} is written to {}.", one.target, about(&one));
            said(shape, &one, &sentence)
        }
        NoticeVerb::Recipients => receivers(client, shape, "recipients", "ADDRESS").await,
        NoticeVerb::Untell { id } => {
            client.ask(Method::DELETE, &format!("recipients/{id}")).await?;
            said(shape, &json!({ "removed": id }), "Removed. Nothing more is written.")
        }
    }
}

fn kept(made: &MadeHook) -> String {
    format!("{}\nKeep it now: it is not shown again. The hook's id is {}.", made.secret, made.id)
}

async fn receivers(client: &Client, shape: Shape, path: &str, target: &'static str) -> anyhow::Result<Done> {
    let account = client.account().map(str::to_owned);
    let query = ReceiversQuery { account, after: None, limit: Some(PAGE) };
    let rows: Vec<Receiver> = client.pages(path, &query, usize::MAX).await?;
    listing(shape, &rows, ["ID", target, "ABOUT", "KINDS", "QUIET", "STATE"], |one| {
        [
            one.id.to_string(),
            one.target.clone(),
            about(one),
            kinds(&one.kinds),
            one.quiet.map(|quiet| quiet.to_string()).unwrap_or_default(),
            standing(one),
        ]
    })
}

fn about(one: &Receiver) -> String {
    match (&one.host, &one.account) {
        (Some(host), _) => format!("about {host}"),
        (None, Some(account)) => format!("about {account}"),
        (None, None) => "about every account".into(),
    }
}

fn kinds(kinds: &[NoticeKind]) -> String {
    if kinds.is_empty() {
        return "all".into();
    }
    kinds.iter().map(|kind| kind.as_str()).collect::<Vec<_>>().join(" ")
}

fn standing(one: &Receiver) -> String {
    match (&one.last_error, one.is_unconfirmed) {
        (_, true) => "has yet to say yes".into(),
        (Some(error), _) if one.failures > 0 => format!("no answer {} times: {error}", one.failures),
        (Some(error), _) => error.clone(),
        (None, _) => "takes them".into(),
    }
}

fn state_of(one: &Delivery) -> String {
    match (&one.last_error, one.due) {
        (Some(error), Some(due)) => format!("{}, again at {}: {error}", one.state, moment(due)),
        (Some(error), None) => format!("{}: {error}", one.state),
        (None, _) => one.state.to_string(),
    }
}

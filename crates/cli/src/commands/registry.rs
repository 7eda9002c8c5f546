//! `account`, `site`, `ingress` and `key`.

use anyhow::Context;
use chrono::{DateTime, Utc};
use nomenta_api::handoff::OneClickTemplates;
use nomenta_api::registry::{
    AccessKey, Account, AccountChange, MadeKey, NamesQuery, NewAccount, NewIngress, NewKey, NewSite,
    PageQuery, Session, Site, SiteChange, Targets,
};
use nomenta_core::sheet::ingress::Ingress;
use reqwest::Method;
use serde_json::json;

use crate::Done;
use crate::args::{
    AccountOptions, AccountVerb, IngressOptions, IngressVerb, KeyVerb, SessionVerb, Shape, SiteVerb,
};
use crate::client::Client;
use crate::render::{hanging, listing, moment, said, shown, table};

/// Lines asked for at once.
const PAGE: i64 = 500;

pub(crate) async fn account(client: &Client, shape: Shape, verb: AccountVerb) -> anyhow::Result<Done> {
    match verb {
        AccountVerb::Add { name, known } => {
            let added: Account = client.post("accounts", &NewAccount::new(name, change(known))).await?;
            said(shape, &added, &format!("Added the account {}.", added.name))
        }
        AccountVerb::List { text } => {
            let rows: Vec<Account> = client.pages("accounts", &names(text, None), usize::MAX).await?;
            listing(shape, &rows, ["ACCOUNT", "TITLE", "DOMAINS", "STATE"], |account| {
                [account.name.clone(), account.title.clone(), used(account), state(account)]
            })
        }
        AccountVerb::Show { name } => {
            let account: Account = client.get(&format!("accounts/{name}")).await?;
            let sites: Vec<Site> = client.pages("sites", &names(None, Some(&name)), usize::MAX).await?;
            shown(shape, &account, || print_account(&account, &sites))
        }
        AccountVerb::Change { name, known } => {
            let changed: Account = client.patch(&format!("accounts/{name}"), &change(known)).await?;
            said(shape, &changed, &format!("Changed the account {name}."))
        }
        AccountVerb::Suspend { name } => {
            client.ask(Method::POST, &format!("accounts/{name}/suspension")).await?;
            let sentence = format!("{name} is suspended: its routes are withdrawn. Nothing is lost.");
            said(shape, &json!({ "suspended": name }), &sentence)
        }
        AccountVerb::Resume { name } => {
            client.ask(Method::DELETE, &format!("accounts/{name}/suspension")).await?;
            said(shape, &json!({ "resumed": name }), &format!("{name} has its routes back."))
        }
    }
}

/// Accounts or sites whose names contain a text, of an account.
fn names(text: Option<String>, account: Option<&str>) -> NamesQuery {
    NamesQuery { text, account: account.map(str::to_owned), after: None, limit: Some(PAGE) }
}

fn page() -> PageQuery {
    PageQuery { after: None, limit: Some(PAGE) }
}

fn change(known: AccountOptions) -> AccountChange {
    let AccountOptions { title, contact, language, notes, allowance } = known;
    AccountChange { title, contact, language, notes, allowance }
}

/// Domains of an account, of those that its plan grants.
fn used(account: &Account) -> String {
    match account.allowance.granted {
        Some(granted) => format!("{} of {granted}", account.allowance.used),
        None => account.allowance.used.to_string(),
    }
}

fn state(account: &Account) -> String {
    if account.suspended_at.is_some() { "suspended".into() } else { "in force".into() }
}

fn print_account(account: &Account, sites: &[Site]) {
    println!("{}   {}\n", account.title, account.name);
    println!("  domains   {}", used(account));
    println!("  state     {}", state(account));
    println!("  contact   {}", account.contact.as_deref().unwrap_or("none"));
    println!("  language  {}", account.language);
    if !account.notes.is_empty() {
        println!("{}", hanging("  notes     ", &account.notes));
    }

    println!("\n{}", table(["SITE", "DEFAULT HOST", "INGRESS"], sites.iter().map(site_line)));
}

fn site_line(site: &Site) -> [String; 3] {
    [site.name.clone(), site.default_host.to_string(), site.ingress.clone()]
}

pub(crate) async fn site(client: &Client, shape: Shape, verb: SiteVerb) -> anyhow::Result<Done> {
    match verb {
        SiteVerb::Add { name, ingress, entry_path, error_path } => {
            let account = client.account().context("Say whose site it is: --account ACCOUNT")?.to_owned();
            let new = NewSite { name, account, ingress, entry_path, error_path };
            let added: Site = client.post("sites", &new).await?;
            said(shape, &added, &format!("Added the site {}.", added.name))
        }
        SiteVerb::List { text } => {
            let rows: Vec<Site> = client.pages("sites", &names(text, client.account()), usize::MAX).await?;
            listing(shape, &rows, ["SITE", "ACCOUNT", "INGRESS", "DEFAULT HOST", "ENTERED AT"], |site| {
                [
                    site.name.clone(),
                    site.account.clone(),
                    site.ingress.clone(),
                    site.default_host.to_string(),
                    site.entry_path.clone(),
                ]
            })
        }
        SiteVerb::Change { name, rename, entry_path, error_path } => {
            let change = SiteChange { name: rename, entry_path, error_path };
            client.change(&format!("sites/{name}"), &change).await?;
            let sentence = match &change.name {
                Some(renamed) => format!("{name} is {renamed} now. Its former default host leads there."),
                None => format!("Changed the site {name}."),
            };
            said(shape, &change, &sentence)
        }
    }
}

pub(crate) async fn ingress(client: &Client, shape: Shape, verb: IngressVerb) -> anyhow::Result<Done> {
    match verb {
        IngressVerb::Add(options) => {
            let name = options.name.clone();
            let targets = targets(options);
            let added: Ingress = client.post("ingresses", &NewIngress::new(name, targets)).await?;
            said(shape, &added, &format!("Added the ingress {}.", added.name))
        }
        IngressVerb::Revise(options) => {
            let name = options.name.clone();
            let targets = targets(options);
            let revised: Ingress = client.put(&format!("ingresses/{name}"), &targets).await?;
            said(
                shape,
                &revised,
                &format!("{name} is now at revision {}. Its domains are looked at again.", revised.revision),
            )
        }
        IngressVerb::Templates { name } => {
            let given: OneClickTemplates = client.get(&format!("ingresses/{name}/one-click")).await?;
            said(shape, &given, &serde_json::to_string_pretty(&given)?)
        }
        IngressVerb::List => {
            let rows: Vec<Ingress> = client.pages("ingresses", &page(), usize::MAX).await?;
            listing(shape, &rows, ["INGRESS", "REVISION", "IPV4", "IPV6", "CANONICAL HOST"], |ingress| {
                [
                    ingress.name.clone(),
                    ingress.revision.to_string(),
                    lines(&ingress.ipv4),
                    lines(&ingress.ipv6),
                    ingress.canonical.as_str().to_owned(),
                ]
            })
        }
    }
}

fn targets(options: IngressOptions) -> Targets {
    Targets {
        ipv4: options.ipv4,
        ipv6: options.ipv6,
        canonical: options.canonical,
        name_servers: options.name_server,
        subdomain_addresses: !options.cname_only,
    }
}

fn lines<T: ToString>(values: impl IntoIterator<Item = T>) -> String {
    values.into_iter().map(|value| value.to_string()).collect::<Vec<_>>().join("\n")
}

pub(crate) async fn key(client: &Client, shape: Shape, verb: KeyVerb) -> anyhow::Result<Done> {
    match verb {
        KeyVerb::Add { name, role, mut accounts, expires } => {
            accounts.extend(client.account().map(str::to_owned));
            let new = NewKey { name, role, accounts, expires_at: expires };
            let made: MadeKey = client.post("keys", &new).await?;
            said(shape, &made, &format!("{}\nKeep it now: it is not shown again.", made.secret))
        }
        KeyVerb::List => {
            let rows: Vec<AccessKey> = client.pages("keys", &page(), usize::MAX).await?;
            let header = ["ID", "FOR", "ROLE", "ACCOUNTS", "ENDS IN", "LAST USE", "STATE"];
            listing(shape, &rows, header, |key| {
                let accounts = match key.accounts.is_empty() {
                    true => "every".to_owned(),
                    false => key.accounts.join("\n"),
                };
                [
                    key.id.to_string(),
                    key.name.clone(),
                    key.role.to_string(),
                    accounts,
                    key.hint.clone(),
                    key.used_at.map_or_else(|| "never".into(), moment),
                    force(key, Utc::now()),
                ]
            })
        }
        KeyVerb::Revoke { id } => {
            client.ask(Method::DELETE, &format!("keys/{id}")).await?;
            said(shape, &json!({ "revoked": id }), "Revoked.")
        }
    }
}

/// Whether a key opens anything, and until when.
fn force(key: &AccessKey, now: DateTime<Utc>) -> String {
    match (key.revoked_at, key.expires_at) {
        (Some(_), _) => "revoked".into(),
        (None, Some(at)) if at <= now => "expired".into(),
        (None, Some(at)) => format!("until {}", moment(at)),
        (None, None) => "in force".into(),
    }
}

pub(crate) async fn session(client: &Client, shape: Shape, verb: SessionVerb) -> anyhow::Result<Done> {
    match verb {
        SessionVerb::List => {
            let rows: Vec<Session> = client.pages("sessions", &page(), usize::MAX).await?;
            listing(shape, &rows, ["SESSION", "KEY", "FROM", "SINCE", "LAST USE", "UNTIL"], |session| {
                [
                    session.id.to_string(),
                    session.key.clone(),
                    session.from.clone().unwrap_or_default(),
                    moment(session.created_at),
                    moment(session.used_at),
                    moment(session.expires_at),
                ]
            })
        }
        SessionVerb::End { id } => {
            client.ask(Method::DELETE, &format!("sessions/{id}")).await?;
            said(shape, &json!({ "ended": id }), "Ended.")
        }
    }
}

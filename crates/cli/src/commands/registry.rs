//! `account`, `site`, `ingress` and `key`.

use nomenta_core::sheet::ingress::Ingress;
use nomenta_service::dto::{
    AccessKey, Account, MadeKey, NewAccount, NewIngress, NewKey, NewSite, Site, Targets,
};
use reqwest::Method;
use serde_json::json;

use crate::Done;
use crate::args::{AccountVerb, IngressOptions, IngressVerb, KeyVerb, Shape, SiteVerb};
use crate::client::Client;
use crate::render::{listing, said};

pub(crate) async fn account(client: &Client, shape: Shape, verb: AccountVerb) -> anyhow::Result<Done> {
    match verb {
        AccountVerb::Add { name, title } => {
            let added: NewAccount = client.post("accounts", &NewAccount { name, title }).await?;
            said(shape, &added, &format!("Added the account {}.", added.name))
        }
        AccountVerb::List => {
            let rows: Vec<Account> = client.get("accounts").await?;
            listing(shape, &rows, ["ACCOUNT", "TITLE", "DOMAINS"], |a| {
                [a.name.clone(), a.title.clone(), a.domains.to_string()]
            })
        }
    }
}

pub(crate) async fn site(client: &Client, shape: Shape, verb: SiteVerb) -> anyhow::Result<Done> {
    match verb {
        SiteVerb::Add { name, account, ingress, entry_path, error_path } => {
            let new = NewSite { name, account, ingress, entry_path, error_path };
            let added: NewSite = client.post("sites", &new).await?;
            said(shape, &added, &format!("Added the site {} to {}.", added.name, added.account))
        }
        SiteVerb::List => {
            let rows: Vec<Site> = client.get("sites").await?;
            listing(shape, &rows, ["SITE", "ACCOUNT", "INGRESS", "DEFAULT HOST"], |s| {
                [s.name.clone(), s.account.clone(), s.ingress.clone(), s.default_host.clone()]
            })
        }
    }
}

pub(crate) async fn ingress(client: &Client, shape: Shape, verb: IngressVerb) -> anyhow::Result<Done> {
    let split = |o: IngressOptions| {
        let IngressOptions { name, ipv4, ipv6, canonical, name_server: name_servers, cname_only } = o;
        (name, Targets { ipv4, ipv6, canonical, name_servers, subdomain_addresses: !cname_only })
    };
    match verb {
        IngressVerb::Add(options) => {
            let (name, targets) = split(options);
            let added: Ingress = client.post("ingresses", &NewIngress { name, targets }).await?;
            said(shape, &added, &format!("Added the ingress {}.", added.name))
        }
        IngressVerb::Revise(options) => {
            let (name, targets) = split(options);
            let revised: Ingress = client.put(&format!("ingresses/{name}"), &targets).await?;
            said(
                shape,
                &revised,
                &format!("{name} is now at revision {}. Its domains are looked at again.", revised.revision),
            )
        }
        IngressVerb::List => {
            let rows: Vec<Ingress> = client.get("ingresses").await?;
            listing(shape, &rows, ["INGRESS", "REVISION", "IPV4", "IPV6", "CANONICAL HOST"], |i| {
                let canonical = i.canonical.as_str().to_owned();
                [i.name.clone(), i.revision.to_string(), lines(&i.ipv4), lines(&i.ipv6), canonical]
            })
        }
    }
}

fn lines<T: ToString>(values: impl IntoIterator<Item = T>) -> String {
    values.into_iter().map(|v| v.to_string()).collect::<Vec<_>>().join("\n")
}

pub(crate) async fn key(client: &Client, shape: Shape, verb: KeyVerb) -> anyhow::Result<Done> {
    match verb {
        KeyVerb::Add { name, role } => {
            let made: MadeKey = client.post("keys", &NewKey { name, role }).await?;
            said(shape, &made, &format!("{}\nKeep it now: it is not shown again.", made.secret))
        }
        KeyVerb::List => {
            let rows: Vec<AccessKey> = client.get("keys").await?;
            listing(shape, &rows, ["ID", "FOR", "ROLE", "ENDS IN", "STATE"], |k| {
                let state = if k.revoked_at.is_some() { "revoked" } else { "in force" };
                [k.id.to_string(), k.name.clone(), k.role.clone(), k.hint.clone(), state.into()]
            })
        }
        KeyVerb::Revoke { id } => {
            client.ask(Method::DELETE, &format!("keys/{id}")).await?;
            said(shape, &json!({ "revoked": id }), "Revoked.")
        }
    }
}

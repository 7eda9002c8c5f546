//! `account`, `site`, `ingress` and `key`.

use nomenta_api::registry::{
    AccessKey, Account, MadeKey, NewAccount, NewIngress, NewKey, NewSite, Site, Targets,
};
use nomenta_core::sheet::ingress::Ingress;
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
            listing(shape, &rows, ["ACCOUNT", "TITLE", "DOMAINS"], |account| {
                [account.name.clone(), account.title.clone(), account.domains.to_string()]
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
            listing(shape, &rows, ["SITE", "ACCOUNT", "INGRESS", "DEFAULT HOST"], |site| {
                [site.name.clone(), site.account.clone(), site.ingress.clone(), site.default_host.to_string()]
            })
        }
    }
}

pub(crate) async fn ingress(client: &Client, shape: Shape, verb: IngressVerb) -> anyhow::Result<Done> {
    match verb {
        IngressVerb::Add(options) => {
            let name = options.name.clone();
            let targets = targets(options);
            let added: Ingress = client.post("ingresses", &NewIngress { name, targets }).await?;
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
        IngressVerb::List => {
            let rows: Vec<Ingress> = client.get("ingresses").await?;
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
        KeyVerb::Add { name, role } => {
            let made: MadeKey = client.post("keys", &NewKey { name, role }).await?;
            said(shape, &made, &format!("{}\nKeep it now: it is not shown again.", made.secret))
        }
        KeyVerb::List => {
            let rows: Vec<AccessKey> = client.get("keys").await?;
            listing(shape, &rows, ["ID", "FOR", "ROLE", "ENDS IN", "STATE"], |key| {
                let state = if key.revoked_at.is_some() { "revoked" } else { "in force" };
                [key.id.to_string(), key.name.clone(), key.role.to_string(), key.hint.clone(), state.into()]
            })
        }
        KeyVerb::Revoke { id } => {
            client.ask(Method::DELETE, &format!("keys/{id}")).await?;
            said(shape, &json!({ "revoked": id }), "Revoked.")
        }
    }
}
